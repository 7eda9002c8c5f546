//! What of a domain a caller may see.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use nomenta_api::domain::ClaimQuery;
use nomenta_api::role::Role;
use nomenta_core::name::subject::Subject;
use nomenta_store::StoreError;

use crate::App;
use crate::access::Caller;
use crate::problem::{Named, Params, Refusal};
use crate::reach::{Found, Open};

/// The claim that a request names: a host in its path, and the account where several
/// claim it.
#[derive(Clone, Debug)]
pub(super) struct Asked {
    pub host: String,
    pub account: Option<String>,
}

impl FromRequestParts<Arc<App>> for Asked {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Refusal> {
        let Params(ClaimQuery { account }) = Params::from_request_parts(parts, app).await?;
        let Named(host) = Named::<String>::from_request_parts(parts, app).await?;
        Ok(Self { host, account })
    }
}

/// The domain that is asked about, for whoever may look. What other accounts claim
/// is not there for a key of some accounts.
pub(super) async fn find(app: &App, caller: &Caller, asked: &Asked) -> Result<Found, Refusal> {
    let reach = caller.reach(app, Role::Viewer)?;
    let account = asked.account.as_deref();

    // What would not be taken in today may be recorded all the same, and is found by
    // its letters.
    let error = match Subject::parse(&asked.host) {
        Ok(subject) => return Ok(reach.domain(&subject.to_string(), account).await?),
        Err(error) => error,
    };
    let letters = asked.host.trim_matches('"').to_lowercase();
    match reach.domain(&letters, account).await {
        // Nothing of that name can be there; why, is told as at a form.
        Err(StoreError::Missing { .. }) => Err(Refusal::nothing_at("host", error.code(), error)),
        found => Ok(found?),
    }
}

/// The same for an operator who is to change it, unless it has left.
pub(super) async fn find_open(app: &App, caller: &Caller, asked: &Asked) -> Result<Open, Refusal> {
    find(app, caller, asked).await?.open(caller)
}
