//! Certificates: of one domain, and of the fleet.

use chrono::{DateTime, Utc};
use nomenta_core::judge::certificate::{Held, RevocationReason};
use nomenta_core::judge::evidence::{Probe, Problem as IssuerProblem};
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::method::Method;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

nomenta_core::spelled! {
    /// How an order stands.
    #[derive(ToSchema)]
    pub enum OrderStatus: "state of an order" {
        /// It is on its way.
        Open = "open",
        /// It ended with a certificate.
        Issued = "issued",
        /// The CA refused it.
        Refused = "refused",
    }
}

/// A domain's certificate, and what happens to it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateView {
    /// The domain.
    pub host: DnsName,
    /// How control over it is shown to the CA.
    pub method: Method,
    /// The certificate that is held.
    pub held: Option<Held>,
    /// The latest order.
    pub order: Option<OrderView>,
    /// What a browser got at the last full look.
    pub probe: Option<Probe>,
    /// Revocations, newest first.
    pub revocations: Vec<RevocationView>,
}

/// An order and its story.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OrderView {
    /// Names it is for.
    pub names: Vec<String>,
    /// How control is shown.
    pub method: Method,
    /// How it stands.
    pub state: OrderStatus,
    /// The CA's problem document, if it refused.
    pub problem: Option<IssuerProblem>,
    /// When another may be placed, if it refused.
    pub retry_at: Option<DateTime<Utc>>,
    /// When it was placed.
    pub placed_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// What happened, step by step.
    pub steps: Vec<OrderStep>,
}

/// One step of an order.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OrderStep {
    /// When.
    pub at: DateTime<Utc>,
    /// What happened.
    pub said: String,
}

/// A revocation.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevocationView {
    /// Serial number of the certificate.
    pub serial: String,
    /// Why (RFC 5280, section 5.3.1).
    pub reason: RevocationReason,
    /// When it was asked for.
    pub asked_at: DateTime<Utc>,
    /// When the CA did it.
    pub done_at: Option<DateTime<Utc>>,
    /// Why the CA has not done it yet.
    pub problem: Option<String>,
}

/// A certificate that the customer brings.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BroughtCertificate {
    /// Chain as PEM, the domain's own certificate first.
    #[schema(min_length = 1, max_length = 200000)]
    pub chain_pem: String,
    /// Its private key as PKCS #8 PEM.
    #[schema(min_length = 1, max_length = 20000)]
    pub key_pem: String,
}

/// Why a certificate is revoked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "reason": "superseded" }))]
pub struct NewRevocation {
    /// Why (RFC 5280, section 5.3.1).
    #[schema(value_type = RevocationReason)]
    pub reason: String,
}

/// How many certificates are revoked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Revoked {
    /// Certificates given up; the CA is told within moments.
    pub certificates: usize,
}

/// A certificate of the fleet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FleetCertificate {
    /// The domains that it is served for.
    pub hosts: Vec<String>,
    /// Their names in their own scripts, in the same order.
    pub shown: Vec<String>,
    /// The account.
    pub account: String,
    /// The certificate.
    #[serde(flatten)]
    pub held: Held,
    /// When it was issued or brought in.
    pub issued_at: DateTime<Utc>,
}

/// Which part of the fleet's certificates.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CertificateQuery {
    /// Only those that run out within so many days.
    #[param(maximum = 36500)]
    pub within_days: Option<u32>,
    /// Only this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those of this issuer, by its distinguished name.
    #[param(max_length = 1000)]
    pub issuer: Option<String>,
    /// Only those after this one: the cursor in the `Link` header.
    #[param(pattern = r"^[0-9]{1,17}\.[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$")]
    pub after: Option<String>,
    /// Certificates at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// How many certificates run out, or are renewed, on one of the coming days.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateDay {
    /// Days from today.
    pub day: i32,
    /// Run out then; what has run out counts for today.
    pub ending: i64,
    /// Are renewed then; what is overdue counts for today.
    pub renewing: i64,
}

/// The account that certificates are ordered with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct IssuerAccount {
    /// ACME directory.
    pub directory: String,
    /// The account's URL, for CAA records (RFC 8657, section 3).
    pub uri: String,
    /// Names that the CA goes by in CAA records.
    pub identities: Vec<String>,
    /// How control is shown for names that are no wildcards.
    pub method: Method,
    /// Since when the account has its key.
    pub key_since: Option<DateTime<Utc>>,
}
