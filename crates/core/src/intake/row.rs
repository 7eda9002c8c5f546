//! One row of an intake, read as what is wanted.

use thiserror::Error;

use super::table::{Table, TableError, TableRow};
use crate::name::hostname::{HostnameCode, HostnameError};
use crate::name::plain::shown;
use crate::name::platform::Platform;
use crate::name::subject::Subject;

/// Names of the column of the domain.
const HOST: [&str; 2] = ["host", "domain"];
/// Of the column of the site that it will show.
const SITE: [&str; 1] = ["site"];
/// Of the column of the account that the site must be of.
const ACCOUNT: [&str; 1] = ["account"];
/// Of the column that says whether the name with `www.` belongs to it.
const PAIR: [&str; 1] = ["pair"];
/// Of the column that says whether the zone proves it.
const BY_ZONE: [&str; 2] = ["by_zone", "by zone"];

/// Where the columns of an intake stand.
#[derive(Clone, Debug)]
pub struct Columns {
    width: usize,
    host: usize,
    site: usize,
    account: Option<usize>,
    pair: Option<usize>,
    by_zone: Option<usize>,
}

/// What a row asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The name, or the two of a pair, the primary first.
    pub subjects: Vec<Subject>,
    /// The site that it will show.
    pub site: String,
    /// The account that the site must be of, if that is told.
    pub account: Option<String>,
    /// Whether one token at the zone's apex proves it.
    pub is_proved_by_zone: bool,
}

/// Why a row cannot be read as one.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RowFault {
    /// Its name cannot be taken.
    #[error(transparent)]
    Name(#[from] HostnameError),
    /// A wildcard has no other name beside it.
    #[error("A wildcard has no pair. Take the names in one by one.")]
    WildcardPair,
    /// A field that is needed is empty.
    #[error("The field {0} is empty. Fill it in.")]
    Empty(&'static str),
    /// A field has a character that nobody sees.
    #[error(
        "The field {0} has a character in it that is not to be seen. Delete the field, and type it anew."
    )]
    Unseen(&'static str),
    /// A field that is yes or no says something else.
    #[error("The field {column} says {given}, which is neither yes nor no.")]
    NoAnswer {
        /// The column.
        column: &'static str,
        /// What it says, cut for showing.
        given: String,
    },
    /// It has more or fewer fields than there are columns.
    #[error(
        "The row has {has} fields, and the first line names {wants} columns. A comma within a field needs quotation marks around the field."
    )]
    Fields {
        /// How many it has.
        has: usize,
        /// How many there are columns.
        wants: usize,
    },
    /// A field goes on over several lines.
    #[error("The field {0} goes on over several lines. A quotation mark that is opened there is not closed.")]
    Lines(&'static str),
}

impl RowFault {
    /// Why the name was not taken, if it is the name.
    pub fn name_code(&self) -> Option<HostnameCode> {
        match self {
            Self::Name(error) => Some(error.code()),
            _ => None,
        }
    }
}

impl Columns {
    /// Finds the columns of a table.
    ///
    /// # Errors
    /// If that of the host or the site is missing, or one is there twice.
    pub fn of(table: &Table) -> Result<Self, TableError> {
        let needed = |names: &[&'static str]| {
            table.column(names)?.ok_or_else(|| TableError::NoColumn {
                missing: names[0],
                named: table.columns.iter().take(8).map(|name| shown(name)).collect(),
            })
        };

        Ok(Self {
            width: table.columns.len(),
            host: needed(&HOST)?,
            site: needed(&SITE)?,
            account: table.column(&ACCOUNT)?,
            pair: table.column(&PAIR)?,
            by_zone: table.column(&BY_ZONE)?,
        })
    }

    /// The name in a row, as it was typed.
    pub fn host<'a>(&self, row: &'a TableRow) -> &'a str {
        field(row, self.host)
    }

    /// The site in a row, as it was typed.
    pub fn site<'a>(&self, row: &'a TableRow) -> &'a str {
        field(row, self.site)
    }

    /// Reads a row.
    ///
    /// # Errors
    /// Why it cannot be taken, whatever there is already.
    pub fn read(&self, row: &TableRow, platform: &Platform) -> Result<Wanted, RowFault> {
        if self.host(row).contains('\n') {
            return Err(RowFault::Lines(HOST[0]));
        }
        if row.fields.len() != self.width {
            return Err(RowFault::Fields { has: row.fields.len(), wants: self.width });
        }

        let subject = Subject::parse_for(self.host(row), platform)?;
        let subjects = match self.yes(row, self.pair, PAIR[0])? {
            true => pair(subject)?,
            false => vec![subject],
        };

        let site = self.site(row).to_ascii_lowercase();
        if site.is_empty() {
            return Err(RowFault::Empty(SITE[0]));
        }
        let account = self.account.map(|place| field(row, place)).filter(|account| !account.is_empty());
        for (text, column) in [(site.as_str(), SITE[0]), (account.unwrap_or_default(), ACCOUNT[0])] {
            if text.contains(char::is_control) {
                return Err(RowFault::Unseen(column));
            }
        }

        Ok(Wanted {
            subjects,
            site,
            account: account.map(str::to_ascii_lowercase),
            is_proved_by_zone: self.yes(row, self.by_zone, BY_ZONE[0])?,
        })
    }

    /// Whether a row says yes in a column; no where there is none, or nothing in it.
    fn yes(&self, row: &TableRow, place: Option<usize>, column: &'static str) -> Result<bool, RowFault> {
        let given = place.map_or("", |place| field(row, place));
        match given.to_ascii_lowercase().as_str() {
            "yes" | "y" | "true" | "1" => Ok(true),
            "" | "no" | "n" | "false" | "0" => Ok(false),
            _ => Err(RowFault::NoAnswer { column, given: shown(given) }),
        }
    }
}

fn field(row: &TableRow, place: usize) -> &str {
    row.fields.get(place).map_or("", String::as_str)
}

/// A name with the other one of its pair.
fn pair(subject: Subject) -> Result<Vec<Subject>, RowFault> {
    if subject.wildcard {
        return Err(RowFault::WildcardPair);
    }
    let other = Subject { host: subject.host.counterpart()?, wildcard: false };
    Ok(vec![subject, other])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test::platform;

    fn read(columns: &str, row: &str) -> Result<Wanted, RowFault> {
        let table = Table::read(format!("{columns}\n{row}\n").as_bytes(), 10).expect("a table");
        let columns = Columns::of(&table).expect("columns");
        columns.read(&table.rows[0], &platform())
    }

    #[test]
    fn a_row_says_what_is_wanted() {
        let wanted =
            read("note,domain,site,account,pair,by_zone", "x,Onswick.Example.,Onswick,onswick,yes,no");
        let wanted = wanted.expect("a row");
        let names: Vec<_> = wanted.subjects.iter().map(ToString::to_string).collect();
        assert_eq!(names, ["onswick.example", "www.onswick.example"]);
        assert_eq!((wanted.site.as_str(), wanted.account.as_deref()), ("onswick", Some("onswick")));
        assert!(!wanted.is_proved_by_zone);
        let short = read("host,site", "www.onswick.example,onswick").expect("a row");
        assert_eq!((short.subjects.len(), short.account), (1, None));
    }

    #[test]
    fn what_is_wrong_with_a_row_is_told() {
        for (columns, row, want) in [
            ("host,site", "onswick.example,", RowFault::Empty("site")),
            ("host,site", "onswick.example", RowFault::Fields { has: 1, wants: 2 }),
            ("host,site", "onswick.example,a,b", RowFault::Fields { has: 3, wants: 2 }),
            ("host,site,pair", "*.onswick.example,a,yes", RowFault::WildcardPair),
            (
                "host,site,pair",
                "onswick.example,a,maybe",
                RowFault::NoAnswer { column: "pair", given: "maybe".into() },
            ),
            ("host,site", "\"onswick.example,a\nnorsk.example,b", RowFault::Lines("host")),
            ("host,site", "onswick.example,on\0swick", RowFault::Unseen("site")),
            ("host,site,account", "onswick.example,onswick,\u{7f}", RowFault::Unseen("account")),
        ] {
            assert_eq!(read(columns, row), Err(want), "{row}");
        }
        let fault = read("host,site", "192.0.2.7,a").expect_err("an address");
        assert_eq!(fault.name_code(), Some(HostnameCode::Address));
    }

    #[test]
    fn a_table_without_its_columns_is_none() {
        let table = Table::read(b"onswick.example,onswick\nnorsk.example,norsk", 10).expect("a table");
        let error = Columns::of(&table).expect_err("no columns");
        assert!(error.to_string().starts_with("The first line names no column host"), "{error}");
    }
}
