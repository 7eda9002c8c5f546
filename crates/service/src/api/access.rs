//! What of a domain a caller may see.

use axum::Json;
use nomenta_api::domain::RevealQuery;
use nomenta_api::role::Role;
use nomenta_core::name::mask::Mask;
use nomenta_core::name::subject::Subject;
use nomenta_store::{DomainRecord, StoreError};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::App;
use crate::access::Caller;
use crate::problem::Refusal;

/// The domain that a path names, for whoever may look.
pub(super) async fn find(app: &App, caller: &Caller, typed: &str) -> Result<DomainRecord, Refusal> {
    caller.needs(Role::Viewer)?;
    Ok(app.store.domain_named(&host_in_path(app, typed).await?).await?)
}

/// The host in a path, read as forgivingly as the form reads it. What would not
/// be taken in today may be recorded all the same, and is found by its letters.
pub(super) async fn host_in_path(app: &App, typed: &str) -> Result<String, Refusal> {
    let error = match Subject::parse(typed) {
        Ok(subject) => return Ok(subject.to_string()),
        Err(error) => error,
    };

    let letters = typed.trim_matches('"').to_lowercase();
    match app.store.domain_named(&letters).await {
        Ok(_) => Ok(letters),
        Err(StoreError::Missing { .. }) => Err(Refusal::field("host", error.code(), error)),
        Err(other) => Err(other.into()),
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

/// The answer with every text in it masked, whoever asks.
pub(super) fn hidden<T: Serialize + DeserializeOwned>(value: T, mask: &Mask) -> Result<Json<T>, Refusal> {
    let mut value = serde_json::to_value(&value).map_err(|error| Refusal::internal(error.to_string()))?;
    hide(&mut value, mask);
    let value = serde_json::from_value(value).map_err(|error| Refusal::internal(error.to_string()))?;
    Ok(Json(value))
}

fn hide(value: &mut Value, mask: &Mask) {
    match value {
        Value::String(text) => *text = mask.hide(text),
        Value::Array(list) => list.iter_mut().for_each(|one| hide(one, mask)),
        Value::Object(fields) => fields.values_mut().for_each(|one| hide(one, mask)),
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

/// Tokens of other accounts that were read for a domain: nobody here is to read
/// them.
pub(super) async fn mask_of_others(app: &App, record: &DomainRecord) -> Result<Mask, Refusal> {
    let Some(survey) = &record.survey else { return Ok(Mask::default()) };
    let known = app.store.known_tokens(record, survey.token_candidates()).await?;
    let others = known.iter().filter(|known| known.host.is_none());
    Ok(Mask::of(others.map(|known| &known.token)))
}
