//! Certificates: of one domain, and of the fleet.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use chrono::{Duration, Utc};
use nomenta_api::certificate::{
    BroughtCertificate, CertificateDay, CertificateQuery, CertificateView, FleetCertificate, IssuerAccount,
    NewRevocation, OrderStep, OrderView, RevocationView, Revoked,
};
use nomenta_api::domain::ClaimQuery;
use nomenta_api::problem::Problem;
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_api::role::Role;
use nomenta_certs::brought::{self, Brought};
use nomenta_core::judge::certificate::{CertificateFacts, RevocationReason};
use nomenta_core::judge::preflight::Check;
use nomenta_store::{CertificateFilter, CertificateRow, OrderStory, Place};

use super::access::{Asked, find, find_open};
use super::domains::shown;
use super::paging::{self, Cursor};
use crate::App;
use crate::access::Caller;
use crate::look;
use crate::look::PRIVATE_KEY;
use crate::precondition::IfMatch;
use crate::problem::{Body, Params, Refusal};
use crate::reach::{Found, Whole};
use crate::shown::Shown;

/// How far the days of the fleet reach.
const DAYS: i32 = 120;
/// Issuers that are told apart.
const ISSUERS: i32 = 100;

/// The fleet's certificates, first those that run out first, a page at a time;
/// the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/certificates", params(CertificateQuery),
    responses((status = 200, body = [FleetCertificate]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn fleet(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<CertificateQuery>,
) -> Result<(HeaderMap, Shown<Vec<FleetCertificate>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let filter = CertificateFilter {
        before: query.within_days.map(|days| paging::days_from_now("within_days", days, 1)).transpose()?,
        issuer: query.issuer.clone(),
        after: query.after.as_deref().map(Place::read).transpose()?,
        ..CertificateFilter::default()
    };

    let rows = reach.certificates(filter, limit + 1).await?;
    let place = |row: &CertificateRow| Place::after(row.held.facts.not_after, row.id).written();
    let (headers, rows) = paging::page(rows, limit, "certificates", place, &paging::asked(&query)?)?;

    Ok((headers, Shown::plain(rows.into_iter().map(fleet_certificate).collect())))
}

fn fleet_certificate(row: CertificateRow) -> FleetCertificate {
    FleetCertificate {
        shown: row.hosts.iter().map(|host| shown(host)).collect(),
        hosts: row.hosts,
        account: row.account,
        held: row.held,
        issued_at: row.issued_at,
    }
}

/// How many certificates run out and are renewed on each of the coming 120
/// days; days without any are left out.
#[utoipa::path(get, path = "/api/v1/certificates/days", responses((status = 200, body = [CertificateDay])))]
pub(super) async fn days(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Shown<Vec<CertificateDay>>, Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    let today = Utc::now().date_naive();
    let counts = reach.certificate_counts(today + Duration::days(DAYS.into())).await?;

    let mut days = BTreeMap::new();
    for (counted, is_ending) in counts.into_iter().zip([true, false]) {
        for one in counted {
            let day = i32::try_from((one.of - today).num_days()).unwrap_or(DAYS).max(0);
            let counts = days.entry(day).or_insert(CertificateDay { day, ending: 0, renewing: 0 });
            *(if is_ending { &mut counts.ending } else { &mut counts.renewing }) += one.count;
        }
    }
    Ok(Shown::plain(days.into_values().collect()))
}

/// Who has issued certificates in use, by distinguished name, 100 at most.
#[utoipa::path(get, path = "/api/v1/certificates/issuers", responses((status = 200, body = [String])))]
pub(super) async fn issuers(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Shown<Vec<String>>, Refusal> {
    let records = caller.whole(&app, Role::Viewer)?;
    Ok(Shown::of_all(records.issuers(ISSUERS).await?, &records))
}

/// The account at the CA, as CAA records may name it.
#[utoipa::path(get, path = "/api/v1/certificates/account",
    responses((status = 200, body = IssuerAccount), (status = 503, body = Problem)))]
pub(super) async fn account(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Shown<IssuerAccount>, Refusal> {
    told_account(&app, &caller.whole(&app, Role::Viewer)?).await
}

async fn told_account(app: &App, records: &Whole) -> Result<Shown<IssuerAccount>, Refusal> {
    let acme = app.acme.account(app).await;
    let acme =
        acme.map_err(|error| Refusal::unavailable(format!("The account at the CA is not known: {error}")))?;
    let (directory, policy) = (&app.config.acme.directory, &app.config.policy);

    let account = IssuerAccount {
        directory: directory.clone(),
        uri: acme.uri().to_owned(),
        identities: policy.ca_identities.clone(),
        method: policy.method,
        key_since: records.acme_key_since(directory).await?,
    };
    Ok(Shown::of_all(account, records))
}

/// Gives the account at the CA another key (RFC 8555, section 7.3.5): the one before opens
/// nothing from then on. Orders under way go on.
#[utoipa::path(post, path = "/api/v1/certificates/account/key",
    responses((status = 200, body = IssuerAccount), (status = 503, body = Problem)))]
pub(super) async fn change_account_key(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Shown<IssuerAccount>, Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let changed = app.acme.rekey(&app, &records).await;
    changed.map_err(|error| {
        Refusal::unavailable(format!("The key of the account at the CA is as it was: {error:#}. Try again."))
    })?;
    told_account(&app, &records).await
}

/// A domain's certificate, the story of its latest order, what a browser gets,
/// and what was revoked.
#[utoipa::path(get, path = "/api/v1/domains/{host}/certificate",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = CertificateView), (status = 404, body = Problem)))]
pub(super) async fn certificate(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<CertificateView>, Refusal> {
    view(&app, find(&app, &caller, &asked).await?).await
}

async fn view(app: &App, found: Found) -> Result<Shown<CertificateView>, Refusal> {
    let host = found.domain.routed();
    let revocations = found.revocations().await?.into_iter().map(|row| RevocationView {
        serial: row.serial,
        reason: row.reason,
        asked_at: row.asked_at,
        done_at: row.done_at,
        problem: row.problem,
    });

    Ok(Shown::plain(CertificateView {
        method: found.domain.method(&app.config.policy),
        held: found.certificate().await?,
        order: found.order_story().await?.map(order_view),
        probe: found.into_record().probe,
        revocations: revocations.collect(),
        host,
    }))
}

fn order_view(story: OrderStory) -> OrderView {
    OrderView {
        names: story.names,
        method: story.method,
        state: story.state,
        problem: story.problem,
        retry_at: story.retry_at,
        placed_at: story.placed_at,
        ended_at: story.ended_at,
        steps: story.steps.into_iter().map(|(at, said)| OrderStep { at, said }).collect(),
    }
}

/// The certificate's chain (RFC 8555, section 9.1), leaf first; no key.
#[utoipa::path(get, path = "/api/v1/domains/{host}/certificate/chain",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = String, content_type = "application/pem-certificate-chain"),
        (status = 404, body = Problem)))]
pub(super) async fn chain(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Response, Refusal> {
    let chain = find(&app, &caller, &asked).await?.certificate_chain().await?;
    let chain = chain.ok_or_else(|| Refusal::not_found(format!("{} has no certificate yet.", asked.host)))?;
    Ok(([(header::CONTENT_TYPE, "application/pem-certificate-chain")], chain).into_response())
}

/// Everything that the CA will ask, asked now; nothing is ordered.
#[utoipa::path(post, path = "/api/v1/domains/{host}/certificate/preflight",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = [Check]), (status = 404, body = Problem)))]
pub(super) async fn preflight(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<Vec<Check>>, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    caller.needs(Role::Operator)?;
    let _turn = app.lengthy_turn().await?;
    let checks = Box::pin(look::preflight(&app, &record)).await;
    let checks = checks.map_err(|error| Refusal::unavailable(error.to_string()))?;
    Ok(Shown::plain(checks))
}

/// Takes a certificate that the customer brings, and serves it from now on.
#[utoipa::path(put, path = "/api/v1/domains/{host}/certificate", request_body = BroughtCertificate,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = CertificateView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn bring(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    wanted: IfMatch,
    Body(new): Body<BroughtCertificate>,
) -> Result<Shown<CertificateView>, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    let key = new.key_pem.as_str();
    let name = record.domain.routed();
    let brought = brought::check(&new.chain_pem, key, &name, &app.prober.roots(), Utc::now());
    let Brought { facts, chain_pem } = brought.map_err(|unfit| {
        let field = if unfit.is_of_key() { "key_pem" } else { "chain_pem" };
        Refusal::field(field, unfit.code().as_str(), unfit)
    })?;

    // Kept under the name that it is served for, even if a wildcard covers it.
    let names = with(facts.names, record.domain.routed().to_string());
    let facts = CertificateFacts { names, ..facts };

    let sealed = app.sealer.seal(PRIVATE_KEY, key.as_bytes());
    record.bring(&facts, &chain_pem, &sealed, wanted.0).await?;
    view(&app, record.found()).await
}

fn with(mut names: Vec<String>, name: String) -> Vec<String> {
    if !names.contains(&name) {
        names.push(name);
    }
    names
}

/// Renews the certificate now, once preflight passes. One that was brought in
/// is replaced by one from the CA.
#[utoipa::path(post, path = "/api/v1/domains/{host}/certificate/renewal",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 202), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn renew(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    wanted: IfMatch,
) -> Result<StatusCode, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    if record.renew_now(wanted.0).await? {
        return Ok(StatusCode::ACCEPTED);
    }

    let detail =
        format!("{} has no certificate to renew; it gets one once its gates are passed.", asked.host);
    Err(Refusal::conflict(ProblemKind::NothingToRenew, detail))
}

/// Revokes the domain's certificates. Another is ordered at once, with another
/// key; until it is there the old one goes on being served.
#[utoipa::path(post, path = "/api/v1/domains/{host}/certificate/revocation", request_body = NewRevocation,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 202, body = Revoked), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn revoke(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    wanted: IfMatch,
    Body(new): Body<NewRevocation>,
) -> Result<(StatusCode, Shown<Revoked>), Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    let reason: RevocationReason =
        new.reason.parse().map_err(|unknown| Refusal::field("reason", FieldCode::Reason, unknown))?;

    match record.revoke(reason, wanted.0).await? {
        0 => Err(Refusal::conflict(
            ProblemKind::NothingToRevoke,
            format!("{} has no certificate from the CA.", asked.host),
        )),
        certificates => Ok((StatusCode::ACCEPTED, Shown::plain(Revoked { certificates }))),
    }
}
