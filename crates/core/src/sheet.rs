//! The sheet: exactly what a customer must publish for one domain.

use serde::{Deserialize, Serialize};

use crate::gate::GateName;
use crate::hostname::Hostname;
use crate::ingress::{Ingress, Platform};
use crate::names;
use crate::reading::{RecordData, RecordType};
use crate::token::Token;

/// TTL that the sheet asks for, in seconds: short, so that a mistake is
/// forgotten soon.
pub const SHEET_TTL: u32 = 300;

/// What a line is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Purpose {
    /// Proves that the account controls the domain.
    Ownership,
    /// Brings visitors to the platform.
    Routing,
}

impl Purpose {
    /// The gate that this line opens.
    pub fn gate(self) -> GateName {
        match self {
            Self::Ownership => GateName::Ownership,
            Self::Routing => GateName::Routing,
        }
    }
}

/// One record to publish.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Line {
    /// What it is for.
    pub purpose: Purpose,
    /// Record type.
    pub rtype: RecordType,
    /// Full owner name.
    pub owner: String,
    /// What goes into the host box of an editor that adds the zone by itself.
    pub host_field: String,
    /// What goes into the value box.
    pub value: String,
    /// Seconds.
    pub ttl: u32,
}

impl Line {
    /// Whether a record read at the owner is the one this line asks for.
    pub fn is_met_by(&self, data: &RecordData) -> bool {
        match data {
            RecordData::A(a) => self.rtype == RecordType::A && self.value == a.to_string(),
            RecordData::Aaaa(a) => self.rtype == RecordType::Aaaa && self.value == a.to_string(),
            RecordData::Cname(name) => self.rtype == RecordType::Cname && &self.value == name,
            RecordData::Txt(text) => self.rtype == RecordType::Txt && &self.value == text,
            _ => false,
        }
    }
}

/// The lines for one domain, and what they were drawn from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sheet {
    /// The domain.
    pub host: Hostname,
    /// The zone that the host fields are relative to.
    pub zone: String,
    /// Whether the domain is the zone's apex.
    pub apex: bool,
    /// Where the token goes.
    pub challenge: String,
    /// What a subdomain points at.
    pub canonical: String,
    /// In the order in which to publish them.
    pub lines: Vec<Line>,
}

impl Sheet {
    /// Draws the sheet for `host` in `zone`: the TXT token, then a CNAME for a
    /// subdomain, or every address of the ingress for an apex (where RFC 1034,
    /// section 3.6.2, allows no CNAME).
    pub fn draw(
        platform: &Platform,
        host: &Hostname,
        zone: &str,
        token: &Token,
        ingress: &Ingress,
        site: &str,
    ) -> Self {
        let challenge = platform.challenge_name(host.as_str());
        let canonical = ingress.canonical.for_site(site);
        let apex = host.as_str() == zone;
        let line = |purpose, rtype, owner: &str, value: String| Line {
            purpose,
            rtype,
            owner: owner.to_owned(),
            host_field: names::relative(owner, zone),
            value,
            ttl: SHEET_TTL,
        };
        let routing = |rtype, value| line(Purpose::Routing, rtype, host.as_str(), value);
        let mut lines = vec![line(Purpose::Ownership, RecordType::Txt, &challenge, token.txt_value())];
        if apex {
            lines.extend(ingress.ipv4.iter().map(|a| routing(RecordType::A, a.to_string())));
            lines.extend(ingress.ipv6.iter().map(|a| routing(RecordType::Aaaa, a.to_string())));
        } else {
            lines.push(routing(RecordType::Cname, canonical.clone()));
        }
        Self { host: host.clone(), zone: zone.to_owned(), apex, challenge, canonical, lines }
    }

    /// Lines of one purpose.
    pub fn of(&self, purpose: Purpose) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(move |l| l.purpose == purpose)
    }

    /// The host box for a name of this zone.
    pub fn host_field(&self, owner: &str) -> String {
        names::relative(owner, &self.zone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test as testing;

    fn rows(host: &str) -> Vec<String> {
        let sheet = testing::sheet(host);
        let row = |l: &super::Line| format!("{} {} {}", l.rtype, l.host_field, l.value);
        sheet.lines.iter().map(row).collect()
    }

    #[test]
    fn a_subdomain_gets_a_token_and_a_cname() {
        assert_eq!(
            rows("timetable.onswick.example"),
            [
                "TXT _quaymark-challenge.timetable token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h",
                "CNAME timetable onswick.edge.quaymark.example",
            ]
        );
    }

    #[test]
    fn an_apex_gets_every_address() {
        assert_eq!(rows("onswick.example")[1..], ["A @ 127.77.0.10", "A @ 127.77.0.11", "AAAA @ ::1"]);
    }

    #[test]
    fn a_line_is_met_by_its_very_record_in_any_spelling() {
        let sheet = testing::sheet("onswick.example");
        let line = |rtype| sheet.lines.iter().find(|l| l.rtype == rtype).expect("a line");
        let aaaa = |text: &str| RecordData::Aaaa(text.parse().expect("valid"));
        assert!(line(RecordType::Aaaa).is_met_by(&aaaa("0:0::1")));
        assert!(!line(RecordType::Aaaa).is_met_by(&aaaa("::2")));
        assert!(line(RecordType::A).is_met_by(&RecordData::A([127, 77, 0, 10].into())));
        assert!(
            !line(RecordType::A).is_met_by(&RecordData::A([127, 77, 0, 11].into())),
            "that is another line"
        );
        let token = testing::token().txt_value();
        assert!(line(RecordType::Txt).is_met_by(&RecordData::Txt(token.clone())));
        assert!(!line(RecordType::Txt).is_met_by(&RecordData::Txt(token.to_uppercase())));
        assert!(!line(RecordType::Txt).is_met_by(&RecordData::Cname(token)));
    }

    #[test]
    fn the_zone_decides_what_goes_in_the_host_box() {
        let host = Hostname::parse("a.b.onswick.example").expect("valid");
        for (zone, want) in
            [("onswick.example", "a.b"), ("b.onswick.example", "a"), ("a.b.onswick.example", "@")]
        {
            let domain = testing::domain(host.as_str());
            let sheet = domain.sheet(&testing::platform(), zone);
            assert_eq!(sheet.host_field(host.as_str()), want);
            assert_eq!(sheet.apex, want == "@");
            assert_eq!(sheet.of(Purpose::Ownership).count(), 1);
        }
    }
}
