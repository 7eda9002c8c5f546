//! Current beside required: the edits that lead from what the zone holds to
//! what the sheet asks for, in an order in which nothing breaks on the way.

use std::collections::{HashMap, HashSet};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{About, Edit, EditKind};
use crate::judge::finding::Finding;
use crate::judge::findings::{server_lame, servers_disagree};
use crate::judge::gate::GateName;
use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::survey::{Survey, ZoneView};
use crate::sheet::line::{Choice, EditorType, Line, Purpose};

/// Record types that may stand at the host, and that are asked for there.
pub(crate) const AT_HOST: [RecordType; 6] =
    [RecordType::A, RecordType::Aaaa, RecordType::Txt, RecordType::Mx, RecordType::Https, RecordType::Caa];

/// The customer's list: what to keep, then for each gate what to delete,
/// change and add. Empty only where nothing has to be done or kept.
pub fn list(case: &Case<'_>, findings: &[Finding]) -> Vec<Edit> {
    if let Some(cut) = findings.iter().find(|f| f.code == Code::DelegatedAway) {
        return [cut.edits.clone(), above_cut(case)].concat();
    }

    // What they say without authority may be right, and is no zone to be edited.
    if server_lame::is_without_authority(case) {
        return Vec::new();
    }

    let mut list = List::default();
    list.add(GateName::Ownership, ownership(case));
    // Behind a proxy the records themselves are right, as far as can be seen; and what is handed out
    // by turns is no record that could be edited.
    if !findings.iter().any(|f| matches!(f.code, Code::Fronted | Code::AnswersVary)) {
        list.add(GateName::Routing, routing(case));
    }
    list.add(GateName::Certificate, certificate(case));
    for finding in findings {
        list.add(finding.gate, finding.edits.clone());
    }
    list.add(GateName::Routing, mail(case));
    // What some servers have is under way to the others.
    if let Some(gate) = servers_disagree::is_under_way(case) {
        list.edits.retain(|(of, edit)| *of != gate || edit.kind == EditKind::Keep);
    }
    list.hold_to(case);
    list.in_order()
}

/// What the zone above a cut must have once the cut is gone. What it has already
/// is hidden until then, so all of it is asked for.
fn above_cut(case: &Case<'_>) -> Vec<Edit> {
    let Some(delegation) = case.survey.delegation() else { return Vec::new() };
    let zone = ZoneView::Found { apex: delegation.parent.clone(), servers: Vec::new(), delegation: None };
    let hidden = Survey { zone, readings: Vec::new(), ..case.survey.clone() };

    let above = Case::new(case.domain, case.platform, &hidden, case.evidence, case.policy, case.now);
    [ownership(&above), routing(&above)].concat()
}

/// Edits, each with the gate that it is for. Thousands may stand at one name.
#[derive(Default)]
struct List {
    edits: Vec<(GateName, Edit)>,
    /// Where the edit of each record is.
    places: HashMap<About, usize>,
}

impl List {
    /// Adds edits of records that are not on it yet.
    fn add(&mut self, gate: GateName, edits: Vec<Edit>) {
        for edit in edits {
            let place = *self.places.entry(edit.about()).or_insert(self.edits.len());
            match self.edits.get_mut(place) {
                // What one part would keep, another may have reason to delete.
                Some((_, known)) if known.kind == EditKind::Keep => *known = edit,
                Some(_) => {}
                None => self.edits.push((gate, edit)),
            }
        }
    }

    /// Leaves only what can be done: nothing outside the customer's zone, no change of a record that
    /// does not stand there, and nothing twice in two ways.
    fn hold_to(&mut self, case: &Case<'_>) {
        let standing = Standing::of(case);
        self.edits.retain(|(_, edit)| edit.owner.is_within(&case.sheet.zone));
        for (_, edit) in &mut self.edits {
            if edit.kind == EditKind::Change && standing.lacks(edit) {
                *edit = Edit { kind: EditKind::Add, was: None, ..edit.clone() };
            }
        }
        self.edits.retain(|(_, edit)| edit.kind == EditKind::Add || !standing.lacks(edit));

        let kept: HashSet<_> = self.results_of(&[EditKind::Keep, EditKind::Change]).collect();
        let added: HashSet<_> = self.results_of(&[EditKind::Add]).collect();
        let deleted: HashSet<_> = self.results_of(&[EditKind::Delete]).collect();
        for (_, edit) in &mut self.edits {
            // What would go and come again may as well stay.
            if edit.kind == EditKind::Delete && added.contains(&result(edit)) {
                edit.kind = EditKind::Keep;
            }
        }
        self.edits.retain(|(_, edit)| {
            let is_there = kept.contains(&result(edit)) || deleted.contains(&result(edit));
            edit.kind != EditKind::Add || !is_there
        });
    }

    fn results_of(&self, kinds: &[EditKind]) -> impl Iterator<Item = (DnsName, EditorType, String)> {
        self.edits.iter().filter(move |(_, edit)| kinds.contains(&edit.kind)).map(|(_, edit)| result(edit))
    }

    /// What to keep first, then gate by gate what is in the way before what
    /// needs the place.
    fn in_order(mut self) -> Vec<Edit> {
        self.edits.sort_by_key(|(gate, edit)| (edit.kind != EditKind::Keep, *gate, edit.kind.order()));
        self.edits.into_iter().map(|(_, edit)| edit).collect()
    }
}

/// The record that an edit leaves behind, or takes away.
fn result(edit: &Edit) -> (DnsName, EditorType, String) {
    (edit.owner.clone(), edit.rtype.clone(), edit.value.clone())
}

/// The records that the zone's servers hold, as the editor shows them.
struct Standing {
    asked: HashSet<DnsName>,
    records: HashSet<(DnsName, EditorType, String)>,
}

impl Standing {
    fn of(case: &Case<'_>) -> Self {
        let own = case.survey.readings.iter().filter(|r| r.source.is_authority() && r.answer().is_some());
        let mut standing = Self { asked: HashSet::new(), records: HashSet::new() };
        for reading in own {
            standing.asked.insert(reading.name.clone());
            for record in reading.answer().unwrap_or_default() {
                let rtype = EditorType::of(&record.data);
                standing.records.insert((record.owner.clone(), rtype, case.sheet.value_field(&record.data)));
            }
        }
        standing
    }

    /// Whether an edit is of a record that was looked for, and is not there.
    fn lacks(&self, edit: &Edit) -> bool {
        let record = (edit.owner.clone(), edit.rtype.clone(), edit.value_now().to_owned());
        self.asked.contains(&edit.owner) && !self.records.contains(&record)
    }
}

/// What brings the token to its place; empty once it is there in any way.
fn ownership(case: &Case<'_>) -> Vec<Edit> {
    if case.survey.apex().is_none() || case.is_owned() {
        return Vec::new();
    }
    let Some(line) = case.sheet.preferred(Purpose::Ownership).next() else { return Vec::new() };

    let held: Vec<_> = case.own(&case.sheet.challenge, RecordType::Txt).map(|(_, r)| r).collect();
    let aliases = held.iter().filter(|record| matches!(record.data, RecordData::Cname(_)));
    let mut edits: Vec<_> = aliases.map(|record| case.edit_record(EditKind::Delete, record)).collect();

    let mut texts = held.iter().filter(|record| matches!(record.data, RecordData::Txt(_)));
    let altered = texts.find(|record| !case.is_of_others(record));
    edits.push(match altered {
        Some(record) => case.change(record, line),
        None => case.publish(line),
    });
    edits
}

/// What leads the CA's question for a TXT record to the platform, where that is
/// needed; empty once it is there.
fn certificate(case: &Case<'_>) -> Vec<Edit> {
    let Some(line) = case.sheet.by(Choice::AcmeCname).next() else { return Vec::new() };
    if case.survey.apex().is_none() {
        return Vec::new();
    }

    // What a wildcard makes of the name is no record to change.
    let held: Vec<_> = case.own(&line.owner, RecordType::Txt).map(|(_, record)| record).collect();
    if held.iter().any(|record| line.is_met_by(&record.data)) {
        return Vec::new();
    }

    let others = held.iter().filter(|record| !matches!(record.data, RecordData::Cname(_)));
    let mut edits: Vec<_> = others.map(|record| case.edit_record(EditKind::Delete, record)).collect();
    let alias = held.iter().find(|record| matches!(record.data, RecordData::Cname(_)));
    edits.push(match alias {
        Some(record) => case.change(record, line),
        None => case.publish(line),
    });
    edits
}

/// What brings visitors to the platform: for each record at the host whether
/// to keep, change or delete it, and what to add.
pub fn routing(case: &Case<'_>) -> Vec<Edit> {
    if case.survey.apex().is_none() {
        return Vec::new();
    }

    let held = held_at_host(case);
    let choice = case.choice();
    let wanted: Vec<&Line> = case.sheet.by(choice).collect();
    let mut edits: Vec<Edit> = held
        .iter()
        .filter_map(|record| Some(case.edit_record(fate(case, record, &wanted, choice)?, record)))
        .collect();
    if case.is_routed() {
        return edits;
    }

    let mut missing = wanted;
    missing.retain(|line| !held.iter().any(|record| line.is_met_by(&record.data)));

    // A CNAME that points elsewhere is changed in its place.
    let old =
        edits.iter_mut().find(|e| e.kind == EditKind::Delete && e.rtype == EditorType::Of(RecordType::Cname));
    if let (Choice::Cname, Some(old), Some(line)) = (choice, old, missing.first()) {
        let was = Some(old.value.clone());
        *old = Edit { was, kind: EditKind::Change, ..case.publish(line) };
        missing.clear();
    }
    edits.extend(missing.into_iter().map(|line| case.publish(line)));
    edits
}

/// What becomes of one record at the host; `None` if it is nobody's business.
fn fate(case: &Case<'_>, record: &Record, wanted: &[&Line], choice: Choice) -> Option<EditKind> {
    if wanted.iter().any(|line| line.is_met_by(&record.data)) {
        return Some(EditKind::Keep);
    }

    match record.data {
        // Nothing stands beside a CNAME (RFC 1034, section 3.6.2).
        RecordData::Txt(_) | RecordData::Mx { .. } | RecordData::Https { .. } | RecordData::Caa { .. }
            if choice == Choice::Cname =>
        {
            Some(EditKind::Delete)
        }
        RecordData::Https { .. } if case.is_stray_binding(record) => Some(EditKind::Delete),
        RecordData::Https { .. } => Some(EditKind::Keep),
        RecordData::A(_) | RecordData::Aaaa(_) | RecordData::Cname(_) if !case.is_routed() => {
            Some(EditKind::Delete)
        }
        _ => None,
    }
}

fn held_at_host<'a>(case: &'a Case<'_>) -> Vec<&'a Record> {
    let mut held: Vec<&Record> = Vec::new();
    let mut known = HashSet::new();
    for rtype in AT_HOST {
        for (_, record) in case.own(&case.sheet.routed, rtype) {
            // An alias shows in the answers for every type, and is judged by those about addresses,
            // which tell whether a wildcard makes it.
            let is_address = matches!(rtype, RecordType::A | RecordType::Aaaa);
            let is_alias = matches!(record.data, RecordData::Cname(_));
            if (is_address || !is_alias) && known.insert(&record.data) {
                held.push(record);
            }
        }
    }
    held
}

/// Mail records of zone and host, which always stay.
fn mail(case: &Case<'_>) -> Vec<Edit> {
    let mut names = vec![&case.sheet.zone];
    if case.sheet.routed != *case.sheet.zone {
        names.push(&case.sheet.routed);
    }

    let mut edits = Vec::new();
    for name in names {
        let kept = case.own(name, RecordType::Mx).filter(|(_, r)| matches!(r.data, RecordData::Mx { .. }));
        edits.extend(kept.map(|(_, record)| case.edit_record(EditKind::Keep, record)));
    }
    edits
}

#[cfg(test)]
mod tests {
    use crate::judge::edit::{EditKind, sentences};
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
    fn what_a_wildcard_makes_at_the_host_is_not_kept_there() {
        let wild = ["* CNAME onswick.edge.quaymark.example"];
        let list = test::todo(SUB, &wild);
        let at_host: Vec<_> = list.iter().filter(|edit| edit.owner == SUB).map(|edit| edit.kind).collect();
        assert!(!at_host.contains(&EditKind::Keep), "{list:?}");
    }

    #[test]
    fn while_servers_copy_from_each_other_there_is_nothing_to_change() {
        let mut survey = test::survey(SUB, &test::healthy(SUB));
        test::second(&mut survey, &["@ SOA 6", "@ NS ns1.harrowdns.example"]);
        let list = test::todo_of(&test::domain(SUB), &survey);
        assert!(!list.iter().any(|edit| edit.owner.starts_with("_quaymark")), "{list:?}");
    }

    #[test]
    fn nothing_is_added_and_kept_and_nothing_is_changed_that_does_not_stand_there() {
        let zones: [&[&str]; 7] = [
            &["@ A 127.77.0.10", "@ A 192.0.2.7", "@ AAAA ::1"],
            &["@ A 192.0.2.7", "@ AAAA 2001:db8::7", "@ MX 10 mx.onswick.example"],
            &["_quaymark-challenge TXT token=u6t2pj5hu6", "@ A 127.77.0.10"],
            &["_quaymark-challenge CNAME other.harrowhost.example", "@ CNAME sites.formerhost.example"],
            &["* A 192.0.2.7", "* TXT hello"],
            &["timetable CNAME www.onswick.example", "www CNAME sites.formerhost.example"],
            &[
                "timetable TXT hello",
                "timetable CAA issue ;",
                "timetable A 127.77.0.11",
                "timetable AAAA ::1",
            ],
        ];
        for (host, zone) in zones.iter().flat_map(|zone| [("onswick.example", zone), (SUB, zone)]) {
            let list = test::todo(host, zone);
            let records: Vec<_> = zone.iter().map(|line| test::record(line)).collect();
            for edit in &list {
                let is_kept = list.iter().any(|other| {
                    let is_same = other.owner == edit.owner && other.rtype == edit.rtype;
                    is_same && other.kind == EditKind::Keep && other.value == edit.value
                });
                assert!(edit.kind != EditKind::Add || !is_kept, "{host} {zone:?}: {edit:?} in {list:?}");
                assert!(edit.owner.is_within("onswick.example"), "{host} {zone:?}: {edit:?}");
                let stands = records.iter().any(|record| record.owner == edit.owner);
                assert!(edit.kind == EditKind::Add || stands, "{host} {zone:?}: {edit:?}");
            }
        }
    }

    #[test]
    fn a_finished_zone_has_only_things_to_keep() {
        for host in [SUB, "onswick.example"] {
            let edits = test::todo(host, &test::healthy(host));
            assert!(edits.iter().all(|e| e.kind == EditKind::Keep), "{edits:?}");
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
        // The wildcard of the domain itself answers there until then.
        assert_eq!(at(&["*.timetable CNAME onswick.edge.quaymark.example"]), [(EditKind::Add, target)]);
    }
}
