//! `inside-held-name`: the name lies inside one that another account holds.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::InsideHeldName,
    severity: Severity::Note,
    gate: GateName::Ownership,
    about: "The name lies under one that another account holds, or under its wildcard. It is proved by a token \
            of its own, so nothing is wrong; but two accounts share a zone, which may be worth asking about.",
    yields: Yields::To(&[]),
    detect,
};

/// Said once the claim is proved: before that, it would tell who asks what others
/// have. While the name itself is contested, that is what matters.
fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let ties = &case.domain.ties;
    let is_told = case.is_owned() && ties.standing.contest().is_none();
    let held = ties.inside.as_ref().filter(|_| is_told)?;
    let host = &case.domain.host;
    Some(Diagnosis {
        remedy: format!("Keep the records of {host}. The name around it is in use on this platform too."),
        remark: format!("{held} is held by another account; {host} lies inside it."),
        evidence: vec![Sighting::new("the claims around it", format!("{held} is held"))],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::domain::{Domain, Ties};
    use crate::test;

    #[test]
    fn it_is_said_of_a_proved_claim_alone() {
        let host = "timetable.onswick.example";
        let ties = Ties { inside: Some("onswick.example".into()), ..Ties::default() };
        let domain = Domain { ties, ..test::domain(host) };
        let proved = test::judge(&domain, &test::survey(host, &test::healthy(host)));
        assert_eq!(test::codes(&proved), ["inside-held-name"]);
        assert!(proved[0].remark.starts_with("onswick.example is held by another account"));
        assert_eq!(test::judge(&domain, &test::survey(host, &[])), []);
    }
}
