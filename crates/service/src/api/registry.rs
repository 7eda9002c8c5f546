//! Accounts, sites, ingresses and keys.

use std::str::FromStr;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::name::subject::Subject;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use nomenta_store::StoreError;
use uuid::Uuid;

use super::dto::{AccessKey, Account, MadeKey, NewAccount, NewIngress, NewKey, NewSite, Site, Targets};
use crate::App;
use crate::access::{self, Caller};
use crate::problem::{Body, Problem};
use crate::role::Role;

type Created<T> = (StatusCode, Json<T>);

/// Short names end up in host names, so they follow the same rule.
fn short_name(field: &str, name: &str) -> Result<String, Problem> {
    let name = name.trim().to_ascii_lowercase();
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '-';
    let sound = !name.is_empty() && name.len() <= 63 && name.chars().all(fits);
    if sound && !name.starts_with('-') && !name.ends_with('-') {
        return Ok(name);
    }
    let message = "Use 1 to 63 letters, digits and hyphens, with no hyphen at either end.";
    Err(Problem::field(field, "short-name", message))
}

/// Says at which field a record is missing or taken.
fn at_field(error: StoreError) -> Problem {
    let field = match &error {
        StoreError::Missing { what: "account", .. } => "account",
        StoreError::Missing { what: "ingress", .. } => "ingress",
        _ => "name",
    };
    Problem::from(error).at(field)
}

/// All accounts by name.
#[utoipa::path(get, path = "/api/v1/accounts", responses((status = 200, body = [Account])))]
pub(super) async fn accounts(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<Account>>, Problem> {
    caller.needs(Role::Viewer)?;
    let rows = app.store.accounts().await?.into_iter();
    let account = |r: nomenta_store::AccountRow| Account {
        name: r.name,
        title: r.title,
        created_at: r.created_at,
        domains: r.domains,
    };
    Ok(Json(rows.map(account).collect()))
}

/// Adds an account.
#[utoipa::path(post, path = "/api/v1/accounts", request_body = NewAccount,
    responses((status = 201, body = NewAccount), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewAccount>,
) -> Result<Created<NewAccount>, Problem> {
    caller.needs(Role::Admin)?;
    let name = short_name("name", &new.name)?;
    let title = new.title.filter(|t| !t.trim().is_empty()).unwrap_or_else(|| name.clone());
    app.store.add_account(&name, &title).await.map_err(at_field)?;
    Ok((StatusCode::CREATED, Json(NewAccount { name, title: Some(title) })))
}

/// All sites by name.
#[utoipa::path(get, path = "/api/v1/sites", responses((status = 200, body = [Site])))]
pub(super) async fn sites(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<Site>>, Problem> {
    caller.needs(Role::Viewer)?;
    let rows = app.store.sites().await?.into_iter();
    let site = |r: nomenta_store::SiteRow| Site {
        name: r.name,
        account: r.account,
        ingress: r.ingress,
        default_host: r.default_host,
        entry_path: r.entry_path,
        error_path: r.error_path,
        created_at: r.created_at,
    };
    Ok(Json(rows.map(site).collect()))
}

/// Adds a site to an account.
#[utoipa::path(post, path = "/api/v1/sites", request_body = NewSite,
    responses((status = 201, body = NewSite), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn add_site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewSite>,
) -> Result<Created<NewSite>, Problem> {
    caller.needs(Role::Admin)?;
    let name = short_name("name", &new.name)?;
    let default_host = app.config.platform.default_host(&name);
    let (entry_path, error_path) =
        (path("entry_path", &new.entry_path)?, path("error_path", &new.error_path)?);
    let site = nomenta_store::NewSite {
        account: &new.account,
        name: &name,
        ingress: &new.ingress,
        default_host: &default_host,
        entry_path,
        error_path,
    };
    app.store.add_site(&site).await.map_err(at_field)?;
    Ok((StatusCode::CREATED, Json(NewSite { name, ..new })))
}

/// A path on the site, as it stands in a web address.
fn path<'a>(field: &str, typed: &'a str) -> Result<&'a str, Problem> {
    let sound = typed.starts_with('/') && typed.bytes().all(|b| b.is_ascii_graphic() && b != b'#');
    match sound {
        true => Ok(typed),
        false => {
            let message = format!("{typed} is not a path on the site. Begin with a slash, as in /timetable.");
            Err(Problem::field(field, "path", message))
        }
    }
}

/// All ingresses by name.
#[utoipa::path(get, path = "/api/v1/ingresses", responses((status = 200, body = [Ingress])))]
pub(super) async fn ingresses(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<Ingress>>, Problem> {
    caller.needs(Role::Viewer)?;
    Ok(Json(app.store.ingresses().await?))
}

/// Adds an ingress.
#[utoipa::path(post, path = "/api/v1/ingresses", request_body = NewIngress,
    responses((status = 201, body = Ingress), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_ingress(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewIngress>,
) -> Result<Created<Ingress>, Problem> {
    caller.needs(Role::Admin)?;
    let ingress = read_targets(short_name("name", &new.name)?, &new.targets)?;
    Ok((StatusCode::CREATED, Json(app.store.put_ingress(&ingress, false).await.map_err(at_field)?)))
}

/// Gives an ingress other targets; every domain behind it is looked at again.
#[utoipa::path(put, path = "/api/v1/ingresses/{name}", request_body = Targets,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Ingress), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn revise_ingress(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Body(targets): Body<Targets>,
) -> Result<Json<Ingress>, Problem> {
    caller.needs(Role::Admin)?;
    Ok(Json(app.store.put_ingress(&read_targets(name, &targets)?, true).await?))
}

fn read_targets(name: String, targets: &Targets) -> Result<Ingress, Problem> {
    if targets.ipv4.is_empty() {
        return Err(Problem::field("ipv4", "empty", "Give at least one IPv4 address, for apex domains."));
    }
    let canonical = CanonicalHost::parse(&targets.canonical)
        .map_err(|e| Problem::field("canonical", "canonical-host", e))?;
    let ipv4 = read_addresses("ipv4", "an IPv4", &targets.ipv4)?;
    let ipv6 = read_addresses("ipv6", "an IPv6", &targets.ipv6)?;
    let name_servers =
        targets.name_servers.iter().map(|typed| read_server(typed)).collect::<Result<_, _>>()?;
    let subdomain_addresses = targets.subdomain_addresses;
    Ok(Ingress { name, revision: 0, ipv4, ipv6, canonical, name_servers, subdomain_addresses })
}

fn read_server(typed: &str) -> Result<String, Problem> {
    let host = Hostname::parse(typed).map_err(|e| Problem::field("name_servers", e.code(), e))?;
    Ok(host.to_string())
}

fn read_addresses<A: FromStr, C: FromIterator<A>>(
    field: &str,
    kind: &str,
    typed: &[String],
) -> Result<C, Problem> {
    typed
        .iter()
        .map(|text| {
            let message = format!("{text} is not {kind} address.");
            text.trim().parse().map_err(|_| Problem::field(field, "address", message))
        })
        .collect()
}

/// All keys, newest first.
#[utoipa::path(get, path = "/api/v1/keys", responses((status = 200, body = [AccessKey])))]
pub(super) async fn keys(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<AccessKey>>, Problem> {
    caller.needs(Role::Admin)?;
    let rows = app.store.keys().await?.into_iter();
    let key = |r: nomenta_store::KeyRow| AccessKey {
        id: r.id,
        name: r.name,
        role: r.role,
        hint: r.hint,
        created_at: r.created_at,
        used_at: r.used_at,
        revoked_at: r.revoked_at,
    };
    Ok(Json(rows.map(key).collect()))
}

/// Makes a key; its secret is shown this once.
#[utoipa::path(post, path = "/api/v1/keys", request_body = NewKey,
    responses((status = 201, body = MadeKey), (status = 422, body = Problem)))]
pub(super) async fn add_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewKey>,
) -> Result<Created<MadeKey>, Problem> {
    caller.needs(Role::Admin)?;
    let name = new.name.trim();
    if name.is_empty() {
        return Err(Problem::field("name", "empty", "Say what the key is for."));
    }
    let bits: [u8; 20] = rand::random();
    let secret = format!("nmt_{}", data_encoding::BASE32_NOPAD.encode(&bits).to_ascii_lowercase());
    let (hash, hint) = (access::hash(&secret), access::hint(&secret));
    let id = app.store.add_key(name, new.role.as_str(), &hash, &hint).await?;
    Ok((StatusCode::CREATED, Json(MadeKey { id, secret })))
}

/// Makes a key open nothing from now on.
#[utoipa::path(delete, path = "/api/v1/keys/{id}", params(("id" = Uuid, Path, description = "The key")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn revoke_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<Uuid>,
) -> Result<StatusCode, Problem> {
    caller.needs(Role::Admin)?;
    app.store.revoke_key(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Reads the host in a path, as forgiving as the form.
pub(super) fn host_in_path(typed: &str) -> Result<String, Problem> {
    let subject = Subject::parse(typed).map_err(|e| Problem::field("host", e.code(), e))?;
    Ok(subject.to_string())
}
