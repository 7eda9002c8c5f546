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
//! ```

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::names;

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
    pub servers: Vec<String>,
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
}

impl Form {
    /// What to type into the host box for `owner` in `zone`.
    pub fn host_field(&self, owner: &str, zone: &str) -> String {
        match (owner == zone, self.apex, self.host) {
            (true, ApexStyle::At, _) => "@".into(),
            (true, ApexStyle::Blank, _) => String::new(),
            (true, ApexStyle::Full, _) | (false, _, HostStyle::Full) => self.full(owner),
            (false, _, HostStyle::Relative) => names::relative(owner, zone),
        }
    }

    /// What to type into the value box for a name.
    pub fn name_value(&self, name: &str) -> String {
        self.full(name)
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
    Shape(String),
    /// An operator without server suffixes would never be met.
    #[error("The operator {0} has no servers. List the suffixes of its name servers.")]
    NoServers(String),
}

impl Book {
    /// Reads a book.
    ///
    /// # Errors
    /// [`BookError`] names the operator or the line.
    pub fn parse(text: &str) -> Result<Self, BookError> {
        let mut book: Self = toml::from_str(text).map_err(|e| BookError::Shape(e.to_string()))?;
        for form in &mut book.operators {
            form.servers.iter_mut().for_each(|s| *s = names::normal(s));
            if form.servers.iter().all(String::is_empty) {
                return Err(BookError::NoServers(form.name.clone()));
            }
        }
        Ok(book)
    }

    /// The form of whoever runs all of `servers`; a zone with servers of two
    /// operators has two editors, so none is assumed.
    pub fn find<'a>(&'a self, servers: impl IntoIterator<Item = &'a str>) -> Option<&'a Form> {
        let mut servers = servers.into_iter().peekable();
        servers.peek()?;
        let names: Vec<_> = servers.collect();
        let runs = |form: &&Form| {
            let covers = |name: &&str| form.servers.iter().any(|s| names::is_within(name, s));
            names.iter().all(covers)
        };
        self.operators.iter().find(runs)
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
    fn each_style_types_the_same_name_its_own_way() {
        let book = Book::parse(BOOK).expect("reads");
        let [harrow, tidewell] = book.operators() else { panic!("two operators") };
        let zone = "onswick.example";
        assert_eq!(harrow.host_field("www.onswick.example", zone), "www");
        assert_eq!(harrow.host_field(zone, zone), "@");
        assert_eq!(tidewell.host_field("www.onswick.example", zone), "www.onswick.example.");
        assert_eq!(tidewell.host_field(zone, zone), "");
        assert_eq!(tidewell.name_value("edge.quaymark.example"), "edge.quaymark.example.");
    }

    #[test]
    fn a_book_that_cannot_work_says_why() {
        let wrong = Book::parse("[[operator]]\nname = \"A\"\nservers = []").expect_err("no servers");
        assert_eq!(wrong, BookError::NoServers("A".into()));
        let wrong = Book::parse("[[operator]]\nname = \"A\"\nhosts = 1").expect_err("unknown field");
        assert!(wrong.to_string().contains("line 3"), "{wrong}");
    }
}
