//! Answers in JSON. Each says by its type for whose eyes it is: what has tokens is masked, or is for
//! whoever may read them, and what staff writes for staff goes to nobody else.

#[expect(clippy::disallowed_types, reason = "here it is known that the caller may see it")]
use axum::Json;
use axum::response::{IntoResponse, Response};
use nomenta_api::audit::AuditEntry;
use nomenta_api::certificate::{CertificateDay, CertificateView, FleetCertificate, IssuerAccount, Revoked};
use nomenta_api::contest::Contest;
use nomenta_api::domain::{
    CatalogueEntry, Counts, DomainDetail, Moved, RevealQuery, RosterLine, SheetView, SurveyView,
};
use nomenta_api::edge::EdgeFeed;
use nomenta_api::event::CloudEvent;
use nomenta_api::handoff::{Handoff, HandoffView, MadeHandoff, OneClickOffer, OneClickTemplates};
use nomenta_api::intake::Intake;
use nomenta_api::job::{Job, JobItem, JobPreview};
use nomenta_api::learned::OperatorView;
use nomenta_api::notice::{Delivery, MadeHook, Receiver, Redelivered, WrittenMail};
use nomenta_api::publication::{KeptKey, PublicationPlan, ZoneKey};
use nomenta_api::registry::{AccessKey, Account, MadeKey, Session, Site, Who};
use nomenta_api::role::Role;
use nomenta_core::judge::preflight::Check;
use nomenta_core::name::mask::Mask;
use nomenta_core::sheet::ingress::Ingress;
use nomenta_store::DomainRecord;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::access::Caller;
use crate::guest::Guest;
use crate::problem::Refusal;
use crate::reach::Whole;

/// An answer that its caller may see.
pub(crate) struct Shown<T>(T);

/// What whoever may ask for it may see all of: neither tokens, nor secrets, nor what others have.
pub(crate) trait Plain {}

/// What has tokens, keys or secrets in it, for callers of one role or more.
pub(crate) trait Secret {
    const FOR: Role;
}

/// What tells of every account, for keys that open every one.
pub(crate) trait OfAll {}

/// What a handoff link shows.
pub(crate) trait ForGuests {}

/// What has parts that staff writes for staff.
pub(crate) trait ForStaff {
    /// The same without them.
    fn for_others(self) -> Self;
}

macro_rules! plain {
    ($($type:ty),* $(,)?) => { $(impl Plain for $type {})* };
}

plain!(
    CatalogueEntry,
    CertificateDay,
    CertificateView,
    Check,
    CloudEvent,
    Counts,
    Delivery,
    FleetCertificate,
    Handoff,
    Ingress,
    Intake,
    Job,
    JobItem,
    JobPreview,
    KeptKey,
    Moved,
    OneClickTemplates,
    OperatorView,
    Receiver,
    Redelivered,
    Revoked,
    RosterLine,
    Site,
    Who,
    WrittenMail,
    ZoneKey,
);

impl<T: Plain> Plain for Vec<T> {}

macro_rules! secret {
    ($($type:ty => $role:expr),* $(,)?) => { $(impl Secret for $type { const FOR: Role = $role; })* };
}

secret!(
    EdgeFeed => Role::Edge,
    MadeHandoff => Role::Operator,
    MadeHook => Role::Operator,
    MadeKey => Role::Admin,
    PublicationPlan => Role::Operator,
    SheetView => Role::Operator,
);

impl OfAll for AccessKey {}
impl OfAll for Contest {}
impl OfAll for IssuerAccount {}
impl OfAll for Session {}
/// Names of issuers, of the whole fleet's certificates.
impl OfAll for String {}
impl<T: OfAll> OfAll for Vec<T> {}

impl ForGuests for HandoffView {}
impl ForGuests for OneClickOffer {}

impl ForStaff for Account {
    fn for_others(self) -> Self {
        Self { notes: String::new(), ..self }
    }
}

/// What of an account staff writes for staff, in the audit log.
const NOTES: &str = "notes";

impl ForStaff for AuditEntry {
    fn for_others(mut self) -> Self {
        for values in [&mut self.before, &mut self.after].into_iter().flatten() {
            if let Value::Object(values) = values {
                values.remove(NOTES);
            }
        }
        self
    }
}

impl<T: ForStaff> ForStaff for Vec<T> {
    fn for_others(self) -> Self {
        self.into_iter().map(T::for_others).collect()
    }
}

impl<T: Plain> Shown<T> {
    pub(crate) fn plain(value: T) -> Self {
        Self(value)
    }
}

impl<T: Secret> Shown<T> {
    /// Secrets and all, for whoever may read them.
    pub(crate) fn secret(value: T, caller: &Caller) -> Result<Self, Refusal> {
        caller.needs(T::FOR)?;
        Ok(Self(value))
    }
}

impl<T: OfAll> Shown<T> {
    pub(crate) fn of_all(value: T, _: &Whole) -> Self {
        Self(value)
    }
}

impl<T: ForGuests> Shown<T> {
    pub(crate) fn to_guest(value: T, _: &Guest) -> Self {
        Self(value)
    }
}

impl Shown<OneClickOffer> {
    /// The link has the token, and is for the customer.
    pub(crate) fn without_link(offer: OneClickOffer) -> Self {
        Self(OneClickOffer { link: None, ..offer })
    }
}

impl<T: ForStaff> Shown<T> {
    /// Whole for the platform's staff, whose keys open every account.
    pub(crate) fn to(value: T, caller: &Caller) -> Self {
        Self(if caller.is_narrow() { value.for_others() } else { value })
    }
}

impl<T: Serialize + DeserializeOwned> Shown<T> {
    /// With every text in it masked, whoever asks.
    pub(crate) fn masked(value: T, mask: &Mask) -> Result<Self, Refusal> {
        hidden(value, mask).map(Self)
    }

    /// Masked unless tokens were asked for, by somebody who may read them.
    pub(crate) fn as_asked(
        value: T,
        mask: &Mask,
        caller: &Caller,
        query: &RevealQuery,
    ) -> Result<Self, Refusal> {
        if query.reveal {
            caller.needs(Role::Operator)?;
            return Ok(Self(value));
        }
        Self::masked(value, mask)
    }
}

impl<T: Serialize> IntoResponse for Shown<T> {
    fn into_response(self) -> Response {
        Json(self.0).into_response()
    }
}

/// A value with every text in it masked.
pub(crate) fn hidden<T: Serialize + DeserializeOwned>(value: T, mask: &Mask) -> Result<T, Refusal> {
    let mut value = serde_json::to_value(&value).map_err(|error| Refusal::internal(error.to_string()))?;
    hide(&mut value, mask);
    serde_json::from_value(value).map_err(|error| Refusal::internal(error.to_string()))
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

/// What is hidden of what is told of a domain.
pub(crate) struct Hides {
    /// Its own tokens.
    own: Mask,
    /// What may be tokens of other claims.
    others: Mask,
    /// The token as it is published, in place of which the sheet is named.
    token: String,
}

impl Hides {
    pub(crate) fn of(record: &DomainRecord) -> Self {
        Self {
            own: record.domain.mask(),
            others: mask_of_others(record),
            token: record.domain.token.txt_value(),
        }
    }
}

impl Shown<DomainDetail> {
    /// Everything about a domain: its tokens are masked unless they were asked for, and those of other
    /// claims but for staff who have to know each record whole.
    pub(crate) fn detail(
        detail: DomainDetail,
        hides: &Hides,
        caller: &Caller,
        query: &RevealQuery,
    ) -> Result<Self, Refusal> {
        let is_whole = query.reveal && !caller.is_narrow();
        let mut detail = if is_whole { detail } else { hidden(detail, &hides.others)? };
        if !query.reveal {
            detail.refer_to_sheet(&hides.token);
        }
        Self::as_asked(detail, &hides.own, caller, query)
    }
}

impl Shown<SurveyView> {
    /// A survey with no token in it, whoever's.
    pub(crate) fn survey(view: SurveyView, hides: &Hides) -> Result<Self, Refusal> {
        Self::masked(hidden(view, &hides.others)?, &hides.own)
    }
}
