//! `token-altered`: something stands at the challenge label, but not our token.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Sighting, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::TokenAltered,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A record stands at the challenge label, but its value is not the token: cut short, typed with \
            capitals or spaces, copied from another domain, or an alias to somewhere else.",
    yields: Yields::To(&[
        Code::ServersDisagree,
        Code::HostDoubled,
        Code::TokenSuperseded,
        Code::TokenMisplaced,
        Code::WildcardAnswers,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let challenge = &case.sheet.challenge;
    if case.owners.with > 0 {
        return None;
    }

    let mut held = Vec::new();
    for (source, records) in case.survey.authority(challenge, RecordType::Txt) {
        for record in records {
            let is_there = record.owner == *challenge;
            match record.data {
                RecordData::Txt(_) => held.push((source, record)),
                RecordData::Cname(_) if is_there => held.push((source, record)),
                _ => {}
            }
        }
    }
    let (_, record) = held.first()?;

    let line = case.sheet.preferred(Purpose::Ownership).next()?;
    let (edits, altered, hint) = match &record.data {
        RecordData::Txt(text) => {
            let hint = hint(text, &case.domain.token.txt_value());
            (vec![case.change(record, line)], text.clone(), hint)
        }
        // A CNAME leaves no room for a TXT record beside it.
        other => {
            let edits = vec![case.edit_record(EditKind::Delete, record), case.publish(line)];
            (edits, other.to_string(), "It leads to a name that does not hold this domain's token.")
        }
    };

    Some(Diagnosis {
        remedy: format!("{} It now has the value {altered}. {hint}", sentences(&edits)),
        remark: format!("The {} record there is not this domain's token. {hint}", record.data.type_name()),
        evidence: Sighting::of_all(&held),
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
