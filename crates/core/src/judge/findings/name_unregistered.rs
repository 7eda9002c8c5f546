//! `name-unregistered`: nobody has registered the domain.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::survey::ZoneView;

pub(super) const ENTRY: Entry = Entry {
    code: Code::NameUnregistered,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The registry knows no such domain: it is misspelt, was never registered, or has run out.",
    yields: Yields::To(&[Code::RegistrationOnHold]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let ZoneView::Unregistered { registered, registry, server } = &case.survey.zone else {
        return None;
    };
    let meant = match &case.evidence.nearest {
        Some(nearest) => format!(" {nearest} is registered: if that is meant, take it in under that name."),
        None => String::new(),
    };
    let said = format!("{registered} does not exist in {registry}");

    Some(Diagnosis {
        remedy: format!(
            "The domain {registered} is not registered. Check its spelling; if it is right, register it \
             or renew it with your registrar. Records can be added after that.{meant}"
        ),
        remark: format!("{server} answers NXDOMAIN for {registered} in the zone {registry}."),
        evidence: vec![Sighting::new(server, said)],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::evidence::Evidence;
    use crate::test;

    #[test]
    fn one_that_is_registered_and_spelt_almost_the_same_is_told() {
        let mut survey = test::survey("www.onswik.example", &[]);
        survey.zone = test::unregistered("onswik.example");
        let evidence = Evidence { nearest: Some("onswick.example".into()), ..Evidence::default() };
        let found = test::judge_by(&test::domain("www.onswik.example"), &survey, evidence);
        let meant = "onswick.example is registered: if that is meant, take it in under that name.";
        assert!(found[0].remedy.ends_with(meant), "{}", found[0].remedy);
    }

    #[test]
    fn the_registered_domain_is_named() {
        let found = test::diagnose_zone("www.onswik.example", test::unregistered("onswik.example"));
        assert_eq!(test::codes(&found), ["name-unregistered"]);
        assert!(found[0].remedy.starts_with("The domain onswik.example is not registered."));
    }
}
