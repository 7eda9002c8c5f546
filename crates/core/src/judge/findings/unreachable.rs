//! `unreachable`: the zone is delegated, and none of its servers answers.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::findings::server_lame::where_listed;
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::delegation::{Delegation, Fault};
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
    let ZoneView::Unreachable { zone, tried, delegation } = &case.survey.zone else { return None };
    // Registries do not fail their customers one by one, and a network of ours
    // that carries nothing says nothing about anybody.
    if !zone.is_within(case.domain.host.registered()) || case.survey.is_cut_off() {
        return None;
    }

    let faults = delegation.as_ref().map(|delegation| &delegation.faults[..]).unwrap_or_default();
    let said: Vec<_> = tried.iter().cloned().chain(faults.iter().map(ToString::to_string)).collect();
    let is_all = !faults.iter().any(|fault| fault.fault == Fault::Unasked);
    let listed = where_listed(case.survey, zone);

    let head = match (tried.is_empty(), is_all) {
        (true, _) => format!("None of the name servers of {zone} can be found"),
        (false, true) => format!("None of the name servers of {zone} answers"),
        (false, false) => format!("None of the name servers of {zone} that were asked answers"),
    };
    Some(Diagnosis {
        remedy: format!(
            "{head}: {}. Enter the right name servers {listed}, or ask your DNS operator whether the zone still exists \
             there. {}",
            said.join("; "),
            instead(case, zone, delegation.as_ref())
        ),
        remark: format!("Tried: {}.", said.join("; ")),
        evidence: said.iter().map(|server| Sighting::new(server, "no usable answer")).collect(),
        ..Diagnosis::default()
    })
}

/// What else mends it: a zone within the customer's own domain needs no servers, once the zone above
/// hands it to none.
fn instead(case: &Case<'_>, zone: &DnsName, delegation: Option<&Delegation>) -> String {
    let inner = delegation.filter(|delegation| delegation.parent.is_within(case.domain.host.registered()));
    match inner {
        Some(delegation) => format!(
            "If {zone} needs no servers of its own, delete its NS records in the zone {}, and enter the records of the \
             sheet there.",
            delegation.parent
        ),
        None => "Change no records yet.".into(),
    }
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
