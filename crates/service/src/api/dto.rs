//! What goes over the wire.

use chrono::{DateTime, Utc};
use nomenta_core::judge::baseline::{Baseline, Compared};
use nomenta_core::judge::certificate::{CertificateFacts, Held};
use nomenta_core::judge::domain::Pair;
use nomenta_core::judge::evidence::{Probe, Problem as IssuerProblem};
use nomenta_core::judge::finding::{Edit, Finding, Severity};
use nomenta_core::judge::gate::{Gate, GateName, Gates};
use nomenta_core::judge::verdict::Cell;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::reading::method::Method;
use nomenta_core::reading::survey::Survey;
use nomenta_core::sheet::form::Form;
use nomenta_core::sheet::{Line, Sheet};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::role::Role;

/// A customer of the platform.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Domains taken in for it.
    pub domains: i64,
}

/// An account to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Short name: letters, digits and hyphens.
    pub name: String,
    /// Name for people; the short name if left out.
    pub title: Option<String>,
}

/// What a domain will show.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Site {
    /// Short name.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Host under the platform's own zone.
    pub default_host: String,
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
}

/// A site to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSite {
    /// Short name, the first label of its default host.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Where visitors enter.
    #[serde(default = "root")]
    pub entry_path: String,
    /// What they get when something is missing.
    #[serde(default = "root")]
    pub error_path: String,
}

/// Targets of an ingress, as typed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Targets {
    /// IPv4 addresses.
    pub ipv4: Vec<String>,
    /// IPv6 addresses.
    #[serde(default)]
    pub ipv6: Vec<String>,
    /// Canonical host, with `{site}` for one per site.
    pub canonical: String,
    /// Name servers to which a whole zone may be delegated.
    #[serde(default)]
    pub name_servers: Vec<String>,
    /// Whether a subdomain may have the addresses instead of a CNAME.
    #[serde(default = "yes")]
    pub subdomain_addresses: bool,
}

fn root() -> String {
    "/".into()
}

fn yes() -> bool {
    true
}

/// An ingress to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewIngress {
    /// Short name.
    pub name: String,
    /// Where traffic lands.
    #[serde(flatten)]
    pub targets: Targets,
}

/// An access key, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessKey {
    /// Identifies the key.
    pub id: Uuid,
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: String,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: Option<DateTime<Utc>>,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// A key to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKey {
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
}

/// A key just made: the only time its secret is shown.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeKey {
    /// Identifies the key.
    pub id: Uuid,
    /// The secret.
    pub secret: String,
}

/// A domain to take in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDomain {
    /// The domain as the customer typed or pasted it; `*.` before it for a
    /// wildcard.
    pub host: String,
    /// The site it will show.
    pub site: String,
    /// Whether the name with `www.` before it, or without it, is taken in too;
    /// the one given is the primary, to which the other leads.
    #[serde(default)]
    pub pair: bool,
}

/// One line of the roster.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RosterLine {
    /// The name.
    pub host: String,
    /// The name in its own script.
    pub shown: String,
    /// The account.
    pub account: String,
    /// The site.
    pub site: String,
    /// The first gate not passed, or `live`.
    pub stage: String,
    /// The four gates in order.
    #[schema(value_type = Vec<Gate>)]
    pub gates: Gates,
    /// Codes of open findings.
    pub findings: Vec<String>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

/// Which part of the roster.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RosterQuery {
    /// Only this stage.
    pub stage: Option<String>,
    /// Only this account.
    pub account: Option<String>,
    /// Only names that contain this.
    pub text: Option<String>,
    /// Only names after this one: the cursor of the page before.
    pub after: Option<String>,
    /// Lines at most, 1 to 500; 100 if left out.
    pub limit: Option<i64>,
}

/// How many domains stand at a stage.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StageCount {
    /// The stage.
    pub stage: String,
    /// Domains there.
    pub count: i64,
}

/// A sheet line with what was read for it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JudgedLine {
    /// What to publish.
    #[serde(flatten)]
    pub line: Line,
    /// What each source says.
    pub cells: Vec<Cell>,
}

/// An open finding with its times.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenFinding {
    /// The finding.
    #[serde(flatten)]
    pub finding: Finding,
    /// Since when.
    pub first_seen: DateTime<Utc>,
    /// Confirmed last.
    pub last_seen: DateTime<Utc>,
}

/// Everything about a domain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DomainDetail {
    /// The name.
    pub host: String,
    /// The name in its own script.
    pub shown: String,
    /// The account.
    pub account: String,
    /// The site.
    pub site: String,
    /// The site's host under the platform's own zone.
    pub default_host: String,
    /// The first gate not passed, or `live`.
    pub stage: String,
    /// The four gates in order.
    #[schema(value_type = Vec<Gate>)]
    pub gates: Gates,
    /// The other domain of the pair, where there is one.
    pub pair: Option<Pair>,
    /// The zone that holds the name.
    pub zone: String,
    /// The sheet with what was read.
    pub lines: Vec<JudgedLine>,
    /// Open findings.
    pub findings: Vec<OpenFinding>,
    /// Current beside required: what to keep, delete, change and add, in an
    /// order in which nothing breaks.
    pub todo: Vec<Edit>,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// What each vantage sees, or holds and until when.
    pub waits: Vec<Wait>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// How that share came about, oldest first.
    pub spreads: Vec<SpreadPoint>,
    /// When the token runs out.
    pub token_expires_at: DateTime<Utc>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
    /// When the next look is due.
    pub next_look: Option<DateTime<Utc>>,
    /// The certificate held.
    pub certificate: Option<CertificateFacts>,
    /// The refusal of the latest order.
    pub refusal: Option<IssuerProblem>,
}

/// Who saw the routing from one moment on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpreadPoint {
    /// Since when.
    pub at: DateTime<Utc>,
    /// Vantages that see it.
    pub seeing: Vec<String>,
    /// Vantages that were asked.
    pub asked: Vec<String>,
}

/// Whether the token is shown or masked.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RevealQuery {
    /// Shows the token, which is masked otherwise; takes an operator key.
    #[serde(default)]
    pub reveal: bool,
}

/// The baseline, and how its records stand now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BaselineView {
    /// As it was at enrolment; none before the first look.
    pub baseline: Option<Baseline>,
    /// Each record of then and now; empty where the zone cannot be read.
    pub compared: Vec<Compared>,
    /// The baseline as lines of a master file (RFC 1035, section 5).
    pub zone_lines: String,
}

/// A domain's sheet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SheetView {
    /// The sheet.
    #[serde(flatten)]
    pub sheet: Sheet,
    /// When the token runs out.
    pub token_expires_at: DateTime<Utc>,
    /// The other domain of the pair, where there is one.
    #[serde(default)]
    pub pair: Option<PairedSheet>,
}

/// The other domain of a pair and its sheet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PairedSheet {
    /// Whether it is the primary, to which the one asked for leads.
    pub is_primary: bool,
    /// What to publish for it.
    pub sheet: Sheet,
}

/// The latest survey of a domain; none before the first look.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SurveyView {
    /// The survey.
    pub survey: Option<Survey>,
    /// When the next look is due.
    pub next_look: Option<DateTime<Utc>>,
}

/// An event in CloudEvents 1.0 JSON.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Event {
    /// Always `1.0`.
    pub specversion: String,
    /// Identifies the event.
    pub id: Uuid,
    /// Who says so.
    pub source: String,
    /// Kind.
    #[serde(rename = "type")]
    pub kind: String,
    /// The domain.
    pub subject: Option<String>,
    /// When.
    pub time: DateTime<Utc>,
    /// Position in the order of commits; resume after it.
    pub sequence: i64,
    /// Details by kind.
    pub data: Value,
}

/// Which events.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct EventQuery {
    /// Only after this sequence number.
    pub after: Option<i64>,
}

/// An entry of the catalogue of findings.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct CatalogueEntry {
    /// Stable code.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What it means.
    pub about: &'static str,
}

/// Signing in to the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// A viewer, operator or admin key.
    pub key: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// What the key is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
}

/// What the platform's edge needs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EdgeFeed {
    /// Number of the latest change that is in it: where a stream of changes is
    /// to begin.
    pub position: i64,
    /// Hosts and what they show.
    pub routes: Vec<EdgeRoute>,
    /// Chains and keys, by host.
    pub certificates: Vec<EdgeCertificate>,
    /// Certificates for the protocol `acme-tls/1` alone (RFC 8737), by host.
    pub challenges: Vec<EdgeCertificate>,
}

/// One host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EdgeRoute {
    /// The customer's domain, `*.` before it for every name under it; or a
    /// site's default host.
    pub host: String,
    /// The site to show.
    pub site: String,
    /// The site's default host.
    pub default_host: String,
    /// Where visitors of `/` enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// The primary of the pair: every visitor is sent on there, by HTTPS and
    /// with one hop.
    pub redirect_to: Option<String>,
    /// Whether to answer with `X-Robots-Tag: noindex`.
    pub noindex: bool,
}

/// A certificate with its key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EdgeCertificate {
    /// The name it is served for.
    pub host: String,
    /// Chain as PEM, leaf first.
    pub chain_pem: String,
    /// Private key as PKCS #8 PEM.
    pub key_pem: String,
}

/// What the edge needs for one host from now on; what is missing is to be
/// dropped.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EdgeChange {
    /// The host.
    pub host: String,
    /// Its route.
    pub route: Option<EdgeRoute>,
    /// Its certificate.
    pub certificate: Option<EdgeCertificate>,
    /// Its certificate for `acme-tls/1`.
    pub challenge: Option<EdgeCertificate>,
}

/// Long poll of the feed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FeedQuery {
    /// Seconds to wait for a change when the ETag still holds, at most 55.
    pub wait: Option<u64>,
}

/// Where to begin the stream of changes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ChangesQuery {
    /// Position of the snapshot, or number of the last change seen.
    pub after: Option<i64>,
}

/// A domain's certificate, and what happens to it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateView {
    /// The domain.
    pub host: String,
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
    pub method: String,
    /// `open`, `issued` or `refused`.
    pub state: String,
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
    pub reason: String,
    /// When it was asked for.
    pub asked_at: DateTime<Utc>,
    /// When the CA did it.
    pub done_at: Option<DateTime<Utc>>,
    /// Why the CA has not done it yet.
    pub problem: Option<String>,
}

/// A certificate that the customer brings.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct BroughtCertificate {
    /// Chain as PEM, the domain's own certificate first.
    pub chain_pem: String,
    /// Its private key as PKCS #8 PEM.
    pub key_pem: String,
}

/// Why a certificate is revoked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewRevocation {
    /// `unspecified`, `keyCompromise`, `superseded` or `cessationOfOperation`
    /// (RFC 5280, section 5.3.1).
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
    pub within_days: Option<u32>,
    /// Only this account.
    pub account: Option<String>,
    /// Only those after this one: the cursor in the `Link` header.
    pub after: Option<String>,
    /// Certificates at most, 1 to 500; 100 if left out.
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
}
