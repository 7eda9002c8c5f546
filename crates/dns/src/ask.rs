//! A question for one server, and what came of it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use nomenta_core::reading::record::RecordType;

use crate::wire::{Mode, Reply};

/// What came of a question, and the round-trip of the try that was answered.
pub(crate) type Answered = (Got, Duration);

/// What came of asking.
#[derive(Clone, Debug)]
pub(crate) enum Got {
    Reply(Reply),
    Silence,
    NoRoute,
    Garbled(String),
}

/// One question for one server.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Ask {
    pub server: SocketAddr,
    pub name: Arc<str>,
    pub rtype: RecordType,
    pub mode: Mode,
}
