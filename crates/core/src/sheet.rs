//! The sheet: exactly what a customer must publish for one domain.

use serde::{Deserialize, Serialize};

use crate::domain::Domain;
use crate::form::Form;
use crate::gate::GateName;
use crate::hostname::{Hostname, Subject};
use crate::ingress::Platform;
use crate::names;
use crate::reading::{RecordData, RecordType};

/// TTL that the sheet asks for, in seconds: short, so that a mistake is
/// forgotten soon.
pub const SHEET_TTL: u32 = 300;

/// What a line is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Purpose {
    /// Proves that the account controls the domain.
    Ownership,
    /// Brings visitors to the platform.
    Routing,
    /// Lets the platform prove control to the certification authority.
    Certificate,
}

impl Purpose {
    /// The gate that this line opens.
    pub fn gate(self) -> GateName {
        match self {
            Self::Ownership => GateName::Ownership,
            Self::Routing => GateName::Routing,
            Self::Certificate => GateName::Certificate,
        }
    }
}

/// A way to serve a purpose; where there are several, one of them is enough.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Way {
    /// The token in a TXT record at the challenge label.
    ChallengeTxt,
    /// A CNAME at the challenge label to a name that holds the token.
    ChallengeCname,
    /// The token in a TXT record at the host itself.
    HostTxt,
    /// A CNAME to the canonical host.
    Cname,
    /// Every address of the ingress, and no other.
    Addresses,
    /// An alias at the apex, which the DNS editor turns into addresses.
    Alias,
    /// The whole zone at the platform's name servers.
    Delegation,
    /// A CNAME of the CA's own challenge label (RFC 8555, section 8.4).
    AcmeCname,
}

impl Way {
    /// The heading of this choice.
    pub fn words(self) -> &'static str {
        match self {
            Self::ChallengeTxt => "a TXT record at the challenge label",
            Self::ChallengeCname => "a CNAME at the challenge label",
            Self::HostTxt => "a TXT record at the host, where the editor refuses underscores",
            Self::Cname => "a CNAME record",
            Self::Addresses => "all of these addresses, and no others",
            Self::Alias => "an alias at the apex, where the editor offers one",
            Self::Delegation => "the whole zone at these name servers, set at the registrar",
            Self::AcmeCname => "a CNAME for the certificate",
        }
    }
}

/// One record to publish.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Line {
    /// What it is for.
    pub purpose: Purpose,
    /// The choice that it belongs to; all lines of one choice go together.
    pub way: Way,
    /// Record type.
    pub rtype: RecordType,
    /// Full owner name.
    pub owner: String,
    /// What goes into the host box; the short host where the editor is unknown.
    pub host_field: String,
    /// The value, as compared with what is read.
    pub value: String,
    /// What goes into the value box.
    pub value_field: String,
    /// Seconds.
    pub ttl: u32,
    /// Whether there is no other choice for this purpose.
    pub required: bool,
}

impl Line {
    /// Whether a record read at the owner is the one this line asks for.
    pub fn is_met_by(&self, data: &RecordData) -> bool {
        match data {
            RecordData::A(a) => self.rtype == RecordType::A && self.value == a.to_string(),
            RecordData::Aaaa(a) => self.rtype == RecordType::Aaaa && self.value == a.to_string(),
            RecordData::Cname(name) => self.rtype == RecordType::Cname && &self.value == name,
            RecordData::Txt(text) => self.rtype == RecordType::Txt && &self.value == text,
            RecordData::Ns(name) => self.rtype == RecordType::Ns && &self.value == name,
            _ => false,
        }
    }

    /// The type as DNS editors name it: an alias has no type of its own.
    pub fn type_words(&self) -> String {
        if self.way == Way::Alias { "ALIAS".into() } else { self.rtype.to_string() }
    }

    /// The record as data; `None` for what is no record of this zone.
    pub fn data(&self) -> Option<RecordData> {
        match self.rtype {
            _ if matches!(self.way, Way::Alias | Way::Delegation) => None,
            RecordType::A => self.value.parse().ok().map(RecordData::A),
            RecordType::Aaaa => self.value.parse().ok().map(RecordData::Aaaa),
            RecordType::Cname => Some(RecordData::Cname(self.value.clone())),
            RecordType::Txt => Some(RecordData::Txt(self.value.clone())),
            _ => None,
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
    /// Where routing records stand: the host, or `*.` and the host.
    pub routed: String,
    /// Where the token goes.
    pub challenge: String,
    /// What a subdomain points at.
    pub canonical: String,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// By purpose, the preferred choice first.
    pub lines: Vec<Line>,
}

impl Sheet {
    /// Draws the sheet for `domain` in `zone`, with every choice that DNS, the
    /// ingress and the editor leave open. An apex has no CNAME (RFC 1034,
    /// section 3.6.2); a host with a CNAME has no TXT beside it.
    pub fn draw(domain: &Domain, platform: &Platform, zone: &str) -> Self {
        let host = domain.host.as_str();
        let mut sheet = Self {
            host: domain.host.clone(),
            zone: zone.to_owned(),
            apex: domain.routed() == zone,
            routed: domain.routed(),
            challenge: platform.challenge_name(host),
            canonical: domain.ingress.canonical.for_site(&domain.site),
            form: domain.form.clone(),
            lines: Vec::new(),
        };
        sheet.draw_ownership(domain, platform);
        sheet.draw_routing(domain);
        if let (true, Some(acme)) = (domain.wildcard || platform.dns_for_all, &platform.acme_zone) {
            let (owner, value) = (format!("_acme-challenge.{host}"), format!("{host}.{acme}"));
            sheet.add(Purpose::Certificate, Way::AcmeCname, RecordType::Cname, &owner, value);
        }
        for purpose in [Purpose::Ownership, Purpose::Routing, Purpose::Certificate] {
            let required = sheet.ways(purpose).len() == 1;
            let lines = sheet.lines.iter_mut().filter(|l| l.purpose == purpose);
            lines.for_each(|line| line.required = required);
        }
        sheet
    }

    fn draw_ownership(&mut self, domain: &Domain, platform: &Platform) {
        let (challenge, token) = (self.challenge.clone(), domain.token.txt_value());
        self.add(Purpose::Ownership, Way::ChallengeTxt, RecordType::Txt, &challenge, token.clone());
        if let Some(zone) = &platform.proof_zone {
            let value = format!("{}.{zone}", domain.token.as_str());
            self.add(Purpose::Ownership, Way::ChallengeCname, RecordType::Cname, &challenge, value);
        }
        if self.apex || domain.wildcard {
            self.add(Purpose::Ownership, Way::HostTxt, RecordType::Txt, domain.host.as_str(), token);
        }
    }

    fn draw_routing(&mut self, domain: &Domain) {
        let (canonical, routed) = (self.canonical.clone(), self.routed.clone());
        let flattens = self.form.as_ref().is_some_and(|form| form.flattens);
        if !self.apex {
            self.add(Purpose::Routing, Way::Cname, RecordType::Cname, &routed, canonical.clone());
        }
        if self.apex && flattens {
            self.add(Purpose::Routing, Way::Alias, RecordType::Cname, &routed, canonical.clone());
        }
        if self.apex || domain.ingress.subdomain_addresses {
            for address in &domain.ingress.ipv4 {
                self.add(Purpose::Routing, Way::Addresses, RecordType::A, &routed, address.to_string());
            }
            for address in &domain.ingress.ipv6 {
                self.add(Purpose::Routing, Way::Addresses, RecordType::Aaaa, &routed, address.to_string());
            }
        }
        if self.apex && !flattens && self.form.is_none() {
            self.add(Purpose::Routing, Way::Alias, RecordType::Cname, &routed, canonical);
        }
        if self.apex {
            for server in &domain.ingress.name_servers {
                self.add(Purpose::Routing, Way::Delegation, RecordType::Ns, &routed, server.clone());
            }
        }
    }

    fn add(&mut self, purpose: Purpose, way: Way, rtype: RecordType, owner: &str, value: String) {
        let is_name = matches!(rtype, RecordType::Cname | RecordType::Ns);
        let value_field = match &self.form {
            Some(form) if is_name => form.name_value(&value),
            _ => value.clone(),
        };
        let ttl = self.form.as_ref().map_or(SHEET_TTL, |form| SHEET_TTL.max(form.lowest_ttl));
        let (owner, host_field) = (owner.to_owned(), self.host_field(owner));
        self.lines.push(Line {
            purpose,
            way,
            rtype,
            owner,
            host_field,
            value,
            value_field,
            ttl,
            required: false,
        });
    }

    /// What the sheet is for.
    pub fn subject(&self) -> Subject {
        Subject { host: self.host.clone(), wildcard: self.routed.starts_with("*.") }
    }

    /// Lines of one purpose, all choices.
    pub fn of(&self, purpose: Purpose) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(move |l| l.purpose == purpose)
    }

    /// The choices for one purpose, the preferred one first.
    pub fn ways(&self, purpose: Purpose) -> Vec<Way> {
        let mut ways: Vec<Way> = self.of(purpose).map(|l| l.way).collect();
        ways.dedup();
        ways
    }

    /// Lines of one choice.
    pub fn by(&self, way: Way) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(move |l| l.way == way)
    }

    /// Lines of the preferred choice for one purpose.
    pub fn preferred(&self, purpose: Purpose) -> impl Iterator<Item = &Line> {
        let first = self.ways(purpose).first().copied();
        self.of(purpose).filter(move |l| Some(l.way) == first)
    }

    /// The host box for a name of this zone.
    pub fn host_field(&self, owner: &str) -> String {
        match &self.form {
            Some(form) => form.host_field(owner, &self.zone),
            None => names::relative(owner, &self.zone),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::form::Book;
    use crate::test as testing;

    fn rows(sheet: &Sheet) -> Vec<String> {
        let row = |l: &Line| {
            format!("{:?} {} {} {}", l.way, l.type_words(), l.host_field, l.value_field)
                .replace("u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h", "TOKEN")
        };
        sheet.lines.iter().map(row).collect()
    }

    #[test]
    fn a_subdomain_gets_a_token_and_a_cname_or_the_addresses() {
        let sheet = testing::sheet("timetable.onswick.example");
        assert_eq!(
            rows(&sheet),
            [
                "ChallengeTxt TXT _quaymark-challenge.timetable token=TOKEN",
                "ChallengeCname CNAME _quaymark-challenge.timetable TOKEN.proof.quaymark.example",
                "Cname CNAME timetable onswick.edge.quaymark.example",
                "Addresses A timetable 127.77.0.10",
                "Addresses A timetable 127.77.0.11",
                "Addresses AAAA timetable ::1",
            ]
        );
        assert!(sheet.lines.iter().all(|l| !l.required), "each purpose has a choice");
        assert_eq!(sheet.preferred(Purpose::Routing).count(), 1);
    }

    #[test]
    fn an_apex_gets_every_address_an_alias_or_a_delegation_and_no_cname() {
        let sheet = testing::sheet("onswick.example");
        assert_eq!(
            rows(&sheet)[2..],
            [
                "HostTxt TXT @ token=TOKEN",
                "Addresses A @ 127.77.0.10",
                "Addresses A @ 127.77.0.11",
                "Addresses AAAA @ ::1",
                "Alias ALIAS @ onswick.edge.quaymark.example",
                "Delegation NS @ ns1.quaymark.example",
                "Delegation NS @ ns2.quaymark.example",
            ]
        );
        assert_eq!(sheet.preferred(Purpose::Routing).count(), 3);
    }

    #[test]
    fn where_the_ingress_allows_nothing_else_the_cname_is_required() {
        let mut domain = testing::domain("timetable.onswick.example");
        domain.ingress.subdomain_addresses = false;
        let sheet = domain.sheet(&testing::platform(), "onswick.example");
        assert_eq!(sheet.ways(Purpose::Routing), [Way::Cname]);
        assert!(sheet.of(Purpose::Routing).all(|l| l.required));
    }

    #[test]
    fn a_wildcard_stands_at_its_asterisk_and_delegates_the_cas_own_challenge() {
        let mut domain = testing::domain("lines.onswick.example");
        domain.wildcard = true;
        let sheet = domain.sheet(&testing::platform(), "onswick.example");
        let rows = rows(&sheet);
        assert!(rows.contains(&"Cname CNAME *.lines onswick.edge.quaymark.example".to_owned()), "{rows:?}");
        assert!(rows.contains(
            &"AcmeCname CNAME _acme-challenge.lines lines.onswick.example.acme.quaymark.example".to_owned()
        ));
        assert_eq!(sheet.by(Way::HostTxt).count(), 1, "nothing else stands at the host");
    }

    #[test]
    fn the_editors_form_decides_how_a_line_is_typed_and_which_choice_comes_first() {
        let book = Book::parse(
            "[[operator]]\nname = \"T\"\nservers = [\"tidewell.test\"]\nhost = \"full\"\napex = \"blank\"\n\
             dot = true\nflattens = true\nlowest_ttl = 900",
        );
        let mut domain = testing::domain("onswick.example");
        domain.form = book.expect("reads").operators().first().cloned();
        let sheet = domain.sheet(&testing::platform(), "onswick.example");
        let rows = rows(&sheet);
        assert_eq!(rows[0], "ChallengeTxt TXT _quaymark-challenge.onswick.example. token=TOKEN");
        assert_eq!(rows[3], "Alias ALIAS  onswick.edge.quaymark.example.");
        assert_eq!(sheet.lines[0].ttl, 900);
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
        }
    }
}
