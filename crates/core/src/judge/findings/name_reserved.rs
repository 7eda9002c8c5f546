//! `name-reserved`: the platform takes no claim of this name, or no longer.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::subject::Subject;

pub(super) const ENTRY: Entry = Entry {
    code: Code::NameReserved,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The name is the platform's own, is reserved by its configuration, or lies where nobody registers \
            names, so no claim of it is taken.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let refused = Subject::parse_for(&case.domain.subject().to_string(), case.platform).err()?;
    Some(Diagnosis {
        remedy: refused.to_string(),
        remark: "The domain was taken in before the name was reserved; release it, or allow the name again."
            .into(),
        evidence: vec![Sighting::new("the configuration", refused.code().as_str())],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn a_name_that_was_reserved_later_goes_no_further() {
        let host = "timetable.quaymark.example";
        let found = test::judge(&test::domain(host), &test::survey(host, &[]));
        assert_eq!(test::codes(&found)[..1], ["name-reserved"]);
        assert!(found[0].remedy.contains("belongs to the platform"), "{}", found[0].remedy);
    }
}
