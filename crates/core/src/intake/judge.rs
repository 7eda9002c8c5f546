//! What becomes of each row, judged in order against what there is.

use std::collections::{HashMap, HashSet};

use super::row::{RowFault, Wanted};
use crate::claim::allowance::Allowance;
use crate::name::hostname::HostnameCode;

crate::spelled! {
    /// What becomes of a row.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum RowResult: "result" {
        /// It is new, and would be taken in.
        New = "new",
        /// It has been taken in.
        TakenIn = "taken-in",
        /// The account has claimed the name already.
        AlreadyThere = "already-there",
        /// A row before it asks for the same.
        Repeated = "repeated",
        /// The name cannot be one.
        BadName = "bad-name",
        /// The platform takes no claim of the name.
        Reserved = "reserved",
        /// There is no such site.
        UnknownSite = "unknown-site",
        /// The site is another account's than the row says.
        OtherAccount = "other-account",
        /// The account is suspended.
        Suspended = "suspended",
        /// The account's plan grants no more domains.
        OverAllowance = "over-allowance",
        /// The row cannot be read.
        BadRow = "bad-row",
    }
}

impl RowResult {
    /// Whether it is, or would be, taken in.
    pub fn is_accepted(self) -> bool {
        matches!(self, Self::New | Self::TakenIn)
    }

    /// Whether something about the row has to change before it can be taken in.
    pub fn is_refused(self) -> bool {
        !self.is_accepted() && self != Self::AlreadyThere && self != Self::Repeated
    }
}

/// What becomes of one row, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Judgement {
    /// What becomes of it.
    pub result: RowResult,
    /// Why it is not taken in, and what to do.
    pub because: Option<String>,
}

impl Judgement {
    fn new(result: RowResult, because: impl Into<String>) -> Self {
        Self { result, because: Some(because.into()) }
    }

    fn accepted() -> Self {
        Self { result: RowResult::New, because: None }
    }
}

/// What there is already, as far as some rows ask for it.
#[derive(Clone, Debug, Default)]
pub struct Register {
    /// The account of each site.
    pub sites: HashMap<String, String>,
    /// How each of these accounts stands.
    pub accounts: HashMap<String, AccountStanding>,
    /// Names that are claimed, each by an account.
    pub claimed: HashSet<(String, String)>,
}

/// How an account stands.
#[derive(Clone, Copy, Debug)]
pub struct AccountStanding {
    /// What its plan grants, and what it uses.
    pub allowance: Allowance,
    /// Whether it is suspended.
    pub is_suspended: bool,
}

/// Judges rows in order: what one takes, is not there for the next. Each row comes with the
/// line that it stands on.
pub fn judge(rows: &[(usize, Result<Wanted, RowFault>)], mut register: Register) -> Vec<Judgement> {
    let mut taken = HashMap::new();
    let mut judgements = Vec::with_capacity(rows.len());

    for (line, row) in rows {
        let judgement = match row {
            Err(fault) => unreadable(fault),
            Ok(wanted) => match refusal(wanted, &register, &taken) {
                Some(refusal) => refusal,
                None => {
                    take(wanted, *line, &mut register, &mut taken);
                    Judgement::accepted()
                }
            },
        };
        judgements.push(judgement);
    }
    judgements
}

/// Names that rows before have taken, by account, and the line of each.
type Taken = HashMap<(String, String), usize>;

fn unreadable(fault: &RowFault) -> Judgement {
    let result = match fault.name_code() {
        Some(HostnameCode::Reserved | HostnameCode::PlatformZone | HostnameCode::SpecialUse) => {
            RowResult::Reserved
        }
        Some(_) => RowResult::BadName,
        None => RowResult::BadRow,
    };
    Judgement::new(result, fault.to_string())
}

fn refusal(wanted: &Wanted, register: &Register, taken: &Taken) -> Option<Judgement> {
    let Some(account) = register.sites.get(&wanted.site) else {
        let because = format!("There is no site {}. Check the spelling, or add the site first.", wanted.site);
        return Some(Judgement::new(RowResult::UnknownSite, because));
    };
    if let Some(said) = wanted.account.as_ref().filter(|said| *said != account) {
        let because = format!("The site {} is no site of {said}. Name a site of that account.", wanted.site);
        return Some(Judgement::new(RowResult::OtherAccount, because));
    }

    for name in names(wanted) {
        let key = (account.clone(), name);
        if let Some(line) = taken.get(&key) {
            let because = format!("Line {line} asks for {} already.", key.1);
            return Some(Judgement::new(RowResult::Repeated, because));
        }
        if register.claimed.contains(&key) {
            return Some(Judgement::new(RowResult::AlreadyThere, there(&key.1, account)));
        }
    }

    let standing = register.accounts.get(account)?;
    if standing.is_suspended {
        let because = format!("The account {account} is suspended. Resume it first.");
        return Some(Judgement::new(RowResult::Suspended, because));
    }
    if !standing.allowance.has_room() {
        let granted = standing.allowance.granted.unwrap_or_default();
        let because = format!(
            "The plan of {account} grants {granted} domains, and they are used up. Release one, or have more granted."
        );
        return Some(Judgement::new(RowResult::OverAllowance, because));
    }
    None
}

fn there(host: &str, account: &str) -> String {
    format!("{account} has taken {host} in already. Nothing is changed.")
}

fn names(wanted: &Wanted) -> impl Iterator<Item = String> {
    wanted.subjects.iter().map(ToString::to_string)
}

/// Takes what a row asks for, so that the rows after it see it taken. The two of a pair
/// count as one.
fn take(wanted: &Wanted, line: usize, register: &mut Register, taken: &mut Taken) {
    let Some(account) = register.sites.get(&wanted.site) else { return };
    if let Some(standing) = register.accounts.get_mut(account) {
        standing.allowance.used = standing.allowance.used.saturating_add(1);
    }
    taken.extend(names(wanted).map(|name| ((account.clone(), name), line)));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intake::row::Columns;
    use crate::intake::table::Table;
    use crate::test::platform;

    fn register() -> Register {
        let standing = |granted, used, is_suspended| AccountStanding {
            allowance: Allowance { granted, used },
            is_suspended,
        };
        Register {
            sites: [("onswick", "onswick"), ("norsk", "norsk"), ("tram", "tram")]
                .map(|(site, account)| (site.to_owned(), account.to_owned()))
                .into(),
            accounts: [
                ("onswick".to_owned(), standing(None, 4, false)),
                ("norsk".to_owned(), standing(Some(3), 1, false)),
                ("tram".to_owned(), standing(None, 0, true)),
            ]
            .into(),
            claimed: [("onswick".to_owned(), "www.there.example".to_owned())].into(),
        }
    }

    fn results(text: &str) -> Vec<(RowResult, String)> {
        let table = Table::read(text.as_bytes(), 100).expect("a table");
        let columns = Columns::of(&table).expect("columns");
        let read: Vec<_> = table.rows.iter().map(|row| (row.line, columns.read(row, &platform()))).collect();
        let judged = judge(&read, register());
        judged.into_iter().map(|one| (one.result, one.because.unwrap_or_default())).collect()
    }

    #[test]
    fn every_kind_of_row_is_judged_with_its_reason() {
        let judged = results(
            "host,site,account,pair\n\
             new.example,onswick,,\n\
             there.example,onswick,,yes\n\
             www.new.example,onswick,,yes\n\
             not a name,onswick,,\n\
             shop.quaymark.example,onswick,,\n\
             a.example,nowhere,,\n\
             b.example,onswick,norsk,\n\
             c.example,tram,,\n\
             d.example,norsk,,\n\
             e.example,norsk,,yes\n\
             f.example,norsk,,\n\
             g.example,onswick,,perhaps\n",
        );

        let want = [
            (RowResult::New, ""),
            (RowResult::AlreadyThere, "www.there.example"),
            (RowResult::Repeated, "Line 2 asks for new.example"),
            (RowResult::BadName, ""),
            (RowResult::Reserved, "belongs to the platform"),
            (RowResult::UnknownSite, "no site nowhere"),
            (RowResult::OtherAccount, "no site of norsk"),
            (RowResult::Suspended, "tram is suspended"),
            (RowResult::New, ""),
            (RowResult::New, ""),
            (RowResult::OverAllowance, "grants 3 domains"),
            (RowResult::BadRow, "neither yes nor no"),
        ];
        assert_eq!(judged.len(), want.len());
        for ((result, because), (wanted, part)) in judged.iter().zip(want) {
            assert_eq!(*result, wanted, "{because}");
            assert!(because.contains(part), "{because}");
            assert_eq!(because.is_empty(), result.is_accepted());
        }
    }

    #[test]
    fn what_another_account_claims_makes_no_difference() {
        assert_eq!(results("host,site\nwww.there.example,norsk\n")[0].0, RowResult::New);
    }

    #[test]
    fn rows_that_are_done_already_are_no_faults() {
        let faults: Vec<_> = RowResult::ALL.iter().filter(|result| result.is_refused()).collect();
        assert_eq!(faults.len(), RowResult::ALL.len() - 4);
    }
}
