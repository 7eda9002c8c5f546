//! Tokens hidden in answers.

use axum::Json;
use nomenta_core::name::mask::Mask;
use nomenta_store::DomainRecord;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::problem::Refusal;

/// The answer with every text in it masked, whoever asks.
pub(crate) fn hidden<T: Serialize + DeserializeOwned>(value: T, mask: &Mask) -> Result<Json<T>, Refusal> {
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

/// Hides what may be tokens of other claims: nobody here is to read them.
pub(crate) fn mask_of_others(record: &DomainRecord) -> Mask {
    record.survey.as_ref().map(|survey| record.domain.mask_of_others(survey)).unwrap_or_default()
}
