//! How DNS editors want a line typed, and the book that knows it by operator.
//!
//! The book is a TOML file. Each operator is one table:
//!
//! ```toml
//! [[operator]]
//! name = "Harrow DNS"
//! servers = ["harrowdns.example"]   # suffixes of its name servers
//! host = "relative"                 # relative | full
//! apex = "at"                       # at | blank | full
//! dot = false                       # whether a full name ends in a dot
//! flattens = true                   # whether it takes an alias at the apex
//! lowest_ttl = 60                   # seconds
//! editor = "https://dns.harrowdns.example/zones/{zone}"   # where its customers edit records
//! ```

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::reading::record::RecordData;

/// What the host box takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum HostStyle {
    /// The name without the zone, which the editor adds.
    #[default]
    Relative,
    /// The whole name.
    Full,
}

/// What the host box takes for the zone itself.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum ApexStyle {
    /// `@`, as in master files (RFC 1035, section 5.1).
    #[default]
    At,
    /// Nothing.
    Blank,
    /// The zone's own name.
    Full,
}

/// How one operator's editor wants a line typed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Form {
    /// The operator's name, for people.
    pub name: String,
    /// Suffixes of the names of its servers.
    pub servers: Vec<DnsName>,
    /// What the host box takes.
    #[serde(default)]
    pub host: HostStyle,
    /// What it takes for the zone itself.
    #[serde(default)]
    pub apex: ApexStyle,
    /// Whether a full name, in host or value, ends in a dot.
    #[serde(default)]
    pub dot: bool,
    /// Whether it publishes the addresses of an alias at the apex.
    #[serde(default)]
    pub flattens: bool,
    /// Lowest TTL that it takes, in seconds.
    #[serde(default)]
    pub lowest_ttl: u32,
    /// Where its customers edit records: an HTTPS URL, in which `{zone}` stands for the zone.
    #[serde(default)]
    pub editor: Option<String>,
}

impl Form {
    /// What to type into the host box for `owner` in `zone`.
    pub fn host_field(&self, owner: &str, zone: &str) -> String {
        if owner == zone {
            return match self.apex {
                ApexStyle::At => "@".into(),
                ApexStyle::Blank => String::new(),
                ApexStyle::Full => self.full(owner),
            };
        }
        match self.host {
            HostStyle::Full => self.full(owner),
            HostStyle::Relative => dns::relative(owner, zone),
        }
    }

    /// What to type into the value box for a record.
    pub fn value_field(&self, data: &RecordData) -> String {
        match data {
            RecordData::Cname(name) | RecordData::Dname(name) | RecordData::Ns(name) => self.full(name),
            RecordData::Mx { preference, exchange } => format!("{preference} {}", self.full(exchange)),
            other => other.to_string(),
        }
    }

    /// Whether a name server is one of this operator's.
    fn runs(&self, server: &str) -> bool {
        self.servers.iter().any(|suffix| dns::is_within(server, suffix))
    }

    fn full(&self, name: &str) -> String {
        if self.dot { format!("{name}.") } else { name.to_owned() }
    }
}

/// The book of operators.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Book {
    #[serde(default, rename = "operator")]
    operators: Vec<Form>,
}

/// Why a book cannot be read.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum BookError {
    /// The file is not TOML of the right shape; the message has the line.
    #[error("The book of operators cannot be read: {0}")]
    Shape(#[from] toml::de::Error),
    /// An operator without server suffixes would never be met.
    #[error("The operator {0} has no servers. List the suffixes of its name servers.")]
    NoServers(String),
    /// A link that is no HTTPS URL would be shown to customers.
    #[error("The editor of {0} is no HTTPS URL. Give one, such as https://dns.harrowdns.example/{{zone}}.")]
    NoLink(String),
}

impl Book {
    /// Reads a book.
    ///
    /// # Errors
    /// [`BookError`] names the operator or the line.
    pub fn parse(text: &str) -> Result<Self, BookError> {
        let book: Self = toml::from_str(text)?;

        for form in &book.operators {
            if form.servers.iter().all(DnsName::is_root) {
                return Err(BookError::NoServers(form.name.clone()));
            }
            if form.editor.as_ref().is_some_and(|editor| !editor.starts_with("https://")) {
                return Err(BookError::NoLink(form.name.clone()));
            }
        }
        Ok(book)
    }

    /// The form of whoever runs all of `servers`; a zone with servers of two
    /// operators has two editors, so none is assumed.
    pub fn find<'a>(&'a self, servers: impl IntoIterator<Item = &'a str>) -> Option<&'a Form> {
        let names: Vec<_> = servers.into_iter().collect();
        if names.is_empty() {
            return None;
        }
        self.operators.iter().find(|form| names.iter().all(|name| form.runs(name)))
    }

    /// Who runs all of `servers`: an operator of the book by its name, anybody else by
    /// the registered domain that its servers are in. Nobody, where there are several.
    pub fn operator_of<'a>(&self, servers: impl IntoIterator<Item = &'a str>) -> Option<String> {
        let names: Vec<_> = servers.into_iter().collect();
        if let Some(form) = self.find(names.iter().copied()) {
            return Some(form.name.clone());
        }

        let mut domains = names.into_iter().map(|name| Hostname::kept(name).registered().to_owned());
        let first = domains.next()?;
        domains.all(|other| other == first).then_some(first)
    }

    /// Every operator.
    pub fn operators(&self) -> &[Form] {
        &self.operators
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BOOK: &str = r#"
        [[operator]]
        name = "Harrow DNS"
        servers = ["HarrowDNS.example."]
        flattens = true
        lowest_ttl = 60

        [[operator]]
        name = "Tidewell"
        servers = ["tidewell.test"]
        host = "full"
        apex = "blank"
        dot = true
    "#;

    #[test]
    fn the_operator_is_known_by_all_of_its_servers() {
        let book = Book::parse(BOOK).expect("reads");
        let name = |servers: &[&'static str]| book.find(servers.iter().copied()).map(|f| f.name.as_str());
        assert_eq!(name(&["ns1.harrowdns.example", "ns2.harrowdns.example"]), Some("Harrow DNS"));
        assert_eq!(name(&["ns1.harrowdns.example", "ns1.tidewell.test"]), None);
        assert_eq!(name(&["ns1.notharrowdns.example"]), None);
        assert_eq!(name(&[]), None);
    }

    #[test]
    fn an_operator_of_no_book_is_known_by_the_domain_of_its_servers() {
        let book = Book::parse(BOOK).expect("reads");
        let name = |servers: &[&'static str]| book.operator_of(servers.iter().copied());
        assert_eq!(name(&["ns1.harrowdns.example"]).as_deref(), Some("Harrow DNS"));
        assert_eq!(name(&["a.ns.pinedns.test", "b.ns.pinedns.test"]).as_deref(), Some("pinedns.test"));
        assert_eq!(name(&["a.pinedns.test", "b.otherdns.test"]), None);
        assert_eq!(name(&[]), None);
    }

    #[test]
    fn each_style_types_the_same_name_its_own_way() {
        let book = Book::parse(BOOK).expect("reads");
        let [harrow, tidewell] = book.operators() else { panic!("two operators") };
        let zone = "onswick.example";
        assert_eq!(harrow.host_field("www.onswick.example", zone), "www");
        assert_eq!(harrow.host_field(zone, zone), "@");
        assert_eq!(tidewell.host_field("www.onswick.example", zone), "www.onswick.example.");
        assert_eq!(tidewell.host_field(zone, zone), "");
        let target = RecordData::Cname("edge.quaymark.example".into());
        assert_eq!(tidewell.value_field(&target), "edge.quaymark.example.");
        assert_eq!(harrow.value_field(&target), "edge.quaymark.example");
    }

    #[test]
    fn a_book_that_cannot_work_says_why() {
        let wrong = Book::parse("[[operator]]\nname = \"A\"\nservers = []").expect_err("no servers");
        assert_eq!(wrong, BookError::NoServers("A".into()));
        let wrong =
            Book::parse("[[operator]]\nname = \"A\"\nservers = [\"a.test\"]\neditor = \"javascript:x\"");
        assert_eq!(wrong.expect_err("no link"), BookError::NoLink("A".into()));
        let wrong = Book::parse("[[operator]]\nname = \"A\"\nhosts = 1").expect_err("unknown field");
        assert!(wrong.to_string().contains("line 3"), "{wrong}");
    }
}
