//! Ingresses and keys.

use std::str::FromStr;
use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::AppendHeaders;
use chrono::Utc;
use nomenta_api::problem::FieldCode;
use nomenta_api::problem::Problem;
use nomenta_api::registry::{AccessKey, KeysQuery, MadeKey, NewIngress, NewKey, PageQuery, Targets};
use nomenta_api::role::Role;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use nomenta_store::{IngressRow, KeyAccount, KeyRow, StoreError};
use uuid::Uuid;

use super::paging;
use crate::App;
use crate::access::{self, Caller};
use crate::precondition::{IfMatch, Tagged, tagged};
use crate::problem::{Body, Named, Params, Refusal};
use crate::shown::Shown;

pub(super) type Created<T> = (StatusCode, Shown<T>);

/// Short names end up in host names, so they follow the same rule.
pub(super) fn short_name(field: &str, name: &str) -> Result<String, Refusal> {
    let name = name.trim().to_ascii_lowercase();
    let is_plain = name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
    let sound = !name.is_empty() && name.len() <= 63 && is_plain;

    if sound && !name.starts_with('-') && !name.ends_with('-') {
        return Ok(name);
    }

    let message = "Use 1 to 63 letters, digits and hyphens, with no hyphen at either end.";
    Err(Refusal::field(field, FieldCode::ShortName, message))
}

/// Says at which field a record is missing or taken.
pub(super) fn at_field(error: StoreError) -> Refusal {
    let field = match &error {
        StoreError::Missing { what: "account", .. } => "account",
        StoreError::Missing { what: "ingress", .. } => "ingress",
        _ => "name",
    };
    Refusal::of_record(error, field)
}

/// Ingresses by name, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/ingresses", params(PageQuery),
    responses((status = 200, body = [Ingress]), (status = 422, body = Problem)))]
pub(super) async fn ingresses(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<PageQuery>,
) -> Result<(HeaderMap, Shown<Vec<Ingress>>), Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    let limit = paging::limit(query.limit)?;
    let rows = reach.ingresses(query.after.as_deref().unwrap_or_default(), limit + 1).await?;
    let place = |ingress: &Ingress| ingress.name.clone();
    let (headers, rows) = paging::page(rows, limit, "ingresses", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows)))
}

/// One ingress.
#[utoipa::path(get, path = "/api/v1/ingresses/{name}",
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Ingress), (status = 404, body = Problem)))]
pub(super) async fn ingress(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Tagged, Shown<Ingress>), Refusal> {
    Ok(ingress_of(caller.reach(&app, Role::Viewer)?.ingress(&name).await?))
}

/// An ingress with the tag of its version.
fn ingress_of(row: IngressRow) -> (Tagged, Shown<Ingress>) {
    (tagged(row.version.id, row.version.number), Shown::plain(row.ingress))
}

/// Adds an ingress.
#[utoipa::path(post, path = "/api/v1/ingresses", request_body = NewIngress,
    responses((status = 201, body = Ingress), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_ingress(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewIngress>,
) -> Result<(StatusCode, (Tagged, Shown<Ingress>)), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let ingress = read_targets(short_name("name", &new.name)?, &new.targets())?;
    let added = records.add_ingress(&ingress).await.map_err(at_field)?;
    Ok((StatusCode::CREATED, ingress_of(added)))
}

/// Gives an ingress other targets. Every domain behind it is looked at again by a job, to
/// which the `Link` header leads (`rel="monitor"`, RFC 5989).
#[utoipa::path(put, path = "/api/v1/ingresses/{name}", request_body = Targets,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Ingress), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn revise_ingress(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
    wanted: IfMatch,
    Body(targets): Body<Targets>,
) -> Result<(Tagged, AppendHeaders<[(header::HeaderName, HeaderValue); 1]>, Shown<Ingress>), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let targets = read_targets(name, &targets)?;
    let (row, job) = records.revise_ingress(&targets, wanted.0).await?;

    let (tag, ingress) = ingress_of(row);
    let link = HeaderValue::from_str(&format!("</api/v1/jobs/{job}>; rel=\"monitor\""));
    let link = link.map_err(|error| Refusal::internal(error.to_string()))?;
    Ok((tag, AppendHeaders([(header::LINK, link)]), ingress))
}

fn read_targets(name: String, targets: &Targets) -> Result<Ingress, Refusal> {
    if targets.ipv4.is_empty() {
        return Err(Refusal::field(
            "ipv4",
            FieldCode::Empty,
            "Give at least one IPv4 address, for apex domains.",
        ));
    }

    let canonical = CanonicalHost::parse(&targets.canonical)
        .map_err(|error| Refusal::field("canonical", FieldCode::CanonicalHost, error))?;
    let ipv4 = read_addresses("ipv4", "an IPv4", &targets.ipv4)?;
    let ipv6 = read_addresses("ipv6", "an IPv6", &targets.ipv6)?;
    let name_servers =
        targets.name_servers.iter().map(|typed| read_server(typed)).collect::<Result<_, _>>()?;
    let subdomain_addresses = targets.subdomain_addresses;

    Ok(Ingress { name, revision: 0, ipv4, ipv6, canonical, name_servers, subdomain_addresses })
}

fn read_server(typed: &str) -> Result<DnsName, Refusal> {
    let host = Hostname::parse(typed).map_err(|error| Refusal::field("name_servers", error.code(), error))?;
    Ok(DnsName::from(&host))
}

fn read_addresses<A: FromStr, C: FromIterator<A>>(
    field: &str,
    kind: &str,
    typed: &[String],
) -> Result<C, Refusal> {
    typed
        .iter()
        .map(|text| {
            let message = format!("{text} is not {kind} address.");
            text.trim().parse().map_err(|_| Refusal::field(field, FieldCode::Address, message))
        })
        .collect()
}

/// Keys, newest first, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/keys", params(KeysQuery),
    responses((status = 200, body = [AccessKey]), (status = 422, body = Problem)))]
pub(super) async fn keys(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<KeysQuery>,
) -> Result<(HeaderMap, Shown<Vec<AccessKey>>), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let limit = paging::limit(query.limit)?;
    let rows = records.keys(query.after, limit + 1).await?;
    let place = |key: &KeyRow| key.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "keys", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::of_all(rows.into_iter().map(key_of).collect(), &records)))
}

fn key_of(row: KeyRow) -> AccessKey {
    AccessKey {
        id: row.id,
        name: row.name,
        role: row.role,
        accounts: accounts_of(row.accounts),
        hint: row.hint,
        created_at: row.created_at,
        used_at: row.used_at,
        expires_at: row.expires_at,
        revoked_at: row.revoked_at,
    }
}

/// Names of the accounts that a key opens alone; none where it opens every one.
pub(super) fn accounts_of(accounts: Option<Vec<KeyAccount>>) -> Vec<String> {
    accounts.into_iter().flatten().map(|account| account.name).collect()
}

/// Makes a key; its secret is shown this once.
#[utoipa::path(post, path = "/api/v1/keys", request_body = NewKey,
    responses((status = 201, body = MadeKey), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewKey>,
) -> Result<Created<MadeKey>, Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let name = new.name.trim();
    if name.is_empty() {
        return Err(Refusal::field("name", FieldCode::Empty, "Say what the key is for."));
    }

    if new.expires_at.is_some_and(|at| at <= Utc::now()) {
        let message = "The key would have expired already. Give a time to come, or none.";
        return Err(Refusal::field("expires_at", FieldCode::OutOfRange, message));
    }

    let secret = access::secret("nmt_");
    let key = nomenta_store::NewKey {
        name,
        role: new.role,
        accounts: &new.accounts,
        expires_at: new.expires_at,
        hash: &access::hash(&secret),
        hint: &access::hint(&secret),
    };
    let id = records.add_key(&key).await.map_err(at_field)?;
    Ok((StatusCode::CREATED, Shown::secret(MadeKey { id, secret }, &caller)?))
}

/// Makes a key open nothing from now on.
#[utoipa::path(delete, path = "/api/v1/keys/{id}", params(("id" = Uuid, Path, description = "The key")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn revoke_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
    wanted: IfMatch,
) -> Result<StatusCode, Refusal> {
    caller.whole(&app, Role::Admin)?.revoke_key(id, wanted.0).await?;
    Ok(StatusCode::NO_CONTENT)
}
