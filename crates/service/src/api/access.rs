//! What of a domain a caller may see.

use std::sync::Arc;

use axum::Json;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use nomenta_api::domain::{ClaimQuery, RevealQuery};
use nomenta_api::problem::ProblemKind;
use nomenta_api::role::Role;
use nomenta_core::name::mask::Mask;
use nomenta_core::name::subject::Subject;
use nomenta_store::{DomainRecord, StoreError};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::App;
use crate::access::Caller;
use crate::masking::hidden;
use crate::problem::{Named, Params, Refusal};

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
pub(super) async fn find(app: &App, caller: &Caller, asked: &Asked) -> Result<DomainRecord, Refusal> {
    caller.needs(Role::Viewer)?;
    let whose = caller.whose();
    let named = |host| nomenta_store::Named { host, account: asked.account.as_deref(), whose: &whose };

    // What would not be taken in today may be recorded all the same, and is found by
    // its letters.
    let error = match Subject::parse(&asked.host) {
        Ok(subject) => {
            return Ok(app.calls.domain_named(named(&subject.to_string())).await?);
        }
        Err(error) => error,
    };
    let letters = asked.host.trim_matches('"').to_lowercase();
    match app.calls.domain_named(named(&letters)).await {
        // Nothing of that name can be there; why, is told as at a form.
        Err(StoreError::Missing { .. }) => Err(Refusal::nothing_at("host", error.code(), error)),
        found => Ok(found?),
    }
}

/// The same for an operator who is to change it, unless it has left.
pub(super) async fn find_open(app: &App, caller: &Caller, asked: &Asked) -> Result<DomainRecord, Refusal> {
    let record = find(app, caller, asked).await?;
    caller.needs(Role::Operator)?;
    match record.ended {
        None => Ok(record),
        Some((at, _)) => {
            let at = at.format("%Y-%m-%d %H:%M UTC");
            let detail = format!("{} left the platform at {at}. Take it in anew first.", asked.host);
            Err(Refusal::conflict(ProblemKind::Released, detail))
        }
    }
}

/// An answer in which tokens are masked unless they were asked for.
pub(super) fn masked<T: Serialize + DeserializeOwned>(
    value: T,
    mask: &Mask,
    caller: &Caller,
    query: &RevealQuery,
) -> Result<Json<T>, Refusal> {
    if query.reveal {
        caller.needs(Role::Operator)?;
        return Ok(Json(value));
    }
    hidden(value, mask)
}
