//! `cname-at-apex`: a CNAME where the zone's own records stand.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::todo;
use crate::reading::record::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CnameAtApex,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "A CNAME stands at the apex, where it hides the zone's NS, SOA and mail records (RFC 1034, \
            section 3.6.2). Some servers hand it out, and resolvers differ in what they make of it.",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if !case.sheet.apex || !case.has_alias() {
        return None;
    }

    let edits = todo::routing(case);
    Some(Diagnosis {
        remedy: format!("{} At the apex a CNAME hides mail and name server records.", sentences(&edits)),
        remark: "If the editor offers an alias for the apex, that will do as well; it publishes addresses."
            .into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn even_the_right_target_is_wrong_at_the_apex() {
        let found = test::diagnose("onswick.example", &["@ CNAME onswick.edge.quaymark.example"]);
        assert_eq!(test::codes(&found), ["cname-at-apex"]);
        assert!(found[0].remedy.starts_with(
            "Delete the CNAME record onswick.edge.quaymark.example at @. Add the A record 127.77.0.10 at @."
        ));
    }
}
