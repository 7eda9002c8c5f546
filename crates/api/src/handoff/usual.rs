//! What is usual at the customer's DNS operator: how long it takes, and what goes wrong.

use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::learned::lessons::{Lessons, Times};
use nomenta_core::reading::record::RecordType;
use nomenta_core::sheet::line::EditorType;

use super::words::Speaker;
use super::{Beware, Said};
use crate::domain::DomainDetail;

/// Mistakes that a customer is warned of at most.
const MOST: usize = 2;
const MINUTE: u32 = 60;
const HOUR: u32 = 60 * MINUTE;
const DAY: u32 = 24 * HOUR;

/// How long a change takes at the operator, as far as that is known.
pub(super) fn times(speaker: Speaker, detail: &DomainDetail) -> Vec<Said> {
    let Some((operator, lessons)) = learned(detail) else { return Vec::new() };
    let served = lessons.served.map(|times| speaker.usual_served(operator, &span(speaker, times.median)));
    served.into_iter().chain(seen(speaker, detail)).collect()
}

/// How long most of the world takes to see it.
pub(super) fn seen(speaker: Speaker, detail: &DomainDetail) -> Option<Said> {
    let (operator, lessons) = learned(detail)?;
    let Times { median, ninetieth, .. } = lessons.seen?;
    let [usual, long] = [median, ninetieth].map(|seconds| span(speaker, seconds));
    Some(if usual == long {
        speaker.usual_seen_even(operator, &long)
    } else {
        speaker.usual_seen(operator, &usual, &long)
    })
}

/// What often goes wrong there, of what may go wrong with these edits and has not yet.
pub(super) fn beware(speaker: Speaker, platform: &str, detail: &DomainDetail, edits: &[Edit]) -> Vec<Beware> {
    let Some((_, lessons)) = learned(detail).filter(|_| !edits.is_empty()) else { return Vec::new() };
    let is_found = |code| detail.findings.iter().any(|open| open.finding.code == code);
    let codes = lessons.usual().filter(|code| !is_found(*code) && may_go_wrong(*code, detail, edits));
    codes
        .take(MOST)
        .map(|code| Beware { code, said: speaker.beware_of(code, &detail.zone, platform) })
        .collect()
}

fn learned(detail: &DomainDetail) -> Option<(&str, &Lessons)> {
    let operator = detail.operator.as_ref()?;
    Some((&operator.operator, operator.lessons.as_ref()?))
}

/// Whether a mistake can be made with these edits.
fn may_go_wrong(code: Code, detail: &DomainDetail, edits: &[Edit]) -> bool {
    let types = |types: &'static [RecordType]| {
        let wanted = move |edit: &&Edit| types.iter().any(|rtype| edit.rtype == EditorType::Of(*rtype));
        edits.iter().filter(|edit| edit.kind != EditKind::Delete).any(|edit| wanted(&edit))
    };
    match code {
        Code::CnameAtApex => detail.host == detail.zone,
        Code::CnameBesideOthers | Code::CnameChainBroken | Code::ValueDoubled => types(&[RecordType::Cname]),
        Code::AddressPartial | Code::AddressSurplus | Code::Ipv6Stray => {
            types(&[RecordType::A, RecordType::Aaaa])
        }
        Code::TokenAltered | Code::TokenMisplaced | Code::TokenSuperseded => types(&[RecordType::Txt]),
        _ => true,
    }
}

/// A time as people say it, rounded up: `20 minutes`, `3 hours`.
fn span(speaker: Speaker, seconds: u32) -> String {
    let whole = |unit: u32| usize::try_from(seconds.div_ceil(unit).max(1)).unwrap_or(usize::MAX);
    let said = match seconds {
        0..HOUR => speaker.span_minutes(whole(MINUTE)),
        HOUR..DAY => speaker.span_hours(whole(HOUR)),
        DAY.. => speaker.span_days(whole(DAY)),
    };
    said.plain()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::handoff::Language;

    #[test]
    fn times_are_rounded_up_to_what_people_say() {
        let english = Speaker(Language::English);
        for (seconds, want) in [
            (0, "a minute"),
            (61, "2 minutes"),
            (HOUR - 61, "59 minutes"),
            (HOUR, "an hour"),
            (HOUR + 1, "2 hours"),
            (DAY + 1, "2 days"),
        ] {
            assert_eq!(span(english, seconds), want);
        }
        assert_eq!(span(Speaker(Language::German), DAY), "einem Tag");
        assert_eq!(span(Speaker(Language::Arabic), 120), "دقيقتين");
    }
}
