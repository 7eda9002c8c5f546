//! What a registry says of a registered domain, by RDAP (RFC 9083), and where to ask it
//! (RFC 9224).

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use thiserror::Error;

use crate::name::dns;
use crate::name::plain::shown;

/// Statuses that keep a domain out of DNS, as registries name them (RFC 8056).
const HOLDS: [&str; 5] = ["client hold", "server hold", "redemption period", "pending delete", "inactive"];

/// What a registry says of a registered domain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Registration {
    /// The registered domain.
    pub domain: String,
    /// Where it is registered, as that calls itself.
    pub registrar: Option<String>,
    /// When it runs out.
    pub expires_at: Option<DateTime<Utc>>,
    /// What keeps it out of DNS, as the registry names it.
    pub holds: Vec<String>,
    /// When the registry was asked.
    pub read_at: DateTime<Utc>,
}

/// Why an answer or a file is not to be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RdapError {
    /// It is no JSON, or has another shape.
    #[error("{0} is not what RDAP describes")]
    Shape(&'static str),
    /// It is about another domain.
    #[error("The answer is about {0}")]
    Other(String),
}

impl Registration {
    /// Reads a registry's answer about `domain`.
    ///
    /// # Errors
    /// [`RdapError`].
    pub fn read(answer: &str, domain: &str, at: DateTime<Utc>) -> Result<Self, RdapError> {
        let shape = || RdapError::Shape("The answer");
        let answer: Value = serde_json::from_str(answer).map_err(|_| shape())?;
        let name = answer["ldhName"].as_str().ok_or_else(shape)?.trim_end_matches('.');
        if !name.eq_ignore_ascii_case(domain) {
            return Err(RdapError::Other(shown(name)));
        }

        let statuses = list(&answer["status"]).filter_map(Value::as_str).map(str::to_ascii_lowercase);
        let mut events = list(&answer["events"]);
        let expiration = events.find(|event| event["eventAction"] == "expiration");
        let expires_at = expiration.and_then(|event| event["eventDate"].as_str()?.parse().ok());
        let registrar =
            list(&answer["entities"]).find(|entity| list(&entity["roles"]).any(|role| role == "registrar"));

        Ok(Self {
            domain: domain.to_owned(),
            registrar: registrar.and_then(name_of),
            expires_at,
            holds: statuses.filter(|status| HOLDS.contains(&status.as_str())).collect(),
            read_at: at,
        })
    }

    /// In one sentence.
    pub fn told(&self) -> String {
        let whom = self.registrar.as_ref().map(|registrar| format!(" at {registrar}")).unwrap_or_default();
        let end = self.expires_at.map(|end| format!(" until {}", end.format("%Y-%m-%d"))).unwrap_or_default();
        let held = match self.holds.as_slice() {
            [] => String::new(),
            holds => format!(", and on hold ({})", holds.join(", ")),
        };
        format!("{} is registered{whom}{end}{held}.", self.domain)
    }
}

/// The name in a contact card (RFC 7095).
fn name_of(entity: &Value) -> Option<String> {
    let properties = list(entity["vcardArray"].get(1)?);
    let name = properties.filter(|property| property[0] == "fn").find_map(|property| property[3].as_str())?;
    let name = shown(name);
    (!name.trim().is_empty()).then_some(name)
}

fn list(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}

/// Which registry is asked about which domains: the file that IANA publishes (RFC 9224,
/// section 4).
#[derive(Clone, Debug, Default)]
pub struct Registries(Vec<(String, String)>);

impl Registries {
    /// Reads the file.
    ///
    /// # Errors
    /// [`RdapError::Shape`].
    pub fn read(file: &str) -> Result<Self, RdapError> {
        let shape = || RdapError::Shape("The file of the registries");
        let file: Value = serde_json::from_str(file).map_err(|_| shape())?;
        let services = file["services"].as_array().ok_or_else(shape)?;

        let mut registries = Vec::new();
        for service in services {
            let urls = list(service.get(1).ok_or_else(shape)?).filter_map(Value::as_str);
            let Some(url) = urls.into_iter().find(|url| url.starts_with("https://")) else { continue };
            for zone in list(service.get(0).ok_or_else(shape)?).filter_map(Value::as_str) {
                registries.push((zone.trim_matches('.').to_ascii_lowercase(), url.to_owned()));
            }
        }
        Ok(Self(registries))
    }

    /// Where to ask about a domain: at the registry of the longest zone above it.
    pub fn url(&self, domain: &str) -> Option<String> {
        let above = self.0.iter().filter(|(zone, _)| dns::is_within(domain, zone));
        let (_, url) = above.max_by_key(|(zone, _)| zone.len())?;
        Some(format!("{}/domain/{domain}", url.trim_end_matches('/')))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ANSWER: &str = r#"{ "objectClassName": "domain", "ldhName": "ONSWICK.example", "status": ["active", "client hold"],
        "events": [{ "eventAction": "registration", "eventDate": "2020-01-01T00:00:00Z" },
                   { "eventAction": "expiration", "eventDate": "2026-12-24T12:00:00Z" }],
        "entities": [{ "roles": ["registrant"], "vcardArray": ["vcard", [["fn", {}, "text", "Somebody"]]] },
                     { "roles": ["registrar"], "vcardArray": ["vcard", [["version", {}, "text", "4.0"], ["fn", {}, "text", "Harrow Names"]]] }] }"#;

    #[test]
    fn an_answer_tells_registrar_end_and_what_holds_it() {
        let read = Registration::read(ANSWER, "onswick.example", DateTime::UNIX_EPOCH).expect("read");
        assert_eq!(read.registrar.as_deref(), Some("Harrow Names"));
        assert_eq!(read.expires_at, "2026-12-24T12:00:00Z".parse().ok());
        assert_eq!(read.holds, ["client hold"]);
        assert_eq!(
            read.told(),
            "onswick.example is registered at Harrow Names until 2026-12-24, and on hold (client hold)."
        );
    }

    #[test]
    fn what_strangers_answer_instead_is_refused_or_left_out() {
        let read = |answer: &str| Registration::read(answer, "onswick.example", DateTime::UNIX_EPOCH);
        assert_eq!(read("<html>"), Err(RdapError::Shape("The answer")));
        assert_eq!(read("[]"), Err(RdapError::Shape("The answer")));
        let other = read(r#"{ "ldhName": "other.example" }"#);
        assert_eq!(other, Err(RdapError::Other("other.example".into())));
        let bare = read(
            r#"{ "ldhName": "onswick.example", "status": 7, "events": [{}, 3], "entities": [{ "roles": ["registrar"] }] }"#,
        );
        let bare = bare.expect("read");
        assert_eq!((bare.registrar, bare.expires_at, bare.holds.len()), (None, None, 0));
    }

    #[test]
    fn the_registry_of_the_longest_zone_is_asked_and_by_https_alone() {
        let file = r#"{ "services": [[["example"], ["http://plain.test/", "https://rdap.test/v1/"]],
                                     [["co.example", "test"], ["https://co.test"]], [["odd"], ["http://odd.test"]]] }"#;
        let registries = Registries::read(file).expect("read");
        assert_eq!(
            registries.url("onswick.example").as_deref(),
            Some("https://rdap.test/v1/domain/onswick.example")
        );
        assert_eq!(registries.url("a.co.example").as_deref(), Some("https://co.test/domain/a.co.example"));
        assert_eq!(registries.url("a.odd"), None);
        assert!(Registries::read("{}").is_err());
    }
}
