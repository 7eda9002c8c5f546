//! `unreachable`: the zone is delegated, and none of its servers answers.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;
use crate::survey::ZoneView;

pub(super) const ENTRY: Entry = Entry {
    code: "unreachable",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The domain is registered, but no name server of its zone gives an answer.",
    yields_to: &[],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let ZoneView::Unreachable { zone, tried } = &case.survey.zone else { return None };
    let sighted = |t: &String| Sighting { source: t.clone(), said: "no usable answer".into(), ttl: None };
    Some(Diagnosis {
        remedy: format!(
            "None of the name servers of {zone} answers. Ask your DNS operator whether the zone still \
             exists there, or enter the right name servers at your registrar. Change no records yet."
        ),
        remark: format!("Tried: {}.", tried.join("; ")),
        evidence: tried.iter().map(sighted).collect(),
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn silent_servers_are_listed() {
        let zone = test::unreachable("onswick.example", "ns1.harrowdns.example (127.53.9.1) does not answer");
        let found = test::diagnose_zone("www.onswick.example", zone);
        assert_eq!(test::codes(&found), ["unreachable"]);
        assert!(found[0].remark.contains("127.53.9.1"));
    }
}
