//! Current beside required: the edits that lead from what the zone holds to
//! what the sheet asks for, in an order in which nothing breaks on the way.

use crate::finding::{Case, Edit, EditKind, Finding};
use crate::gate::GateName;
use crate::reading::{Record, RecordData, RecordType};
use crate::sheet::{Line, Purpose, Way};

/// Record types that may stand at the host, and that are asked for there.
pub(crate) const AT_HOST: [RecordType; 6] =
    [RecordType::A, RecordType::Aaaa, RecordType::Txt, RecordType::Mx, RecordType::Https, RecordType::Caa];

/// The customer's list: what to keep, then for each gate what to delete,
/// change and add. Empty only where nothing has to be done or kept.
pub fn list(case: &Case<'_>, findings: &[Finding]) -> Vec<Edit> {
    // Under a cut nothing can be said about the zone above it until it is gone.
    if let Some(cut) = findings.iter().find(|f| f.code == "delegated-away") {
        return cut.edits.clone();
    }
    let mut list: Vec<(GateName, Edit)> = Vec::new();
    let mut push = |gate, edits: Vec<Edit>| {
        for edit in edits {
            let same = |e: &&mut (GateName, Edit)| e.1.is_about(&edit);
            match list.iter_mut().find(same) {
                // What one part would keep, another may have reason to delete.
                Some(known) if known.1.kind == EditKind::Keep => known.1 = edit,
                Some(_) => {}
                None => list.push((gate, edit)),
            }
        }
    };
    push(GateName::Ownership, ownership(case));
    // Behind a proxy the records themselves are right, as far as can be seen.
    if !findings.iter().any(|f| f.code == "fronted") {
        push(GateName::Routing, routing(case));
    }
    push(GateName::Certificate, certificate(case));
    for finding in findings {
        push(finding.gate, finding.edits.clone());
    }
    push(GateName::Routing, mail(case));
    list.sort_by_key(|(gate, edit)| (edit.kind != EditKind::Keep, *gate, edit.kind.order()));
    list.into_iter().map(|(_, edit)| edit).collect()
}

/// What brings the token to its place; empty once it is there in any way.
fn ownership(case: &Case<'_>) -> Vec<Edit> {
    if case.survey.apex().is_none() || case.owned() {
        return Vec::new();
    }
    let challenge = &case.sheet.challenge;
    let Some(line) = case.sheet.preferred(Purpose::Ownership).next() else { return Vec::new() };
    let held: Vec<_> = case
        .survey
        .held(challenge, RecordType::Txt)
        .filter(|(source, _)| !case.from_wildcard(source, challenge))
        .collect();
    let mut edits: Vec<Edit> = held
        .iter()
        .filter(|(_, record)| matches!(record.data, RecordData::Cname(_)))
        .map(|(_, record)| case.edit_record(EditKind::Delete, record))
        .collect();
    let altered = held.iter().find(|(_, record)| matches!(record.data, RecordData::Txt(_)));
    edits.push(match altered {
        Some((_, record)) => case.change(record, line),
        None => case.publish(line),
    });
    edits
}

/// What leads the CA's question for a TXT record to the platform, where that is
/// needed; empty once it is there.
fn certificate(case: &Case<'_>) -> Vec<Edit> {
    let Some(line) = case.sheet.by(Way::AcmeCname).next() else { return Vec::new() };
    if case.survey.apex().is_none() {
        return Vec::new();
    }
    let held: Vec<_> = case.survey.held(&line.owner, RecordType::Txt).map(|(_, record)| record).collect();
    if held.iter().any(|record| line.is_met_by(&record.data)) {
        return Vec::new();
    }
    let alias = held.iter().find(|record| matches!(record.data, RecordData::Cname(_)));
    let delete = held.iter().filter(|record| !matches!(record.data, RecordData::Cname(_)));
    let mut edits: Vec<_> = delete.map(|record| case.edit_record(EditKind::Delete, record)).collect();
    edits.push(alias.map_or_else(|| case.publish(line), |record| case.change(record, line)));
    edits
}

/// What brings visitors to the platform: for each record at the host whether
/// to keep, change or delete it, and what to add.
pub fn routing(case: &Case<'_>) -> Vec<Edit> {
    if case.survey.apex().is_none() {
        return Vec::new();
    }
    let held = held_at_host(case);
    let met = case.routed();
    let way = case.way();
    let wanted: Vec<&Line> = case.sheet.by(way).collect();
    let alone = way == Way::Cname;
    let mut edits = Vec::new();
    let mut missing = wanted.clone();
    for record in &held {
        let line = wanted.iter().find(|l| l.is_met_by(&record.data));
        missing.retain(|l| !l.is_met_by(&record.data));
        edits.extend(fate(case, record, line.is_some(), met, alone));
    }
    if met {
        return edits;
    }
    // A CNAME that points elsewhere is changed in its place.
    let old = edits.iter().position(|e| e.kind == EditKind::Delete && e.rtype == "CNAME");
    if let (true, Some(index), Some(line)) = (alone, old, missing.first()) {
        edits[index] = Edit { was: Some(edits[index].value.clone()), ..case.publish(line) };
        edits[index].kind = EditKind::Change;
        missing.clear();
    }
    edits.extend(missing.into_iter().map(|line| case.publish(line)));
    edits
}

/// What becomes of one record at the host.
fn fate(case: &Case<'_>, record: &Record, wanted: bool, met: bool, alone: bool) -> Option<Edit> {
    let edit = |kind| Some(case.edit_record(kind, record));
    match record.data {
        _ if wanted => edit(EditKind::Keep),
        // Nothing stands beside a CNAME (RFC 1034, section 3.6.2).
        RecordData::Txt(_) | RecordData::Mx { .. } | RecordData::Https { .. } | RecordData::Caa { .. }
            if alone =>
        {
            edit(EditKind::Delete)
        }
        RecordData::Https { .. } => {
            edit(if case.is_stray_binding(record) { EditKind::Delete } else { EditKind::Keep })
        }
        RecordData::A(_) | RecordData::Aaaa(_) | RecordData::Cname(_) if !met => edit(EditKind::Delete),
        _ => None,
    }
}

fn held_at_host<'a>(case: &'a Case<'_>) -> Vec<&'a Record> {
    let routed = &case.sheet.routed;
    let mut held: Vec<&Record> = Vec::new();
    for rtype in AT_HOST {
        for (source, record) in case.survey.held(routed, rtype) {
            let known = held.iter().any(|r| r.data == record.data);
            if !known && !case.from_wildcard(source, routed) {
                held.push(record);
            }
        }
    }
    held
}

/// Mail records of zone and host, which always stay.
fn mail(case: &Case<'_>) -> Vec<Edit> {
    let (zone, routed) = (case.sheet.zone.as_str(), case.sheet.routed.as_str());
    let mut names = vec![zone];
    names.extend((routed != zone).then_some(routed));
    let mut edits = Vec::new();
    for name in names {
        let stays = |(source, r): &(&_, &Record)| {
            matches!(r.data, RecordData::Mx { .. }) && !case.from_wildcard(source, name)
        };
        let kept = case.survey.held(name, RecordType::Mx).filter(stays);
        edits.extend(kept.map(|(_, r)| case.edit_record(EditKind::Keep, r)));
    }
    edits
}

#[cfg(test)]
mod tests {
    use crate::finding::{EditKind, sentences};
    use crate::test;

    const SUB: &str = "timetable.onswick.example";

    fn told(host: &str, lines: &[&str]) -> String {
        sentences(&test::todo(host, lines)).replace(test::token().txt_value().as_str(), "TOKEN")
    }

    #[test]
    fn an_empty_zone_gets_the_preferred_choice() {
        assert_eq!(
            told(SUB, &[]),
            "Add the TXT record TOKEN at _quaymark-challenge.timetable. \
             Add the CNAME record onswick.edge.quaymark.example at timetable."
        );
    }

    #[test]
    fn what_is_in_the_way_goes_before_the_cname_comes_and_mail_stays() {
        let token = format!("_quaymark-challenge.timetable TXT {}", test::token().txt_value());
        let zone =
            [token.as_str(), "timetable A 192.0.2.7", "timetable TXT hello", "@ MX 10 mx.onswick.example"];
        assert_eq!(
            told(SUB, &zone),
            "Keep the MX record 10 mx.onswick.example at @. \
             Delete the A record 192.0.2.7 at timetable. Delete the TXT record \"hello\" at timetable. \
             Add the CNAME record onswick.edge.quaymark.example at timetable."
        );
    }

    #[test]
    fn a_host_that_takes_mail_gets_the_addresses_and_keeps_its_mail() {
        let told = told(SUB, &["timetable MX 10 mx.onswick.example", "timetable A 192.0.2.7"]);
        assert!(told.starts_with("Keep the MX record 10 mx.onswick.example at timetable."), "{told}");
        assert!(
            told.contains("Delete the A record 192.0.2.7 at timetable. Add the A record 127.77.0.10"),
            "{told}"
        );
        assert!(!told.contains("CNAME"), "{told}");
    }

    #[test]
    fn a_foreign_cname_is_changed_in_its_place() {
        let told = told(SUB, &["timetable CNAME shop.harrowhost.example"]);
        assert!(
            told.ends_with("Change the CNAME record at timetable to onswick.edge.quaymark.example."),
            "{told}"
        );
    }

    #[test]
    fn a_finished_zone_has_only_things_to_keep() {
        for host in [SUB, "onswick.example"] {
            let edits = test::todo(host, &test::healthy(host));
            assert!(edits.iter().all(|e| e.kind == crate::finding::EditKind::Keep), "{edits:?}");
        }
    }

    #[test]
    fn a_wildcard_needs_the_delegation_of_its_challenge_too() {
        let mut domain = test::domain("timetable.onswick.example");
        domain.wildcard = true;
        let at = |lines: &[&str]| {
            let edits = test::todo_of(&domain, &test::survey_of(&domain, lines));
            let wanted = edits.into_iter().filter(|e| e.owner.starts_with("_acme-challenge"));
            wanted.map(|e| (e.kind, e.value)).collect::<Vec<_>>()
        };
        let target = "timetable.onswick.example.acme.quaymark.example".to_owned();
        assert_eq!(at(&[]), [(EditKind::Add, target.clone())]);
        assert_eq!(
            at(&["_acme-challenge.timetable CNAME old.harrowhost.example"]),
            [(EditKind::Change, target.clone())]
        );
        let right = format!("_acme-challenge.timetable CNAME {target}");
        assert_eq!(at(&[&right]), []);
    }
}
