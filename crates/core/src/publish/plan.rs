//! From the customer's list and what the server holds to an update.

use thiserror::Error;

use super::{ReadSet, SetChange, Stored, Update, is_same};
use crate::judge::edit::{Edit, EditKind};
use crate::name::dns::DnsName;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::SHEET_TTL;
use crate::sheet::line::EditorType;
use crate::zonefile;

/// What is read at every name that is written to: what may stand there, and in the way.
const READ: [RecordType; 8] = [
    RecordType::A,
    RecordType::Aaaa,
    RecordType::Cname,
    RecordType::Txt,
    RecordType::Mx,
    RecordType::Caa,
    RecordType::Https,
    RecordType::Ns,
];

/// Why a list cannot be published for the customer.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NotPlanned {
    /// There is nothing on it.
    #[error("Nothing is to be published: the zone has what the sheet asks for")]
    Nothing,
    /// Something on it is not done by an update of this zone.
    #[error(
        "This has to be done by hand: {what}. An update writes A, AAAA, CNAME, TXT and CAA records of the zone {zone}"
    )]
    ByHand {
        /// The edit, in short.
        what: String,
        /// The zone.
        zone: DnsName,
    },
    /// The zone has changed since the list was made.
    #[error(
        "The zone has changed since the last look: {record} is not there any more. Look again, and then publish"
    )]
    Drifted {
        /// The record that the list is about.
        record: String,
    },
    /// Something that must stay is in the way.
    #[error("{record} must stay, and stands in the way of {wanted}. Decide what to do with it by hand")]
    MustStay {
        /// The record.
        record: String,
        /// What it is in the way of.
        wanted: String,
    },
}

/// What has to be read at the server before a list is published.
pub fn questions(edits: &[Edit]) -> Vec<(DnsName, RecordType)> {
    let mut owners: Vec<&DnsName> = Vec::new();
    for edit in edits.iter().filter(|edit| edit.kind != EditKind::Keep) {
        if !owners.contains(&&edit.owner) {
            owners.push(&edit.owner);
        }
    }
    owners.into_iter().flat_map(|owner| READ.map(|rtype| (owner.clone(), rtype))).collect()
}

/// The update that carries out a list, given what the server holds at
/// [`questions`].
///
/// # Errors
/// [`NotPlanned`].
pub fn plan(zone: &DnsName, edits: &[Edit], read: &[ReadSet]) -> Result<Update, NotPlanned> {
    let mut sets: Vec<_> = read
        .iter()
        .map(|set| SetChange {
            owner: set.owner.clone(),
            rtype: set.rtype,
            before: set.records.clone(),
            after: set.records.clone(),
        })
        .collect();

    for edit in edits.iter().filter(|edit| edit.kind != EditKind::Keep) {
        carry_out(edit, zone, &mut sets)?;
    }
    for edit in edits.iter().filter(|edit| edit.kind == EditKind::Keep) {
        still_there(edit, &sets)?;
    }
    nothing_beside_an_alias(&sets)?;

    if sets.iter().all(|set| is_same(&set.before, &set.after)) {
        return Err(NotPlanned::Nothing);
    }
    Ok(Update { zone: zone.clone(), sets })
}

fn carry_out(edit: &Edit, zone: &DnsName, sets: &mut [SetChange]) -> Result<(), NotPlanned> {
    let by_hand = || NotPlanned::ByHand { what: told(edit), zone: zone.clone() };
    let EditorType::Of(rtype) = edit.rtype else { return Err(by_hand()) };
    let value = zonefile::value(rtype.as_str(), &edit.value).map_err(|_| by_hand())?;
    if !edit.owner.is_within(zone) {
        return Err(by_hand());
    }

    if matches!(edit.kind, EditKind::Delete | EditKind::Change) {
        take_away(edit, rtype, &by_hand, sets)?;
    }
    if matches!(edit.kind, EditKind::Add | EditKind::Change) {
        let writes = matches!(
            value,
            RecordData::A(_)
                | RecordData::Aaaa(_)
                | RecordData::Cname(_)
                | RecordData::Txt(_)
                | RecordData::Caa { .. }
        );
        let set = set(sets, &edit.owner, rtype).filter(|_| writes).ok_or_else(by_hand)?;
        let ttl = set.before.first().map_or(SHEET_TTL, |record| record.ttl);
        let made = Stored { ttl, data: value, octets: None };
        if !set.after.contains(&made) {
            set.after.push(made);
        }
    }
    Ok(())
}

fn take_away(
    edit: &Edit,
    rtype: RecordType,
    by_hand: &dyn Fn() -> NotPlanned,
    sets: &mut [SetChange],
) -> Result<(), NotPlanned> {
    // Mail and what holds the zone together is nobody's to take away.
    if matches!(rtype, RecordType::Mx | RecordType::Ns | RecordType::Soa | RecordType::Ds) {
        return Err(by_hand());
    }

    let shown = edit.value_now();
    let set = set(sets, &edit.owner, rtype).ok_or_else(by_hand)?;
    let parsed = zonefile::value(rtype.as_str(), shown).ok();
    let is_it = |record: &Stored| Some(&record.data) == parsed.as_ref() || record.data.to_string() == shown;
    match set.after.iter().position(is_it) {
        Some(place) => {
            set.after.remove(place);
            Ok(())
        }
        None => Err(NotPlanned::Drifted { record: format!("the {rtype} record {shown} at {}", edit.owner) }),
    }
}

/// What is to be kept is left by everything else on the list.
fn still_there(edit: &Edit, sets: &[SetChange]) -> Result<(), NotPlanned> {
    let EditorType::Of(rtype) = edit.rtype else { return Ok(()) };
    let Ok(value) = zonefile::value(rtype.as_str(), &edit.value) else { return Ok(()) };
    let is_gone = sets.iter().filter(|set| set.owner == edit.owner && set.rtype == rtype).any(|set| {
        let has = |records: &[Stored]| records.iter().any(|record| record.data == value);
        has(&set.before) && !has(&set.after)
    });
    match is_gone {
        true => Err(must_stay(&edit.owner, &value, "the rest of the list".into())),
        false => Ok(()),
    }
}

/// A server leaves out an alias that something else stands beside, without a word (RFC 2136,
/// section 3.4.2.2).
fn nothing_beside_an_alias(sets: &[SetChange]) -> Result<(), NotPlanned> {
    for alias in sets.iter().filter(|set| set.rtype == RecordType::Cname && !set.after.is_empty()) {
        let mut beside = sets.iter().filter(|set| set.owner == alias.owner && set.rtype != RecordType::Cname);
        if let Some(record) = beside.find_map(|set| set.after.first()) {
            return Err(must_stay(
                &alias.owner,
                &record.data,
                format!("the CNAME record at {}", alias.owner),
            ));
        }
        if let [_, second, ..] = alias.after.as_slice() {
            return Err(must_stay(&alias.owner, &second.data, format!("one alias at {}", alias.owner)));
        }
    }
    Ok(())
}

fn must_stay(owner: &DnsName, data: &RecordData, wanted: String) -> NotPlanned {
    NotPlanned::MustStay { record: format!("The record {} at {owner}", data.typed()), wanted }
}

fn set<'a>(sets: &'a mut [SetChange], owner: &DnsName, rtype: RecordType) -> Option<&'a mut SetChange> {
    sets.iter_mut().find(|set| set.owner == *owner && set.rtype == rtype)
}

fn told(edit: &Edit) -> String {
    format!("{} the {} record {} at {}", edit.kind, edit.rtype, edit.value, edit.owner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const SUB: &str = "timetable.onswick.example";

    /// What a server with those lines answers.
    fn held(edits: &[Edit], lines: &[&str]) -> Vec<ReadSet> {
        let records: Vec<_> = lines.iter().map(|line| test::record(line)).collect();
        let at = |owner: &DnsName, rtype| {
            let own = records.iter().filter(|r| r.owner == *owner && r.data.rtype() == Some(rtype));
            own.map(|r| Stored { ttl: r.ttl, data: r.data.clone(), octets: Some(r.data.typed().into()) })
                .collect()
        };
        let asked = questions(edits).into_iter();
        asked.map(|(owner, rtype)| ReadSet { records: at(&owner, rtype), owner, rtype }).collect()
    }

    fn planned(host: &str, then: &[&str], now: &[&str]) -> Result<Update, NotPlanned> {
        let edits = test::todo(host, then);
        plan(&"onswick.example".into(), &edits, &held(&edits, now))
    }

    fn shown(update: &Update) -> Vec<String> {
        let owner = |set: &SetChange| set.owner.relative_to(&update.zone);
        let gone = update
            .sets
            .iter()
            .flat_map(|s| s.gone().map(move |r| format!("- {} {}", owner(s), r.data.typed())));
        let new = update
            .sets
            .iter()
            .flat_map(|s| s.added().map(move |r| format!("+ {} {}", owner(s), r.data.typed())));
        gone.chain(new).map(|line| line.replace(test::token().txt_value().as_str(), "TOKEN")).collect()
    }

    #[test]
    fn a_list_becomes_one_update_and_back_it_is_its_undo() {
        let zone = ["timetable A 192.0.2.7", "timetable TXT hello", "@ MX 10 mx.onswick.example"];
        let update = planned(SUB, &zone, &zone).expect("an update");
        assert_eq!(
            shown(&update),
            [
                "- timetable A 192.0.2.7",
                "- timetable TXT \"hello\"",
                "+ _quaymark-challenge.timetable TXT \"TOKEN\"",
                "+ timetable CNAME onswick.edge.quaymark.example",
            ]
        );
        let held = |made: fn(&SetChange) -> Vec<Stored>| -> Vec<ReadSet> {
            let of =
                |set: &SetChange| ReadSet { owner: set.owner.clone(), rtype: set.rtype, records: made(set) };
            update.sets.iter().map(of).collect()
        };
        let back = update.taken_back(&held(|set| set.after.clone())).expect("it is all there");
        assert_eq!(back.sets.iter().flat_map(SetChange::added).count(), 2);
        assert!(back.sets.iter().flat_map(SetChange::added).all(|record| record.octets.is_some()));
        assert!(back.is_met_by(&held(|set| set.before.clone())));

        // What was made by half is taken back by half, and what was never made not at all.
        let half =
            update.taken_back(&held(|set| set.before.iter().take(1).cloned().collect())).expect("ours");
        assert!(half.is_met_by(&held(|set| set.before.clone())));
        assert!(update.taken_back(&held(|set| set.before.clone())).expect("ours").is_nothing());
        let other = RecordData::Cname("elsewhere.example".into());
        let by_others = Stored { ttl: 60, data: other, octets: None };
        let mut changed = held(|set| set.after.clone());
        changed[0].records.push(by_others);
        assert_eq!(update.taken_back(&changed), None);

        let kept: serde_json::Value = serde_json::to_value(&update).expect("JSON");
        let read: Update = serde_json::from_value(kept).expect("the same");
        assert_eq!(read, update);
    }

    #[test]
    fn what_it_depends_on_is_all_that_was_read_where_it_writes() {
        let update = planned(SUB, &[], &[]).expect("an update");
        let names: Vec<_> = update.sets.iter().map(|set| set.owner.as_str()).collect();
        assert_eq!(names.iter().filter(|name| **name == SUB).count(), READ.len());
        assert!(update.sets.iter().all(|set| set.before.is_empty()));
    }

    #[test]
    fn a_zone_that_has_changed_is_left_alone() {
        let then = ["timetable A 192.0.2.7"];
        let refused = planned(SUB, &then, &["timetable A 192.0.2.8"]).expect_err("it has changed");
        assert!(
            matches!(&refused, NotPlanned::Drifted { record } if record.contains("192.0.2.7")),
            "{refused}"
        );
    }

    #[test]
    fn what_must_stay_is_never_taken_away() {
        let refused = planned(SUB, &[], &["timetable MX 10 mx.onswick.example"]).expect_err("mail has come");
        assert!(
            matches!(&refused, NotPlanned::MustStay { record, .. } if record.contains("MX 10")),
            "{refused}"
        );
        let refused = planned(SUB, &[], &["timetable A 192.0.2.8"]).expect_err("an address has come");
        assert!(matches!(refused, NotPlanned::MustStay { .. }), "{refused}");
    }

    #[test]
    fn nothing_is_sent_where_nothing_is_to_be_done() {
        let zone = test::healthy(SUB);
        assert_eq!(planned(SUB, &zone, &zone), Err(NotPlanned::Nothing));
    }
}
