//! Accounts and their sites.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::registry::{Account, AccountChange, NewAccount, NewSite, Site, SiteChange};
use nomenta_api::role::Role;
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::name::plain;
use nomenta_store::{AccountRow, StoreError};

use super::registry::{Created, at_field, short_name};
use crate::App;
use crate::access::Caller;
use crate::problem::{Body, Refusal};

/// Free names that are offered in place of a taken one.
const SUGGESTIONS: usize = 3;

/// All accounts by name; for a key of one account, that one.
#[utoipa::path(get, path = "/api/v1/accounts", responses((status = 200, body = [Account])))]
pub(super) async fn accounts(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<Account>>, Refusal> {
    caller.needs(Role::Viewer)?;
    let rows = app.store.accounts(caller.account().map(|account| account.id)).await?;
    Ok(Json(rows.into_iter().map(|row| account_of(&caller, row)).collect()))
}

/// One account.
#[utoipa::path(get, path = "/api/v1/accounts/{name}", params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Account), (status = 404, body = Problem)))]
pub(super) async fn account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<Json<Account>, Refusal> {
    caller.needs(Role::Viewer)?;
    if caller.account().is_some_and(|own| own.name != name) {
        return Err(StoreError::Missing { what: "account", name }.into());
    }
    Ok(Json(account_of(&caller, app.store.account(&name).await?)))
}

fn account_of(caller: &Caller, row: AccountRow) -> Account {
    let number = |number: i64| u32::try_from(number).unwrap_or(u32::MAX);
    Account {
        name: row.name,
        title: row.title,
        contact: row.contact,
        language: row.language,
        // For the platform's staff.
        notes: if caller.account().is_some() { String::new() } else { row.notes },
        allowance: Allowance {
            granted: row.allowance.map(|granted| number(granted.into())),
            used: number(row.domains),
        },
        suspended_at: row.suspended_at,
        created_at: row.created_at,
    }
}

/// Adds an account.
#[utoipa::path(post, path = "/api/v1/accounts", request_body = NewAccount,
    responses((status = 201, body = Account), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewAccount>,
) -> Result<Created<Account>, Refusal> {
    caller.needs_all(Role::Admin)?;
    let name = short_name("name", &new.name)?;
    let title =
        new.known.title.clone().filter(|title| !title.trim().is_empty()).unwrap_or_else(|| name.clone());
    app.store.add_account(&name, &title, &known(&new.known)?).await.map_err(at_field)?;

    Ok((StatusCode::CREATED, Json(account_of(&caller, app.store.account(&name).await?))))
}

/// Changes what is known of an account; what is left out stays.
#[utoipa::path(patch, path = "/api/v1/accounts/{name}", request_body = AccountChange,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Account), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn change_account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Body(change): Body<AccountChange>,
) -> Result<Json<Account>, Refusal> {
    caller.needs_all(Role::Admin)?;
    if change.title.as_ref().is_some_and(|title| title.trim().is_empty()) {
        return Err(Refusal::field("title", FieldCode::Empty, "Give the account a name for people."));
    }
    app.store.change_account(&name, &known(&change)?).await?;
    Ok(Json(account_of(&caller, app.store.account(&name).await?)))
}

/// Reads what is to be known of an account.
fn known(change: &AccountChange) -> Result<nomenta_store::AccountChange<'_>, Refusal> {
    Ok(nomenta_store::AccountChange {
        title: change.title.as_deref().map(str::trim),
        contact: change.contact.as_deref().map(contact).transpose()?,
        language: change.language.as_deref().map(language).transpose()?,
        notes: change.notes.as_deref(),
        allowance: change
            .allowance
            .map(|grant| grant.number().map(|number| i32::try_from(number).unwrap_or(i32::MAX))),
    })
}

/// A mail address, or nothing.
fn contact(typed: &str) -> Result<&str, Refusal> {
    let typed = typed.trim();
    let is_address = typed.split_once('@').is_some_and(|(local, domain)| {
        !local.is_empty() && Hostname::parse(domain).is_ok() && typed.len() <= 254
    });
    if typed.is_empty() || (is_address && !typed.contains(char::is_whitespace)) {
        return Ok(typed);
    }
    let message =
        format!("{} is no mail address. Type one such as office@onswick.example.", plain::shown(typed));
    Err(Refusal::field("contact", FieldCode::MailAddress, message))
}

/// A tag of a language (RFC 5646), as far as its form goes.
fn language(typed: &str) -> Result<&str, Refusal> {
    let typed = typed.trim();
    let mut parts = typed.split('-');
    let first = parts.next().unwrap_or_default();
    let is_first = (2..=3).contains(&first.len()) && first.bytes().all(|byte| byte.is_ascii_alphabetic());
    let is_rest = parts
        .all(|part| (1..=8).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_alphanumeric()));
    if is_first && is_rest && typed.len() <= 35 {
        return Ok(typed);
    }
    let message =
        format!("{} is no tag of a language. Use one such as en, de or pt-BR.", plain::shown(typed));
    Err(Refusal::field("language", FieldCode::Language, message))
}

/// Suspends an account: its routes are withdrawn, and nothing of it is looked at;
/// nothing is lost.
#[utoipa::path(post, path = "/api/v1/accounts/{name}/suspension",
    params(("name" = String, Path, description = "Short name")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn suspend(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, Refusal> {
    caller.needs_all(Role::Admin)?;
    app.store.suspend(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Gives a suspended account its routes back.
#[utoipa::path(delete, path = "/api/v1/accounts/{name}/suspension",
    params(("name" = String, Path, description = "Short name")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn unsuspend(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<StatusCode, Refusal> {
    caller.needs_all(Role::Admin)?;
    app.store.unsuspend(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// All sites by name; for a key of one account, those of that.
#[utoipa::path(get, path = "/api/v1/sites", responses((status = 200, body = [Site])))]
pub(super) async fn sites(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<Site>>, Refusal> {
    caller.needs(Role::Viewer)?;
    let rows = app.store.sites(caller.account().map(|account| account.id)).await?;
    let sites = rows.into_iter().map(|row| Site {
        name: row.name,
        account: row.account,
        ingress: row.ingress,
        default_host: row.default_host.into(),
        former_hosts: row.former_hosts.into_iter().map(DnsName::from).collect(),
        entry_path: row.entry_path,
        error_path: row.error_path,
        created_at: row.created_at,
    });

    Ok(Json(sites.collect()))
}

/// Adds a site to an account.
#[utoipa::path(post, path = "/api/v1/sites", request_body = NewSite,
    responses((status = 201, body = NewSite), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn add_site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewSite>,
) -> Result<Created<NewSite>, Refusal> {
    caller.needs_all(Role::Admin)?;
    let name = site_name(&app, &new.name).await?;
    let default_host = app.config.platform.default_host(&name);

    let site = nomenta_store::NewSite {
        account: &new.account,
        name: &name,
        ingress: &new.ingress,
        default_host: &default_host,
        entry_path: path("entry_path", &new.entry_path)?,
        error_path: path("error_path", &new.error_path)?,
    };

    match app.store.add_site(&site).await {
        Err(StoreError::Taken { .. }) => Err(taken(&app, &name).await?),
        done => {
            done.map_err(at_field)?;
            Ok((StatusCode::CREATED, Json(NewSite { name, ..new })))
        }
    }
}

/// Changes a site. Under another name its former default host leads to the new one, and
/// customers have nothing to publish anew.
#[utoipa::path(patch, path = "/api/v1/sites/{name}", request_body = SiteChange,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn change_site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Body(change): Body<SiteChange>,
) -> Result<StatusCode, Refusal> {
    caller.needs_all(Role::Admin)?;
    let renamed = match &change.name {
        Some(typed) => Some(site_name(&app, typed).await?),
        None => None,
    };
    let default_host = renamed.as_ref().map(|name| app.config.platform.default_host(name));
    let wanted = nomenta_store::SiteChange {
        name: renamed.as_deref().zip(default_host.as_deref()),
        entry_path: change.entry_path.as_deref().map(|typed| path("entry_path", typed)).transpose()?,
        error_path: change.error_path.as_deref().map(|typed| path("error_path", typed)).transpose()?,
    };

    match (app.store.change_site(&name, &wanted).await, renamed) {
        (Err(StoreError::Taken { .. }), Some(renamed)) => Err(taken(&app, &renamed).await?),
        (done, _) => {
            done?;
            Ok(StatusCode::NO_CONTENT)
        }
    }
}

/// A name that a site may have: nothing that the platform needs for itself.
async fn site_name(app: &App, typed: &str) -> Result<String, Refusal> {
    let name = short_name("name", typed)?;
    if app.config.platform.has_room_for(&name, &app.store.ingress_hosts().await?) {
        return Ok(name);
    }
    let message = format!(
        "{name} is a name that the platform needs for itself. Choose another one.{}",
        free(app, &name).await?
    );
    Err(Refusal::field("name", FieldCode::SiteName, message))
}

/// Said of a name that another site has, with names that are free.
async fn taken(app: &App, name: &str) -> Result<Refusal, Refusal> {
    let message =
        format!("There is already a site named {name}. Choose another name.{}", free(app, name).await?);
    Ok(Refusal::taken("name", message))
}

/// Some names that are free, like the one that was wanted.
async fn free(app: &App, name: &str) -> Result<String, Refusal> {
    let stem: String = name.chars().take(56).collect();
    let wanted: Vec<_> = ["-2", "-3", "-site", "-web", "-4"].map(|end| format!("{stem}{end}")).to_vec();
    let hosts: Vec<_> =
        wanted.iter().map(|name| app.config.platform.default_host(name).to_string()).collect();
    let free = app.store.free_site_names(&wanted, &hosts).await?;

    Ok(match free.split_at_checked(SUGGESTIONS.min(free.len())) {
        Some((some, _)) if !some.is_empty() => format!(" Free are {}.", some.join(", ")),
        _ => String::new(),
    })
}

/// A path on the site, as it stands in a web address.
pub(super) fn path<'a>(field: &str, typed: &'a str) -> Result<&'a str, Refusal> {
    let sound = typed.starts_with('/') && typed.bytes().all(|byte| byte.is_ascii_graphic() && byte != b'#');
    if sound {
        return Ok(typed);
    }
    let message = format!("{typed} is not a path on the site. Begin with a slash, as in /timetable.");
    Err(Refusal::field(field, FieldCode::Path, message))
}
