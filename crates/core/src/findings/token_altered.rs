//! `token-altered`: something stands at the challenge label, but not our token.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType};
use crate::sheet::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: "token-altered",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A record stands at the challenge label, but its value is not the token: cut short, typed with \
            capitals or spaces, copied from another domain, or an alias to somewhere else.",
    yields_to: &[
        "servers-disagree",
        "host-doubled",
        "token-superseded",
        "token-misplaced",
        "wildcard-answers",
    ],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let challenge = &case.sheet.challenge;
    let token = case.domain.token.txt_value();
    let texts: Vec<_> = case
        .survey
        .authority(challenge, RecordType::Txt)
        .flat_map(|(source, records)| records.iter().map(move |r| (source, r)))
        .filter_map(|(source, record)| match &record.data {
            RecordData::Txt(text) => Some((source, record, text)),
            RecordData::Cname(target) if record.owner == *challenge => Some((source, record, target)),
            _ => None,
        })
        .collect();
    let (_, record, altered) = texts.first()?;
    if case.owners().0 > 0 {
        return None;
    }
    let line = case.sheet.preferred(Purpose::Ownership).next()?;
    let (edits, hint) = match record.data {
        // A CNAME leaves no room for a TXT record beside it.
        RecordData::Cname(_) => {
            let delete = case.edit_record(EditKind::Delete, record);
            (vec![delete, case.publish(line)], "It leads to a name that does not hold this domain's token.")
        }
        _ => (vec![case.change(record, line)], hint(altered, &token)),
    };
    Some(Diagnosis {
        remedy: format!("{} It now has the value {altered}. {hint}", sentences(&edits)),
        remark: format!("The {} record there is not this domain's token. {hint}", record.data.type_name()),
        evidence: texts.iter().map(|(source, record, _)| sighting(source, record)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

/// What happened to the value on its way.
fn hint(found: &str, token: &str) -> &'static str {
    let bare = token.trim_start_matches("token=");
    let squeezed: String = found.chars().filter(|c| !c.is_whitespace() && *c != '"').collect();
    if found == bare {
        "The part token= at its start is missing."
    } else if found.eq_ignore_ascii_case(token) {
        "Capitals and small letters were changed."
    } else if squeezed == token {
        "Spaces or quotation marks were added."
    } else if token.starts_with(found) || found.ends_with(bare) || token.ends_with(found) {
        "A part of it was cut off or added."
    } else {
        "Copy the whole value again."
    }
}

#[cfg(test)]
mod tests {
    use super::hint;
    use crate::test;

    #[test]
    fn another_value_is_named_and_the_right_one_given() {
        let found = test::diagnose("onswick.example", &["_quaymark-challenge TXT token=u6t2pj5hu6t2"]);
        assert_eq!(test::codes(&found), ["token-altered"]);
        assert!(
            found[0].remedy.contains("at _quaymark-challenge to token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h.")
        );
        assert!(found[0].remedy.contains("cut off"));
    }

    #[test]
    fn an_old_text_beside_the_right_token_is_no_trouble() {
        let right = format!("_quaymark-challenge TXT {}", test::token().txt_value());
        let found = test::diagnose("onswick.example", &["_quaymark-challenge TXT old", &right]);
        assert_eq!(found, []);
    }

    #[test]
    fn the_hint_says_what_happened_on_the_way() {
        for (found, want) in [
            ("abcd", "missing"),
            ("TOKEN=ABCD", "Capitals"),
            ("\"token=abcd\"", "quotation"),
            ("token=ab", "cut off"),
            ("something else", "again"),
        ] {
            assert!(hint(found, "token=abcd").contains(want), "{found}");
        }
    }
}
