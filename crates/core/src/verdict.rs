//! A sheet line against what one source reads.

use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use crate::ingress::Ingress;
use crate::reading::{Reading, RecordType, Source};
use crate::sheet::{Line, Purpose, Sheet};
use crate::survey::{HostView, Survey};

/// How a reading compares with what is expected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Verdict {
    /// Exactly what is expected.
    Match,
    /// Nothing is there.
    Absent,
    /// Some of what is expected, or more than that.
    Partial,
    /// Something else is there.
    Differs,
    /// No usable answer.
    Unreadable,
}

/// One cell of the table "expected beside read".
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cell {
    /// Who was asked.
    pub source: Source,
    /// How it compares.
    pub verdict: Verdict,
    /// What was read, as zone files write values; or why nothing was.
    pub read: Vec<String>,
    /// The shortest TTL left among them, in seconds.
    pub ttl: Option<u32>,
}

/// Judges `line` at every source that was asked for its name and type.
///
/// A CNAME shows in answers about addresses, so those are what it is held
/// against.
pub fn judge(sheet: &Sheet, line: &Line, survey: &Survey) -> Vec<Cell> {
    let asked = if line.rtype == RecordType::Cname { RecordType::A } else { line.rtype };
    survey.of(&line.owner, asked).map(|reading| judge_one(sheet, line, reading)).collect()
}

fn judge_one(sheet: &Sheet, line: &Line, reading: &Reading) -> Cell {
    let source = reading.source.clone();
    let Some(answer) = reading.answer() else {
        let read = reading.failure().into_iter().collect();
        return Cell { source, verdict: Verdict::Unreadable, read, ttl: None };
    };
    // A vantage's chain ends in addresses of the canonical host; only what the
    // customer published at the owner counts here.
    let own: Vec<_> = answer.iter().filter(|r| r.owner == line.owner).collect();
    let met = own.iter().any(|r| line.is_met_by(&r.data));
    let expected = |r: &&&crate::reading::Record| sheet.of(line.purpose).any(|l| l.is_met_by(&r.data));
    let strangers = own.len() - own.iter().filter(expected).count();
    let verdict = match (met, strangers) {
        (true, 0) => Verdict::Match,
        (true, _) if line.purpose == Purpose::Ownership => Verdict::Match,
        (true, _) => Verdict::Partial,
        (false, 0) => Verdict::Absent,
        (false, _) => Verdict::Differs,
    };
    let read = own.iter().map(|r| format!("{} {}", r.data.type_name(), r.data)).collect();
    Cell { source, verdict, read, ttl: own.iter().map(|r| r.ttl).min() }
}

/// Judges one source's view of the host against one choice of routing met
/// exactly: the CNAME, or all addresses and no others.
pub fn routing(view: Option<&HostView>, sheet: &Sheet, ingress: &Ingress) -> Verdict {
    let Some(view) = view else { return Verdict::Unreadable };
    if let Some(target) = &view.cname {
        return if *target == sheet.canonical { Verdict::Match } else { Verdict::Differs };
    }
    let (found, ours) = (view.ipv4.len() + view.ipv6.len(), shared(view, ingress));
    if found == 0 {
        Verdict::Absent
    } else if view.ipv4 == ingress.ipv4 && view.ipv6 == ingress.ipv6 {
        Verdict::Match
    } else if ours == 0 {
        Verdict::Differs
    } else {
        Verdict::Partial
    }
}

fn shared(view: &HostView, ingress: &Ingress) -> usize {
    view.ipv4.intersection(&ingress.ipv4).count() + view.ipv6.intersection(&ingress.ipv6).count()
}

/// The addresses of a host view sorted by whose they are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AddressSplit {
    /// Ours, published.
    pub ours_v4: BTreeSet<Ipv4Addr>,
    /// Not ours.
    pub foreign_v4: BTreeSet<Ipv4Addr>,
    /// Ours, not published.
    pub missing_v4: BTreeSet<Ipv4Addr>,
    /// Ours, published.
    pub ours_v6: BTreeSet<Ipv6Addr>,
    /// Not ours.
    pub foreign_v6: BTreeSet<Ipv6Addr>,
    /// Ours, not published.
    pub missing_v6: BTreeSet<Ipv6Addr>,
}

impl AddressSplit {
    /// Sorts what `view` holds.
    pub fn of(view: &HostView, ingress: &Ingress) -> Self {
        Self {
            ours_v4: &view.ipv4 & &ingress.ipv4,
            foreign_v4: &view.ipv4 - &ingress.ipv4,
            missing_v4: &ingress.ipv4 - &view.ipv4,
            ours_v6: &view.ipv6 & &ingress.ipv6,
            foreign_v6: &view.ipv6 - &ingress.ipv6,
            missing_v6: &ingress.ipv6 - &view.ipv6,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    #[test]
    fn routing_is_met_by_one_choice_exactly() {
        let (sheet, ingress) = (test::sheet("onswick.example"), test::ingress());
        for (v4, v6, want) in [
            (&["127.77.0.10", "127.77.0.11"][..], &["::1"][..], Verdict::Match),
            (&["127.77.0.11", "127.77.0.10"], &["0:0:0:0:0:0:0:1"], Verdict::Match),
            (&["127.77.0.10"], &["::1"], Verdict::Partial),
            (&["127.77.0.10", "127.77.0.11", "192.0.2.7"], &["::1"], Verdict::Partial),
            (&["192.0.2.7"], &[], Verdict::Differs),
            (&[], &[], Verdict::Absent),
        ] {
            let view = test::view(v4, v6);
            assert_eq!(routing(Some(&view), &sheet, &ingress), want, "{v4:?} {v6:?}");
        }
        assert_eq!(routing(None, &sheet, &ingress), Verdict::Unreadable);
    }

    #[test]
    fn each_line_is_judged_at_each_source() {
        let survey = test::survey("onswick.example", &["@ A 127.77.0.10", "@ A 192.0.2.7"]);
        let sheet = test::sheet("onswick.example");
        let verdicts: Vec<_> =
            sheet.lines.iter().map(|line| judge(&sheet, line, &survey)[0].verdict).collect();
        use Verdict::{Absent, Differs, Partial};
        assert_eq!(verdicts, [Absent, Partial, Differs, Absent]);
    }
}
