//! The CAA set that counts for a host: found by climbing, as a CA does (RFC 8659,
//! section 3).

use crate::name::dns;
use crate::reading::answer::Reading;
use crate::reading::record::{Record, RecordType};
use crate::reading::survey::Survey;

impl Survey {
    /// What a CA would find for the host (RFC 8659, section 3): the closest
    /// non-empty set, climbing. A name on the way that nobody answers for ends
    /// the climb, since a set may stand there.
    pub fn caa(&self) -> CaaView<'_> {
        for name in dns::climb(self.host.as_str()) {
            match self.caa_at(name) {
                CaaAt::Unasked => {}
                CaaAt::Set(records) if records.is_empty() => {}
                CaaAt::Set(records) => return CaaView::Set { owner: name, records },
                CaaAt::Unread { why, theirs } => return CaaView::Unread { owner: name, why, theirs },
            }
        }
        CaaView::None
    }

    /// The set that [`caa`](Self::caa) finds, and the name it stands at.
    pub fn relevant_caa(&self) -> Option<(&str, Vec<&Record>)> {
        match self.caa() {
            CaaView::Set { owner, records } => Some((owner, records)),
            CaaView::None | CaaView::Unread { .. } => None,
        }
    }

    /// The authority's own word where it gives one, else a vantage's, which
    /// has followed an alias to its end. A CA has a resolver with nothing in its
    /// memory: what none of the zone's servers answers, it does not get.
    fn caa_at<'a>(&'a self, name: &'a str) -> CaaAt<'a> {
        let readings: Vec<_> = self.of(name, RecordType::Caa).collect();
        let (own, vantages): (Vec<_>, Vec<_>) = readings.into_iter().partition(|r| r.source.is_authority());
        if own.is_empty() && vantages.is_empty() {
            return CaaAt::Unasked;
        }

        let tried: Vec<_> = own.iter().filter(|reading| reading.is_theirs()).collect();
        let served: Vec<_> = tried.iter().filter(|r| r.answer().is_some() && !r.is_lame()).collect();
        if let (Some(failed), true) = (tried.first(), served.is_empty()) {
            return CaaAt::unread(failed);
        }

        let (seen, failed): (Vec<&Reading>, Vec<&Reading>) =
            vantages.iter().filter(|reading| reading.is_theirs()).partition(|r| r.answer().is_some());
        if failed.len() > seen.len() {
            return CaaAt::unread(failed[0]);
        }

        let direct = served.into_iter().find(|reading| !reading.is_alias()).map(|reading| **reading);
        match direct.or_else(|| seen.first().copied()) {
            Some(reading) => CaaAt::Set(reading.caa()),
            // Where an alias leads is for a resolver to say, if there is one.
            None if vantages.is_empty() => CaaAt::Unasked,
            None => CaaAt::Unread { why: "no vantage answers".into(), theirs: false },
        }
    }
}

/// The CAA set that counts for a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CaaView<'a> {
    /// It stands here.
    Set {
        /// The name.
        owner: &'a str,
        /// The set.
        records: Vec<&'a Record>,
    },
    /// There is none.
    None,
    /// It cannot be told whether there is one.
    Unread {
        /// The name that nobody answers for.
        owner: &'a str,
        /// What came instead, in words that follow a source.
        why: String,
        /// Whether a CA would fare no better.
        theirs: bool,
    },
}

/// What is known of the CAA set at one name.
enum CaaAt<'a> {
    Unasked,
    Set(Vec<&'a Record>),
    Unread { why: String, theirs: bool },
}

impl CaaAt<'_> {
    fn unread(reading: &Reading) -> Self {
        let failure = reading.failure().unwrap_or_else(|| "answers without authority".into());
        Self::Unread { why: format!("{} {failure}", reading.source), theirs: true }
    }
}
