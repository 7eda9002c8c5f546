//! `token-altered`: something stands at the challenge label, but not our token.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::evidence::KnownToken;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::Source;
use crate::reading::record::{Record, RecordData};
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::TokenAltered,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A record stands at the challenge label, but its value is not the token: cut short, typed with \
            capitals or spaces, copied from another domain, or an alias to somewhere else.",
    yields: Yields::To(&[
        Code::ClaimedTwice,
        Code::ServersDisagree,
        Code::HostDoubled,
        Code::TokenSuperseded,
        Code::TokenMisplaced,
        Code::WildcardAnswers,
        Code::DnameAbove,
        Code::TcpClosed,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let challenge = &case.sheet.challenge;
    if case.owners.with > 0 {
        return None;
    }

    let held = held(case, challenge);
    let (_, record) = held.first()?;

    let line = case.sheet.preferred(Purpose::Ownership).next()?;
    let (edits, hint) = match &record.data {
        // What may belong to another claim stays, and ours goes beside it: a name
        // and its wildcard share this label.
        RecordData::Txt(text) if case.is_of_others(record) => {
            (vec![case.publish(line)], of_another(case, &text.to_text()))
        }
        RecordData::Txt(text) => (vec![case.change(record, line)], hint(case, &text.to_text())),
        // A CNAME leaves no room for a TXT record beside it.
        _ => (
            vec![case.edit_record(EditKind::Delete, record), case.publish(line)],
            "It leads to a name that does not hold this domain's token.".into(),
        ),
    };

    let now = case.edit_record(EditKind::Keep, record).value;
    Some(Diagnosis {
        remedy: format!("{} It now has the value {now}. {hint}", sentences(&edits)),
        remark: format!("The {} record there is not this domain's token. {hint}", record.data.type_name()),
        evidence: Sighting::of_all(&held),
        edits,
        ..Diagnosis::default()
    })
}

/// What stands at the challenge label or where its alias leads, first what is
/// most like a token of ours: texts of other services may stand there too.
fn held<'a>(case: &'a Case<'_>, challenge: &'a DnsName) -> Vec<(&'a Source, &'a Record)> {
    let mut held = Vec::new();
    for source in case.servers.iter().copied() {
        for record in case.survey.texts(source, challenge).into_iter().flatten() {
            if matches!(record.data, RecordData::Txt(_) | RecordData::Cname(_)) {
                held.push((source, record));
            }
        }
    }

    held.sort_by_key(|(_, record)| match &record.data {
        RecordData::Txt(text) => !is_like_ours(&text.to_text(), &case.domain.token.txt_value()),
        _ => false,
    });
    held
}

/// Whether a text was meant to be a token.
fn is_like_ours(text: &str, token: &str) -> bool {
    let bare = token.trim_start_matches("token=");
    let squeezed: String = text.to_ascii_lowercase().chars().filter(char::is_ascii_alphanumeric).collect();
    let start: String = bare.chars().take(6).collect();
    let end: String = bare.chars().skip(bare.len() - 6).collect();
    text.to_ascii_lowercase().contains("token") || squeezed.contains(&start) || squeezed.contains(&end)
}

/// What happened to the value on its way.
fn hint(case: &Case<'_>, found: &str) -> String {
    slip(found, &case.domain.token.txt_value()).into()
}

/// Of a claim of the same account its name is told; of any other the same is said
/// as of a text that only looks like a token, so that nobody learns what others
/// have.
fn of_another(case: &Case<'_>, found: &str) -> String {
    match case.known_token(found) {
        Some(KnownToken { host: other, .. }) => {
            format!("It is the token of {other}; each domain has its own. Leave it there.")
        }
        None => {
            "It has the form of a token, and is not this domain's. Leave it, and add yours beside it.".into()
        }
    }
}

fn slip(found: &str, token: &str) -> &'static str {
    let bare = token.trim_start_matches("token=");
    let squeezed: String =
        found.chars().filter(|c| !c.is_whitespace() && !matches!(c, '"' | '\'' | '\\')).collect();
    let lower = squeezed.to_ascii_lowercase();

    if found == bare {
        "The part token= at its start is missing."
    } else if found.eq_ignore_ascii_case(token) {
        "Capitals and small letters were changed."
    } else if squeezed == token {
        "Spaces or quotation marks were added."
    } else if squeezed.trim_end_matches('.') == token {
        "A dot was added at its end."
    } else if lower.trim_end_matches('.') == token || lower.trim_end_matches('.') == bare {
        "More than one thing was changed about it: capitals, quotation marks, spaces or a dot."
    } else if !squeezed.is_empty() && (token.contains(&squeezed) || squeezed.contains(bare)) {
        "A part of it was cut off or added."
    } else {
        "Copy the whole value again."
    }
}

#[cfg(test)]
mod tests {
    use super::slip;
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
    fn what_has_the_form_of_a_token_stays_and_ours_is_added_beside() {
        let other = crate::name::token::Token::from_random([9; 20]);
        let line = format!("_quaymark-challenge TXT {}", other.txt_value());
        let found = test::diagnose("onswick.example", &[&line]);
        assert_eq!(test::codes(&found), ["token-altered"]);
        assert!(found[0].remedy.starts_with("Add the TXT record"), "{}", found[0].remedy);
        assert!(!format!("{found:?}").contains(other.as_str()), "nothing quotes it");
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
            assert!(slip(found, "token=abcd").contains(want), "{found}");
        }
    }
}
