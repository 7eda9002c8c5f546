//! The sheet: exactly what a customer must publish for one domain.

pub mod form;
pub mod ingress;
pub mod line;
pub mod rendering;

use serde::{Deserialize, Serialize};

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::name::platform::{ACME_LABEL, Platform};
use crate::name::subject::Subject;
use crate::name::token::Token;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::form::Form;
use crate::sheet::ingress::Ingress;
use crate::sheet::line::{Choice, Line, Purpose};

/// TTL that the sheet asks for, in seconds: short, so that a mistake is
/// forgotten soon.
pub const SHEET_TTL: u32 = 300;

/// Where a token is published.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ProofAt {
    /// At the host.
    #[default]
    Host,
    /// At the apex of its zone, for every name there that the account claims.
    Zone,
}

/// What a sheet is drawn for.
#[derive(Clone, Debug)]
pub struct Brief<'a> {
    /// The name, or every name under it.
    pub subject: Subject,
    /// What stands for the site in a canonical host.
    pub site: &'a str,
    /// Where the token is published.
    pub proof_at: ProofAt,
    /// The ingress of that site.
    pub ingress: &'a Ingress,
    /// The verification token.
    pub token: &'a Token,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<&'a Form>,
}

/// The lines for one domain, and what they were drawn from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sheet {
    /// The domain.
    pub host: Hostname,
    /// The zone that the host fields are relative to.
    pub zone: DnsName,
    /// Whether the domain is the zone's apex.
    pub apex: bool,
    /// Where routing records stand: the host, or `*.` and the host.
    pub routed: DnsName,
    /// Where the token goes.
    pub challenge: DnsName,
    /// What a subdomain points at.
    pub canonical: DnsName,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// By purpose, the preferred choice first.
    pub lines: Vec<Line>,
}

impl Sheet {
    /// Draws the sheet for `brief` in `zone`, with every choice that DNS, the
    /// ingress and the editor leave open. An apex has no CNAME (RFC 1034,
    /// section 3.6.2); a host with a CNAME has no TXT beside it.
    ///
    /// ```
    /// use nomenta_core::name::{platform::Platform, subject::Subject, token::Token};
    /// use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
    /// use nomenta_core::sheet::{Brief, Sheet};
    ///
    /// let platform = Platform {
    ///     zone: "quaymark.example".into(),
    ///     brand: "quaymark".into(),
    ///     proof_zone: None,
    ///     acme_zone: None,
    ///     dns_for_all: false,
    ///     special_use: Vec::new(),
    ///     reserved: Vec::new(),
    /// };
    /// let ingress = Ingress {
    ///     name: "harbour".into(),
    ///     revision: 1,
    ///     ipv4: ["127.77.0.10".parse().unwrap()].into(),
    ///     ipv6: Default::default(),
    ///     canonical: CanonicalHost::parse("{site}.edge.quaymark.example").unwrap(),
    ///     name_servers: Default::default(),
    ///     subdomain_addresses: true,
    /// };
    /// let brief = Brief {
    ///     subject: Subject::parse("timetable.onswick.example").unwrap(),
    ///     site: "onswick",
    ///     proof_at: Default::default(),
    ///     ingress: &ingress,
    ///     token: &Token::from_random([7; 20]),
    ///     form: None,
    /// };
    ///
    /// let sheet = Sheet::draw(&brief, &platform, &"onswick.example".into());
    /// let best = &sheet.lines[1];
    /// assert_eq!((best.rtype.as_str(), best.host_field.as_str()), ("CNAME", "timetable"));
    /// assert_eq!(best.value, "onswick.edge.quaymark.example");
    /// ```
    pub fn draw(brief: &Brief<'_>, platform: &Platform, zone: &DnsName) -> Self {
        let host = &brief.subject.host;
        let routed = brief.subject.routed();
        let proved = match brief.proof_at {
            ProofAt::Host => DnsName::from(host),
            ProofAt::Zone => zone.clone(),
        };
        let mut sheet = Self {
            host: host.clone(),
            zone: zone.clone(),
            apex: routed == *zone,
            routed,
            challenge: platform.challenge_name(&proved),
            canonical: brief.ingress.canonical.for_site(brief.site),
            form: brief.form.cloned(),
            lines: Vec::new(),
        };

        sheet.draw_ownership(brief, platform, proved);
        sheet.draw_routing(brief);
        sheet.draw_certificate(brief, platform);

        for purpose in Purpose::ALL {
            let required = sheet.choices(*purpose).len() == 1;
            let lines = sheet.lines.iter_mut().filter(|l| l.purpose == *purpose);
            lines.for_each(|line| line.required = required);
        }
        sheet
    }

    /// `proved` is the name that the token is for.
    fn draw_ownership(&mut self, brief: &Brief<'_>, platform: &Platform, proved: DnsName) {
        let challenge = self.challenge.clone();
        let token = RecordData::Txt(brief.token.txt_value().as_str().into());
        self.add(Purpose::Ownership, Choice::ChallengeTxt, challenge.clone(), &token);

        if let Some(zone) = &platform.proof_zone {
            let proof = RecordData::Cname(zone.child(brief.token.as_str()));
            self.add(Purpose::Ownership, Choice::ChallengeCname, challenge, &proof);
        }
        // A host with a CNAME has no TXT beside it.
        if self.routed != proved || self.apex {
            self.add(Purpose::Ownership, Choice::HostTxt, proved, &token);
        }
    }

    fn draw_routing(&mut self, brief: &Brief<'_>) {
        let canonical = RecordData::Cname(self.canonical.clone());
        // An editor that is known not to flatten has no use for an alias.
        let flattens = self.form.as_ref().map(|form| form.flattens);

        if !self.apex {
            self.add(Purpose::Routing, Choice::Cname, self.routed.clone(), &canonical);
        }
        if self.apex && flattens == Some(true) {
            self.add(Purpose::Routing, Choice::Alias, self.routed.clone(), &canonical);
        }
        if self.apex || brief.ingress.subdomain_addresses {
            let four = brief.ingress.ipv4.iter().map(|address| RecordData::A(*address));
            let six = brief.ingress.ipv6.iter().map(|address| RecordData::Aaaa(*address));
            for address in four.chain(six) {
                self.add(Purpose::Routing, Choice::Addresses, self.routed.clone(), &address);
            }
        }
        if self.apex && flattens.is_none() {
            self.add(Purpose::Routing, Choice::Alias, self.routed.clone(), &canonical);
        }
        if self.apex {
            for server in &brief.ingress.name_servers {
                let server = RecordData::Ns(server.clone());
                self.add(Purpose::Routing, Choice::Delegation, self.routed.clone(), &server);
            }
        }
    }

    fn draw_certificate(&mut self, brief: &Brief<'_>, platform: &Platform) {
        let by_dns = brief.subject.wildcard || platform.dns_for_all;
        if let (true, Some(acme)) = (by_dns, &platform.acme_zone) {
            let host = DnsName::from(&brief.subject.host);
            let target = RecordData::Cname(acme.child(&host));
            self.add(Purpose::Certificate, Choice::AcmeCname, host.child(ACME_LABEL), &target);
        }
    }

    fn add(&mut self, purpose: Purpose, choice: Choice, owner: DnsName, data: &RecordData) {
        let value = match data {
            RecordData::Txt(text) => text.to_text(),
            other => other.to_string(),
        };
        self.lines.push(Line {
            purpose,
            choice,
            rtype: data.rtype().unwrap_or(RecordType::Txt),
            host_field: self.host_field(&owner),
            owner,
            value_field: if matches!(data, RecordData::Txt(_)) {
                value.clone()
            } else {
                self.value_field(data)
            },
            value,
            ttl: self.form.as_ref().map_or(SHEET_TTL, |form| SHEET_TTL.max(form.lowest_ttl)),
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
    pub fn choices(&self, purpose: Purpose) -> Vec<Choice> {
        let mut choices = Vec::new();
        for line in self.of(purpose) {
            if !choices.contains(&line.choice) {
                choices.push(line.choice);
            }
        }
        choices
    }

    /// Lines of one choice.
    pub fn by(&self, choice: Choice) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(move |l| l.choice == choice)
    }

    /// Lines of the preferred choice for one purpose.
    pub fn preferred(&self, purpose: Purpose) -> impl Iterator<Item = &Line> {
        let first = self.of(purpose).next().map(|line| line.choice);
        self.of(purpose).filter(move |l| Some(l.choice) == first)
    }

    /// The host box for a name of this zone.
    pub fn host_field(&self, owner: &str) -> String {
        match &self.form {
            Some(form) => form.host_field(owner, &self.zone),
            None => dns::relative(owner, &self.zone),
        }
    }

    /// The value box for a record, as the editor wants it typed; the same
    /// wherever a record is shown to the customer.
    pub fn value_field(&self, data: &RecordData) -> String {
        match &self.form {
            Some(form) => form.value_field(data),
            None => data.to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::form::Book;
    use crate::test as testing;

    fn rows(sheet: &Sheet) -> Vec<String> {
        let row = |l: &Line| {
            format!("{:?} {} {} {}", l.choice, l.editor_type(), l.host_field, l.value_field)
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
        let sheet = domain.sheet(&testing::platform(), &"onswick.example".into(), None);
        assert_eq!(sheet.choices(Purpose::Routing), [Choice::Cname]);
        assert!(sheet.of(Purpose::Routing).all(|l| l.required));
    }

    #[test]
    fn a_wildcard_stands_at_its_asterisk_and_delegates_the_cas_own_challenge() {
        let mut domain = testing::domain("lines.onswick.example");
        domain.wildcard = true;
        let sheet = domain.sheet(&testing::platform(), &"onswick.example".into(), None);
        let rows = rows(&sheet);
        assert!(rows.contains(&"Cname CNAME *.lines onswick.edge.quaymark.example".to_owned()), "{rows:?}");
        assert!(rows.contains(
            &"AcmeCname CNAME _acme-challenge.lines lines.onswick.example.acme.quaymark.example".to_owned()
        ));
        assert_eq!(sheet.by(Choice::HostTxt).count(), 1, "nothing else stands at the host");
    }

    #[test]
    fn the_editors_form_decides_how_a_line_is_typed_and_which_choice_comes_first() {
        let book = Book::parse(
            "[[operator]]\nname = \"T\"\nservers = [\"tidewell.test\"]\nhost = \"full\"\napex = \"blank\"\n\
             dot = true\nflattens = true\nlowest_ttl = 900",
        );
        let domain = testing::domain("onswick.example");
        let book = book.expect("reads");
        let form = book.operators().first();
        let sheet = domain.sheet(&testing::platform(), &"onswick.example".into(), form);
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
        assert!(line(RecordType::Txt).is_met_by(&RecordData::Txt(token.as_str().into())));
        assert!(!line(RecordType::Txt).is_met_by(&RecordData::Txt(token.to_uppercase().into())));
        assert!(!line(RecordType::Txt).is_met_by(&RecordData::Cname(token.into())));
    }

    #[test]
    fn the_zone_decides_what_goes_in_the_host_box() {
        let host = Hostname::parse("a.b.onswick.example").expect("valid");
        for (zone, want) in
            [("onswick.example", "a.b"), ("b.onswick.example", "a"), ("a.b.onswick.example", "@")]
        {
            let domain = testing::domain(host.as_str());
            let sheet = domain.sheet(&testing::platform(), &zone.into(), None);
            assert_eq!(sheet.host_field(host.as_str()), want);
            assert_eq!(sheet.apex, want == "@");
        }
    }
}
