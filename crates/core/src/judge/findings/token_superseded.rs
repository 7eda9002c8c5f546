//! `token-superseded`: a token from before the last rotation is published.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::TokenSuperseded,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The published token was valid once and has been replaced since: the customer works from an \
            old sheet.",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.is_owned() {
        return None;
    }
    let line = case.sheet.preferred(Purpose::Ownership).next()?;

    let names = [case.sheet.challenge.as_str(), case.domain.host.as_str()];
    let held = names.into_iter().flat_map(|name| case.survey.held(name, RecordType::Txt));
    let held: Vec<_> = held.filter(|(_, record)| is_superseded(case, &record.data)).collect();
    let (_, record) = held.first()?;

    let edits = if record.owner == line.owner {
        vec![case.change(record, line)]
    } else {
        vec![case.edit_record(EditKind::Delete, record), case.publish(line)]
    };

    Some(Diagnosis {
        remedy: format!("{} The value there now is from an older sheet.", sentences(&edits)),
        remark: "The token was rotated after the customer had been given this one.".into(),
        evidence: Sighting::of_all(&held),
        edits,
        ..Diagnosis::default()
    })
}

fn is_superseded(case: &Case<'_>, data: &RecordData) -> bool {
    let RecordData::Txt(text) = data else { return false };
    case.domain.superseded.iter().any(|token| *text == token.txt_value())
}

#[cfg(test)]
mod tests {
    use crate::name::token::Token;
    use crate::test;

    #[test]
    fn an_old_token_is_told_from_an_altered_one() {
        let mut domain = test::domain("onswick.example");
        let old = Token::from_random([9; 20]);
        domain.superseded = vec![old.clone()];
        let line = format!("_quaymark-challenge TXT {}", old.txt_value());
        let found = test::judge(&domain, &test::survey("onswick.example", &[&line]));
        assert_eq!(test::codes(&found), ["token-superseded"]);
        assert!(found[0].remedy.starts_with("Change the TXT record at _quaymark-challenge to token=u6t2"));
        assert_eq!(found[0].edits[0].was.as_deref(), Some(format!("\"{}\"", old.txt_value()).as_str()));
    }
}
