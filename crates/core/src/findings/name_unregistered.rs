//! `name-unregistered`: nobody has registered the domain.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;
use crate::survey::ZoneView;

pub(super) const ENTRY: Entry = Entry {
    code: "name-unregistered",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The registry knows no such domain: it is misspelt, was never registered, or has run out.",
    yields_to: &[],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let ZoneView::Unregistered { registered, registry, server } = &case.survey.zone else {
        return None;
    };
    let said = format!("{registered} does not exist in {registry}");
    Some(Diagnosis {
        remedy: format!(
            "The domain {registered} is not registered. Check its spelling; if it is right, register it \
             or renew it with your registrar. Records can be added after that."
        ),
        remark: format!("{server} answers NXDOMAIN for {registered} in the zone {registry}."),
        evidence: vec![Sighting { source: server.clone(), said, ttl: None }],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_registered_domain_is_named() {
        let found = test::diagnose_zone("www.onswik.example", test::unregistered("onswik.example"));
        assert_eq!(test::codes(&found), ["name-unregistered"]);
        assert!(found[0].remedy.starts_with("The domain onswik.example is not registered."));
    }
}
