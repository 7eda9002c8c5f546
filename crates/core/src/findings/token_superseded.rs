//! `token-superseded`: a token from before the last rotation is published.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType};
use crate::sheet::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: "token-superseded",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The published token was valid once and has been replaced since: the customer works from an \
            old sheet.",
    yields_to: &["servers-disagree"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.owned() {
        return None;
    }
    let line = case.sheet.preferred(Purpose::Ownership).next()?;
    let names = [case.sheet.challenge.as_str(), case.domain.host.as_str()];
    let held: Vec<_> = names.iter().flat_map(|name| case.survey.held(name, RecordType::Txt)).collect();
    let old = |data: &RecordData| matches!(data, RecordData::Txt(text) if case.domain.superseded.iter().any(|t| t.txt_value() == *text));
    let (_, record) = held.iter().find(|(_, r)| old(&r.data))?;
    let edits = if record.owner == line.owner {
        vec![case.change(record, line)]
    } else {
        vec![case.edit_record(EditKind::Delete, record), case.publish(line)]
    };
    Some(Diagnosis {
        remedy: format!("{} The value there now is from an older sheet.", sentences(&edits)),
        remark: "The token was rotated after the customer had been given this one.".into(),
        evidence: held.iter().filter(|(_, r)| old(&r.data)).map(|(s, r)| sighting(s, r)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;
    use crate::token::Token;

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
