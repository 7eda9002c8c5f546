//! What a call may reach of the records. Whose it is and what its key may do is settled first: the
//! records are open to nothing else, so a call that forgets to ask does not compile.

mod accounts;
mod domains;
mod edge;
mod found;
mod told;

use std::ops::Deref;

use nomenta_api::role::Role;
use nomenta_store::{Store, Whose};
use uuid::Uuid;

use crate::App;
use crate::access::Caller;
use crate::problem::Refusal;

pub(crate) use self::found::{Found, Open};

/// What a key opens of the records, or a part of that which was asked for. What lies outside of it
/// is answered for as what there is not.
#[derive(Clone)]
pub(crate) struct Reach {
    /// The records, changed for the caller.
    records: Store,
    whose: Whose,
    /// The account, where one was asked for.
    account: Option<String>,
}

/// What was just made within reach.
#[derive(Clone, Copy)]
pub(crate) struct Made(Uuid);

impl Made {
    pub(crate) fn id(self) -> Uuid {
        self.0
    }
}

/// The records as a whole, for keys that open every account.
pub(crate) struct Whole {
    records: Store,
}

impl Deref for Whole {
    type Target = Store;

    fn deref(&self) -> &Store {
        &self.records
    }
}

impl Caller {
    /// What the caller reaches, if the key has `wanted` or more.
    pub(crate) fn reach(&self, app: &App, wanted: Role) -> Result<Reach, Refusal> {
        self.needs(wanted)?;
        Ok(Reach { records: app.calls.by(self.actor()), whose: self.whose(), account: None })
    }

    /// The same for bulk work, which takes longer than a call may.
    pub(crate) fn bulk(&self, app: &App, wanted: Role) -> Result<Reach, Refusal> {
        self.needs(wanted)?;
        Ok(Reach { records: app.store.by(self.actor()), whose: self.whose(), account: None })
    }

    /// What the caller reaches of an account, where one is asked for.
    pub(crate) async fn part(
        &self,
        app: &App,
        wanted: Role,
        account: Option<&str>,
    ) -> Result<Reach, Refusal> {
        let reach = self.reach(app, wanted)?;
        let Some(account) = account else { return Ok(reach) };
        let part = reach.records.part(&reach.whose, account).await;
        let whose = part.map_err(|error| Refusal::of_record(error, "account"))?;
        Ok(Reach { whose, account: Some(account.to_owned()), ..reach })
    }

    /// All records, if the key has `wanted` or more for every account.
    pub(crate) fn whole(&self, app: &App, wanted: Role) -> Result<Whole, Refusal> {
        self.needs_all(wanted)?;
        Ok(Whole { records: app.calls.by(self.actor()) })
    }
}

impl Whole {
    /// The same as what is reached.
    pub(crate) fn reach(&self) -> Reach {
        Reach { records: self.records.clone(), whose: Whose::Everybodys, account: None }
    }
}
