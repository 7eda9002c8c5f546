//! Discovery: what the TXT record says, and the settings document that it leads to. Both are
//! published by strangers.

use serde::Deserialize;
use thiserror::Error;

use crate::name::hostname::Hostname;

/// Longest settings document that is read, in octets.
pub const MOST_SETTINGS: usize = 65_536;
/// Longest path after the host of a pointer.
const MOST_PATH: usize = 200;

/// Where an operator's settings are: a host with an optional path, without a scheme.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pointer {
    /// The host.
    pub host: Hostname,
    /// A port, where one is named.
    pub port: Option<u16>,
    /// What stands between the host and `/v2`: empty, or a path with a slash before it.
    pub path: String,
}

/// Why one click is not to be had, where it is offered at all.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NotOffered {
    /// The text leads nowhere.
    #[error("The TXT record {0} is no host with a path.")]
    Pointer(String),
    /// The settings are no such document.
    #[error("The settings cannot be read: {0}.")]
    Settings(String),
    /// The operator has not this zone after all.
    #[error("The operator does not have the zone.")]
    NotThere,
    /// There is no synchronous flow.
    #[error("The operator has no flow in which a customer consents.")]
    NoFlow,
    /// A page of the operator's is no HTTPS URL.
    #[error("The operator's page {0} is no HTTPS URL.")]
    NoLink(String),
    /// The operator does not know the template.
    #[error("The operator does not know the template {0}.")]
    UnknownTemplate(String),
    /// The operator does not answer as it should.
    #[error("The operator does not answer: {0}.")]
    Silent(String),
}

impl Pointer {
    /// Reads the text of the record.
    ///
    /// # Errors
    /// [`NotOffered::Pointer`] for anything but a host with a path.
    pub fn parse(text: &str) -> Result<Self, NotOffered> {
        let refused = || NotOffered::Pointer(crate::name::plain::shown(text));
        let text = text.trim();
        let (place, path) = match text.find('/') {
            Some(slash) => text.split_at(slash),
            None => (text, ""),
        };
        let (host, port) = match place.rsplit_once(':') {
            Some((host, port)) => (host, Some(port.parse().map_err(|_| refused())?)),
            None => (place, None),
        };

        let path = path.trim_end_matches('/');
        let is_plain = path.len() <= MOST_PATH
            && path.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"/-._~".contains(&byte));
        let host = Hostname::parse(host).ok().filter(|parsed| parsed.as_str() == host.to_ascii_lowercase());
        match (host, is_plain) {
            (Some(host), true) => Ok(Self { host, port, path: path.to_owned() }),
            _ => Err(refused()),
        }
    }

    /// The URL of the settings of a zone.
    pub fn settings_url(&self, zone: &str) -> String {
        let port = self.port.map(|port| format!(":{port}")).unwrap_or_default();
        format!("https://{}{port}{}/v2/{zone}/settings", self.host, self.path)
    }
}

/// What an operator says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Settings {
    /// The operator, as a domain of its own.
    pub provider_id: String,
    /// Its name.
    pub provider_name: String,
    /// The name that people know it by.
    pub provider_display_name: Option<String>,
    /// Where the synchronous flow begins.
    #[serde(rename = "urlSyncUX")]
    pub url_sync_ux: Option<String>,
    /// Where templates are asked for.
    #[serde(rename = "urlAPI")]
    pub url_api: Option<String>,
    /// Where its customers edit records; `%domain%` stands for the zone.
    pub url_control_panel: Option<String>,
}

impl Settings {
    /// Reads the document.
    ///
    /// # Errors
    /// [`NotOffered::Settings`] if it is none.
    pub fn read(octets: &[u8]) -> Result<Self, NotOffered> {
        serde_json::from_slice(octets).map_err(|error| NotOffered::Settings(error.to_string()))
    }

    /// What to call it.
    pub fn name(&self) -> &str {
        self.provider_display_name.as_deref().unwrap_or(&self.provider_name)
    }

    /// Where its customers edit the records of a zone, if that is an HTTPS URL.
    pub fn control_panel(&self, zone: &str) -> Option<String> {
        let url = self.url_control_panel.as_deref()?.replace("%domain%", zone);
        is_secure(&url).then_some(url)
    }

    /// The pages of the flow and of the templates.
    ///
    /// # Errors
    /// [`NotOffered::NoFlow`] without one, [`NotOffered::NoLink`] for what is no HTTPS URL.
    pub fn flow(&self) -> Result<Flow, NotOffered> {
        let (Some(pages), Some(api)) = (&self.url_sync_ux, &self.url_api) else {
            return Err(NotOffered::NoFlow);
        };
        for url in [pages, api] {
            if !is_secure(url) {
                return Err(NotOffered::NoLink(crate::name::plain::shown(url)));
            }
        }
        let bare = |url: &String| url.trim_end_matches('/').to_owned();
        Ok(Flow { pages: bare(pages), api: bare(api) })
    }
}

/// Where the synchronous flow goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Flow {
    /// Base URL of the operator's pages.
    pub pages: String,
    /// Base URL of its API.
    pub api: String,
}

impl Flow {
    /// Where a template is asked for: 200 if the operator knows it.
    pub fn template_url(&self, provider: &str, service: &str) -> String {
        format!("{}/v2/domainTemplates/providers/{provider}/services/{service}", self.api)
    }
}

/// A browser is sent there, so it is HTTPS and has nothing in it that a header or a page
/// would take for something else.
fn is_secure(url: &str) -> bool {
    url.len() <= 2000
        && url
            .strip_prefix("https://")
            .is_some_and(|rest| rest.starts_with(|first: char| first.is_ascii_alphanumeric()))
        && url.bytes().all(|byte| byte.is_ascii_graphic() && !b"\"'<>\\`@#?".contains(&byte))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_record_leads_to_a_host_with_a_path_and_to_nothing_else() {
        let pointer = Pointer::parse("connect.harrowdns.example/dc").expect("reads");
        assert_eq!(
            pointer.settings_url("onswick.example"),
            "https://connect.harrowdns.example/dc/v2/onswick.example/settings"
        );
        assert_eq!(Pointer::parse("connect.harrowdns.example:8443").expect("reads").port, Some(8443));
        for bad in [
            "",
            "https://connect.harrowdns.example",
            "192.0.2.7/dc",
            "connect.harrowdns.example/../x?y",
            "connect.harrowdns.example:99999",
            "user@connect.harrowdns.example",
            "a b",
        ] {
            assert!(Pointer::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn settings_of_strangers_are_taken_only_as_far_as_they_are_sound() {
        let sound = br#"{ "providerId": "harrowdns.example", "providerName": "Harrow", "urlSyncUX": "https://a.example/",
            "urlAPI": "https://b.example", "urlControlPanel": "https://c.example/%domain%", "width": 750, "x": {} }"#;
        let settings = Settings::read(sound).expect("reads");
        let flow = settings.flow().expect("a flow");
        assert_eq!(flow.pages, "https://a.example");
        assert_eq!(
            flow.template_url("quaymark.example", "harbour-host"),
            "https://b.example/v2/domainTemplates/providers/quaymark.example/services/harbour-host"
        );
        assert_eq!(
            settings.control_panel("onswick.example").as_deref(),
            Some("https://c.example/onswick.example")
        );

        let with = |field: &str, value: &str| {
            let mut json: serde_json::Value = serde_json::from_slice(sound).expect("JSON");
            json[field] = value.into();
            Settings::read(json.to_string().as_bytes()).expect("reads")
        };
        for bad in
            ["http://a.example", "javascript:x", "https://", "https://a@b.example", "https://a.example/\"x"]
        {
            assert!(matches!(with("urlSyncUX", bad).flow(), Err(NotOffered::NoLink(_))), "{bad}");
            assert_eq!(with("urlControlPanel", bad).control_panel("x"), None);
        }
        assert!(matches!(Settings::read(b"[]"), Err(NotOffered::Settings(_))));
        let without = Settings::read(br#"{ "providerId": "a", "providerName": "A" }"#).expect("reads");
        assert_eq!(without.flow(), Err(NotOffered::NoFlow));
    }
}
