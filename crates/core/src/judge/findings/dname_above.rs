//! `dname-above`: a DNAME record above the name hands everything below it to
//! another place.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::RecordData;
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::DnameAbove,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A DNAME record (RFC 6672) at a name above makes servers answer for everything below it with what \
            stands elsewhere, so records added below it in this zone are never seen.",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (gate, name) = if !case.is_owned() {
        (GateName::Ownership, &case.sheet.challenge)
    } else if !case.is_routed() {
        (GateName::Routing, &case.sheet.routed)
    } else {
        return None;
    };
    let (source, record) = case.redirected(name)?;
    let RecordData::Dname(target) = &record.data else { return None };

    let mut edits = vec![case.edit_record(EditKind::Delete, record)];
    edits.extend(case.sheet.preferred(Purpose::Ownership).map(|line| case.publish(line)));
    edits.extend(case.sheet.by(case.choice()).map(|line| case.publish(line)));

    let above = &record.owner;
    Some(Diagnosis {
        gate: Some(gate),
        remedy: format!(
            "{} The DNAME record makes every name under {above} an alias of the same name under {target}. If that is \
             to stay, publish the sheet's records there instead.",
            sentences(&edits)
        ),
        remark: format!(
            "What is read at {name} does not stand there: the server makes it of the DNAME record."
        ),
        evidence: vec![Sighting::of(source, record)],
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::reading::answer::Outcome;
    use crate::reading::record::{Record, RecordData};
    use crate::test;

    #[test]
    fn what_a_server_makes_of_a_dname_is_never_to_be_deleted() {
        let host = "www.shop.onswick.example";
        let mut survey = test::survey(host, &[]);
        for reading in &mut survey.readings {
            if !reading.name.ends_with(".shop.onswick.example") {
                continue;
            }
            let Outcome::Answer { records, .. } = &mut reading.outcome else { continue };
            let target = reading.name.replace(".shop.onswick.example", ".former.example");
            *records = vec![
                Record {
                    owner: "shop.onswick.example".into(),
                    ttl: 60,
                    data: RecordData::Dname("former.example".into()),
                },
                Record {
                    owner: reading.name.clone(),
                    ttl: 60,
                    data: RecordData::Cname(target.as_str().into()),
                },
            ];
        }

        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["dname-above"]);
        let said = &found[0].remedy;
        assert!(
            said.starts_with("Delete the DNAME record former.example at shop. Add the TXT record"),
            "{said}"
        );
    }
}
