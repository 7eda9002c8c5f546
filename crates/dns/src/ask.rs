//! A question for one server, and what came of it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use nomenta_core::reading::cut::Limit;
use nomenta_core::reading::record::RecordType;

use crate::wire::{Extent, Mode, Reply};

/// What came of a question, and the round-trip of the try that was answered.
pub(crate) type Answered = (Got, Duration);

/// What came of asking.
#[derive(Clone, Debug)]
pub(crate) enum Got {
    Reply(Reply),
    Silence,
    NoRoute,
    Garbled(String),
    /// It did not come before there was no more time.
    Late,
    /// It does not fit a packet, and is not to be had by TCP.
    Short(String),
    /// It was not fetched: the look had used up what it may.
    Unread(Limit),
}

/// One question for one server.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Ask {
    pub server: SocketAddr,
    pub name: Arc<str>,
    pub rtype: RecordType,
    pub mode: Mode,
    /// What the server can bear, as far as is known.
    pub extent: Extent,
    /// Whether the name goes in small letters: some servers know no others.
    pub lower: bool,
    /// Whether it is one of a sweep's, which let those of single looks go first.
    pub is_swept: bool,
}

impl Ask {
    pub(crate) fn new(server: SocketAddr, name: &str, rtype: RecordType, mode: Mode) -> Self {
        Self {
            server,
            name: name.into(),
            rtype,
            mode,
            extent: Extent::default(),
            lower: false,
            is_swept: false,
        }
    }
}
