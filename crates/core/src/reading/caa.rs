//! What a CAA set allows (RFC 8659), with the parameters that bind it to an
//! account and to validation methods (RFC 8657).

use crate::reading::method::Method;
use crate::reading::record::{Record, RecordData};

/// Set in the flags of a property that must be understood (RFC 8659, section 4.1).
const CRITICAL: u8 = 0x80;
const UNDERSTOOD: [&str; 3] = ["issue", "issuewild", "iodef"];

/// The certificate that is to be ordered.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'a> {
    /// Names that the certification authority goes by.
    pub identities: &'a [String],
    /// Whether it is for a wildcard.
    pub wildcard: bool,
    /// How control will be shown.
    pub method: Method,
    /// URL of the account it is ordered with, once there is one.
    pub account: Option<&'a str>,
}

/// Why a CAA set forbids the certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Objection {
    /// Only other certification authorities may issue, or none.
    Issuer,
    /// Ours may, but only for another account (RFC 8657, section 3).
    Account(String),
    /// Ours may, but only by other methods (RFC 8657, section 4).
    Method(String),
    /// A property that must be understood, and is not.
    Critical(String),
}

/// One `issue` or `issuewild` property.
#[derive(Debug)]
struct Grant {
    issuer: String,
    account: Option<String>,
    methods: Option<String>,
}

/// Judges a relevant set; `None` if it allows the certificate. For a wildcard
/// `issuewild` counts where there is any, else `issue` (section 4.3).
pub fn objection(records: &[&Record], wish: &Wish<'_>) -> Option<Objection> {
    if let Some(tag) = critical(records).filter(|tag| !UNDERSTOOD.contains(&tag.as_str())) {
        return Some(Objection::Critical(tag));
    }

    let grants = grants(records, wish.wildcard);
    // A set without such a property restricts nothing (section 4.2).
    if grants.is_empty() {
        return None;
    }

    let mut first = None;
    for grant in grants.iter().filter(|g| wish.identities.contains(&g.issuer)) {
        // One property that allows is enough.
        first.get_or_insert(by_parameters(grant, wish)?);
    }
    Some(first.unwrap_or(Objection::Issuer))
}

/// The first property that must be understood.
fn critical(records: &[&Record]) -> Option<String> {
    records.iter().find_map(|r| match &r.data {
        RecordData::Caa { flags, tag, .. } if flags & CRITICAL != 0 => {
            Some(tag.to_text().to_ascii_lowercase())
        }
        _ => None,
    })
}

/// The properties that count: all `issue`, or for a wildcard all `issuewild`
/// if there are any.
fn grants(records: &[&Record], wildcard: bool) -> Vec<Grant> {
    let wild = if wildcard { tagged(records, "issuewild") } else { Vec::new() };
    if wild.is_empty() { tagged(records, "issue") } else { wild }
}

fn tagged(records: &[&Record], wanted: &str) -> Vec<Grant> {
    let values = records.iter().filter_map(|r| match &r.data {
        RecordData::Caa { tag, value, .. } if tag.as_bytes().eq_ignore_ascii_case(wanted.as_bytes()) => {
            Some(value)
        }
        _ => None,
    });
    values.map(|value| grant(&value.to_text())).collect()
}

/// Reads `issuer; tag=value; …` (RFC 8659, section 4.2).
fn grant(value: &str) -> Grant {
    let mut parts = value.split(';').map(str::trim);
    let issuer = parts.next().unwrap_or_default().to_ascii_lowercase();
    let mut grant = Grant { issuer, account: None, methods: None };

    for (tag, value) in parts.filter_map(|part| part.split_once('=')) {
        match tag.trim().to_ascii_lowercase().as_str() {
            "accounturi" => grant.account = Some(value.trim().to_owned()),
            "validationmethods" => grant.methods = Some(value.trim().to_ascii_lowercase()),
            _ => {}
        }
    }
    grant
}

fn by_parameters(grant: &Grant, wish: &Wish<'_>) -> Option<Objection> {
    if let Some(account) = &grant.account
        && wish.account != Some(account.as_str())
    {
        return Some(Objection::Account(account.clone()));
    }

    let methods = grant.methods.as_ref()?;
    let allowed = methods.split(',').any(|m| m.trim() == wish.method.as_str());
    (!allowed).then(|| Objection::Method(methods.clone()))
}

/// Whether any property names an account, so that ours must be known.
pub fn names_account(records: &[&Record]) -> bool {
    records.iter().any(|record| match &record.data {
        RecordData::Caa { value, .. } => value.to_text().to_ascii_lowercase().contains("accounturi"),
        _ => false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const ACCOUNT: &str = "https://127.0.0.1:8632/my-account/7";

    fn record(flags: u8, property: &str) -> Record {
        let (tag, value) = property.split_once(' ').expect("tag and value");
        let data = RecordData::Caa { flags, tag: tag.into(), value: value.into() };
        Record { owner: "onswick.example".into(), ttl: 60, data }
    }

    fn judge(set: &[&str], wildcard: bool, method: Method) -> Option<Objection> {
        let records: Vec<_> = set.iter().map(|p| record(0, p)).collect();
        let identities = ["stampworks-ca.example".to_owned()];
        let wish = Wish { identities: &identities, wildcard, method, account: Some(ACCOUNT) };
        objection(&records.iter().collect::<Vec<_>>(), &wish)
    }

    #[test]
    fn the_issuer_is_compared_and_no_property_is_no_restriction() {
        let judge = |set: &[&str]| judge(set, false, Method::Http);
        assert_eq!(judge(&["iodef mailto:post@onswick.example"]), None);
        assert_eq!(judge(&["issue StampWorks-CA.example"]), None);
        assert_eq!(judge(&["issue other-ca.example", "issue stampworks-ca.example; policy=ev"]), None);
        assert_eq!(judge(&["issue other-ca.example"]), Some(Objection::Issuer));
        assert_eq!(judge(&["issue ;"]), Some(Objection::Issuer));
        assert_eq!(judge(&["issuewild ;"]), None, "says nothing about the name itself");
    }

    #[test]
    fn a_wildcard_goes_by_issuewild_where_there_is_any() {
        let judge = |set: &[&str]| judge(set, true, Method::Dns);
        assert_eq!(judge(&["issue stampworks-ca.example"]), None);
        assert_eq!(judge(&["issue stampworks-ca.example", "issuewild ;"]), Some(Objection::Issuer));
        assert_eq!(judge(&["issue ;", "issuewild stampworks-ca.example"]), None);
    }

    #[test]
    fn account_and_methods_bind() {
        let judge = |set: &[&str]| judge(set, false, Method::Http);
        let ours = format!("issue stampworks-ca.example; accounturi={ACCOUNT}");
        assert_eq!(judge(&[&ours]), None);
        let other = "issue stampworks-ca.example; accounturi=https://ca.example/acct/9";
        assert_eq!(judge(&[other]), Some(Objection::Account("https://ca.example/acct/9".into())));
        assert_eq!(judge(&[other, &ours]), None, "one property that allows is enough");
        let dns = "issue stampworks-ca.example; validationmethods=dns-01";
        assert_eq!(judge(&[dns]), Some(Objection::Method("dns-01".into())));
        assert_eq!(judge(&["issue stampworks-ca.example;validationmethods=dns-01,HTTP-01"]), None);
    }

    #[test]
    fn what_must_be_understood_and_is_not_forbids() {
        let identities = ["stampworks-ca.example".to_owned()];
        let wish = Wish { identities: &identities, wildcard: false, method: Method::Http, account: None };
        for (flags, property, want) in [
            (CRITICAL, "tbs Unknown", Some(Objection::Critical("tbs".into()))),
            (0, "tbs Unknown", None),
            (CRITICAL, "issue stampworks-ca.example", None),
        ] {
            let record = record(flags, property);
            assert_eq!(objection(&[&record], &wish), want, "{property}");
        }
        let named = record(0, "issue x.example; AccountURI=y");
        assert!(names_account(&[&named]) && !names_account(&[&record(0, "issue x.example")]));
    }
}
