//! `unreachable`: the zone is delegated, and none of its servers answers.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Sighting, Yields};
use crate::judge::gate::GateName;
use crate::reading::survey::ZoneView;

pub(super) const ENTRY: Entry = Entry {
    code: Code::Unreachable,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The domain is registered, but no name server of its zone gives an answer.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let ZoneView::Unreachable { zone, tried } = &case.survey.zone else { return None };

    Some(Diagnosis {
        remedy: format!(
            "None of the name servers of {zone} answers. Ask your DNS operator whether the zone still \
             exists there, or enter the right name servers at your registrar. Change no records yet."
        ),
        remark: format!("Tried: {}.", tried.join("; ")),
        evidence: tried.iter().map(|server| Sighting::new(server, "no usable answer")).collect(),
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
