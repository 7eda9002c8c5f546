//! The link that a customer's browser is sent to, and what is signed of it.

use super::settings::Flow;
use super::template::{SITE, Shape, TOKEN, service_id};
use crate::name::dns;
use crate::name::platform::Platform;
use crate::sheet::Sheet;
use crate::sheet::ingress::Ingress;

/// What is asked of an operator for one domain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Apply {
    /// The platform's name as a provider.
    pub provider: String,
    /// The template.
    pub service: String,
    /// What it is asked with, in the order in which it is signed.
    parameters: Vec<(String, String)>,
}

impl Apply {
    /// What is asked for the domain of a sheet; `None` for a wildcard, which no template has a
    /// place for. Afterwards the browser comes back to `redirect` with `state`.
    pub fn of(
        sheet: &Sheet,
        ingress: &Ingress,
        site: &str,
        token: &str,
        platform: &Platform,
        redirect: &str,
        state: &str,
    ) -> Option<Self> {
        if sheet.subject().wildcard {
            return None;
        }

        let shape = if sheet.apex { Shape::Apex } else { Shape::Host };
        let mut parameters = vec![("domain".to_owned(), sheet.zone.as_str().to_owned())];
        if !sheet.apex {
            parameters.push(("host".into(), dns::relative(&sheet.routed, &sheet.zone)));
        }
        parameters.push((TOKEN.into(), token.to_owned()));
        if !sheet.apex && ingress.canonical.as_str().contains("{site}") {
            parameters.push((SITE.into(), site.to_owned()));
        }
        parameters.push(("redirect_uri".into(), redirect.to_owned()));
        parameters.push(("state".into(), state.to_owned()));

        Some(Self {
            provider: platform.zone.as_str().to_owned(),
            service: service_id(ingress, shape),
            parameters,
        })
    }

    /// The query as it is sent, without the signature: what is signed.
    pub fn query(&self) -> String {
        let pairs = self.parameters.iter().map(|(name, value)| format!("{name}={}", encoded(value)));
        pairs.collect::<Vec<_>>().join("&")
    }

    /// The link, with the label of the key and the signature in base64.
    pub fn url(&self, flow: &Flow, key: &str, signature: &str) -> String {
        format!(
            "{}/v2/domainTemplates/providers/{}/services/{}/apply?{}&key={}&sig={}",
            flow.pages,
            self.provider,
            self.service,
            self.query(),
            encoded(key),
            encoded(signature)
        )
    }
}

/// RFC 3986, section 2.1.
fn encoded(value: &str) -> String {
    let mut text = String::new();
    for byte in value.bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) {
            text.push(char::from(byte));
        } else {
            text.push_str(&format!("%{byte:02X}"));
        }
    }
    text
}

/// The TXT records that publish a key under its label: numbered parts of its DER in base64.
pub fn key_texts(base64: &str) -> Vec<String> {
    const PART: usize = 180;
    let parts = base64.as_bytes().chunks(PART).enumerate();
    parts
        .map(|(place, part)| format!("p={},a=RS256,d={}", place + 1, String::from_utf8_lossy(part)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::one_click::template::{Provider, Template, TemplateRecord};
    use crate::test;

    fn asked(host: &str) -> Apply {
        let sheet = test::sheet(host);
        Apply::of(
            &sheet,
            &test::ingress(),
            "onswick",
            "abcd",
            &test::platform(),
            "https://d.example/h?a=b",
            "s 1",
        )
        .expect("no wildcard")
    }

    #[test]
    fn a_host_is_asked_for_under_its_zone_and_what_is_signed_is_what_is_sent() {
        let apply = asked("timetable.onswick.example");
        assert_eq!(
            apply.query(),
            "domain=onswick.example&host=timetable&token=abcd&site=onswick&\
             redirect_uri=https%3A%2F%2Fd.example%2Fh%3Fa%3Db&state=s%201"
        );
        let flow = Flow { pages: "https://connect.harrowdns.example".into(), api: String::new() };
        let url = apply.url(&flow, "k1", "a+b/c=");
        assert!(url.starts_with(
            "https://connect.harrowdns.example/v2/domainTemplates/providers/quaymark.example/services/harbour-host/apply?domain="
        ));
        assert!(url.ends_with("&key=k1&sig=a%2Bb%2Fc%3D"), "{url}");
        assert_eq!(asked("onswick.example").query().matches("host=").count(), 0);
    }

    #[test]
    fn a_template_has_the_records_of_the_sheet() {
        let provider = Provider {
            name: "Quaymark".into(),
            key_domain: "keys.quaymark.example".into(),
            redirect_host: "d.example".into(),
        };
        let of = |shape| Template::of(&test::ingress(), shape, &test::platform(), &provider);
        let host = serde_json::to_value(of(Shape::Host)).expect("JSON");
        assert_eq!(host["serviceId"], "harbour-host");
        assert_eq!(host["records"][0]["host"], "_quaymark-challenge");
        assert_eq!(host["records"][0]["data"], "token=%token%");
        assert_eq!(host["records"][0]["txtConflictMatchingMode"], "Prefix");
        assert_eq!(host["records"][1]["type"], "CNAME");
        assert_eq!(host["records"][1]["pointsTo"], "%site%.edge.quaymark.example");
        assert_eq!(host["hostRequired"], true);
        let apex = of(Shape::Apex);
        let addresses = apex.records.iter().filter(|record| !matches!(record, TemplateRecord::Txt { .. }));
        assert_eq!(addresses.count(), 3);
    }

    #[test]
    fn a_key_is_published_in_numbered_parts() {
        let texts = key_texts(&"x".repeat(392));
        assert_eq!(texts.len(), 3);
        assert!(texts[2].starts_with("p=3,a=RS256,d="));
        assert!(texts.iter().all(|text| text.len() <= 255), "each fits one string");
    }
}
