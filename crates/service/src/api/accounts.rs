//! Accounts and their sites.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::registry::{Account, AccountChange, NamesQuery, NewAccount, NewSite, Site, SiteChange};
use nomenta_api::role::Role;
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::plain;
use nomenta_store::{AccountRow, NameFilter, SiteRow, StoreError};

use super::paging;
use super::registry::{at_field, short_name};
use crate::App;
use crate::access::Caller;
use crate::precondition::{IfMatch, Tagged, tagged};
use crate::problem::{Body, Named, Params, Refusal};
use crate::reach::{Reach, Whole};
use crate::shown::Shown;

/// Free names that are offered in place of a taken one.
const SUGGESTIONS: usize = 3;

/// Accounts by name, a page at a time; the `Link` header leads to the next (RFC 8288). Where a text
/// is in many of them a page may have fewer than were asked for, and leads on all the same.
#[utoipa::path(get, path = "/api/v1/accounts", params(NamesQuery),
    responses((status = 200, body = [Account]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn accounts(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<NamesQuery>,
) -> Result<(HeaderMap, Shown<Vec<Account>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let page = reach.accounts(names(&query), limit + 1).await?;
    let asked = paging::asked(&query)?;
    let (headers, rows) = paging::page_beyond(
        page,
        limit,
        "accounts",
        |row| row.name.clone(),
        |name| Some(name.clone()),
        &asked,
    )?;

    Ok((headers, Shown::to(rows.into_iter().map(account_of).collect(), &caller)))
}

fn names(query: &NamesQuery) -> NameFilter {
    let text = query.text.as_deref().map(str::trim).filter(|text| !text.is_empty());
    NameFilter { text: text.map(str::to_owned), after: query.after.clone(), ..NameFilter::default() }
}

/// One account.
#[utoipa::path(get, path = "/api/v1/accounts/{name}", params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Account), (status = 404, body = Problem)))]
pub(super) async fn account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Tagged, Shown<Account>), Refusal> {
    account_read(&caller.reach(&app, Role::Viewer)?, &caller, &name).await
}

/// An account with the tag of its version.
async fn account_read(
    reach: &Reach,
    caller: &Caller,
    name: &str,
) -> Result<(Tagged, Shown<Account>), Refusal> {
    let row = reach.account(name).await?;
    Ok((tagged(row.id, row.version), Shown::to(account_of(row), caller)))
}

fn account_of(row: AccountRow) -> Account {
    let number = |number: i64| u32::try_from(number).unwrap_or(u32::MAX);
    Account {
        name: row.name,
        title: row.title,
        contact: row.contact,
        language: row.language,
        notes: row.notes,
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
) -> Result<(StatusCode, (Tagged, Shown<Account>)), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let name = short_name("name", &new.name)?;
    let typed = new.known();
    let title = typed.title.clone().filter(|title| !title.trim().is_empty()).unwrap_or_else(|| name.clone());
    records.add_account(&name, &title, &known(&typed)).await.map_err(at_field)?;

    let reach = records.reach();
    Ok((StatusCode::CREATED, app.done(|| account_read(&reach, &caller, &name)).await?))
}

/// Changes what is known of an account; what is left out stays.
#[utoipa::path(patch, path = "/api/v1/accounts/{name}", request_body = AccountChange,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Account), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn change_account(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
    wanted: IfMatch,
    Body(change): Body<AccountChange>,
) -> Result<(Tagged, Shown<Account>), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    if change.title.as_ref().is_some_and(|title| title.trim().is_empty()) {
        return Err(Refusal::field("title", FieldCode::Empty, "Give the account a name for people."));
    }
    let known = known(&change);
    records.change_account(&name, &known, wanted.0).await?;
    account_read(&records.reach(), &caller, &name).await
}

/// What is to be known of an account; its form has been looked at.
fn known(change: &AccountChange) -> nomenta_store::AccountChange<'_> {
    nomenta_store::AccountChange {
        title: change.title.as_deref().map(str::trim),
        contact: change.contact.as_deref().map(str::trim),
        language: change.language.as_deref().map(str::trim),
        notes: change.notes.as_deref(),
        allowance: change
            .allowance
            .map(|grant| grant.number().map(|number| i32::try_from(number).unwrap_or(i32::MAX))),
    }
}

/// Suspends an account: its routes are withdrawn, and nothing of it is looked at;
/// nothing is lost.
#[utoipa::path(post, path = "/api/v1/accounts/{name}/suspension",
    params(("name" = String, Path, description = "Short name")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn suspend(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
    wanted: IfMatch,
) -> Result<StatusCode, Refusal> {
    caller.whole(&app, Role::Admin)?.suspend(&name, wanted.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Gives a suspended account its routes back.
#[utoipa::path(delete, path = "/api/v1/accounts/{name}/suspension",
    params(("name" = String, Path, description = "Short name")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn unsuspend(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
    wanted: IfMatch,
) -> Result<StatusCode, Refusal> {
    caller.whole(&app, Role::Admin)?.unsuspend(&name, wanted.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sites by name, a page at a time; the `Link` header leads to the next (RFC 8288). Where a text
/// is in many of them a page may have fewer than were asked for, and leads on all the same.
#[utoipa::path(get, path = "/api/v1/sites", params(NamesQuery),
    responses((status = 200, body = [Site]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn sites(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<NamesQuery>,
) -> Result<(HeaderMap, Shown<Vec<Site>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let page = reach.sites(names(&query), limit + 1).await?;
    let asked = paging::asked(&query)?;
    let (headers, rows) =
        paging::page_beyond(page, limit, "sites", |row| row.name.clone(), |name| Some(name.clone()), &asked)?;

    Ok((headers, Shown::plain(rows.into_iter().map(site_of).collect())))
}

fn site_of(row: SiteRow) -> Site {
    Site {
        name: row.name,
        account: row.account,
        ingress: row.ingress,
        default_host: row.default_host.into(),
        former_hosts: row.former_hosts.into_iter().map(DnsName::from).collect(),
        entry_path: row.entry_path,
        error_path: row.error_path,
        created_at: row.created_at,
    }
}

/// One site.
#[utoipa::path(get, path = "/api/v1/sites/{name}", params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Site), (status = 404, body = Problem)))]
pub(super) async fn site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Tagged, Shown<Site>), Refusal> {
    site_read(&caller.reach(&app, Role::Viewer)?, &name).await
}

/// A site with the tag of its version.
async fn site_read(reach: &Reach, name: &str) -> Result<(Tagged, Shown<Site>), Refusal> {
    let row = reach.site(name).await?;
    Ok((tagged(row.id, row.version), Shown::plain(site_of(row))))
}

/// Adds a site to an account.
#[utoipa::path(post, path = "/api/v1/sites", request_body = NewSite,
    responses((status = 201, body = Site), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn add_site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewSite>,
) -> Result<(StatusCode, (Tagged, Shown<Site>)), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let name = site_name(&app, &records, &new.name).await?;
    let default_host = app.config.platform.default_host(&name);

    let site = nomenta_store::NewSite {
        account: &new.account,
        name: &name,
        ingress: &new.ingress,
        default_host: &default_host,
        entry_path: path("entry_path", &new.entry_path)?,
        error_path: path("error_path", &new.error_path)?,
    };

    match records.add_site(&site).await {
        Err(StoreError::Taken { .. }) => Err(taken(&app, &records, &name).await?),
        done => {
            done.map_err(at_field)?;
            let reach = records.reach();
            Ok((StatusCode::CREATED, app.done(|| site_read(&reach, &name)).await?))
        }
    }
}

/// Changes a site. Under another name its former default host leads to the new one, and
/// customers have nothing to publish anew.
#[utoipa::path(patch, path = "/api/v1/sites/{name}", request_body = SiteChange,
    params(("name" = String, Path, description = "Short name")),
    responses((status = 200, body = Site), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn change_site(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
    wanted: IfMatch,
    Body(change): Body<SiteChange>,
) -> Result<(Tagged, Shown<Site>), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let renamed = match &change.name {
        Some(typed) => Some(site_name(&app, &records, typed).await?),
        None => None,
    };
    let default_host = renamed.as_ref().map(|name| app.config.platform.default_host(name));
    let change = nomenta_store::SiteChange {
        name: renamed.as_deref().zip(default_host.as_deref()),
        entry_path: change.entry_path.as_deref().map(|typed| path("entry_path", typed)).transpose()?,
        error_path: change.error_path.as_deref().map(|typed| path("error_path", typed)).transpose()?,
    };

    match (records.change_site(&name, &change, wanted.0).await, renamed) {
        (Err(StoreError::Taken { .. }), Some(renamed)) => Err(taken(&app, &records, &renamed).await?),
        (done, renamed) => {
            done?;
            site_read(&records.reach(), renamed.as_deref().unwrap_or(&name)).await
        }
    }
}

/// A name that a site may have: nothing that the platform needs for itself.
async fn site_name(app: &App, records: &Whole, typed: &str) -> Result<String, Refusal> {
    let name = short_name("name", typed)?;
    if app.config.platform.has_room_for(&name, &records.ingress_hosts().await?) {
        return Ok(name);
    }
    let message = format!(
        "{name} is a name that the platform needs for itself. Choose another one.{}",
        free(app, records, &name).await?
    );
    Err(Refusal::taken("name", FieldCode::SiteName, message))
}

/// Said of a name that another site has, with names that are free.
async fn taken(app: &App, records: &Whole, name: &str) -> Result<Refusal, Refusal> {
    let message = format!(
        "There is already a site named {name}. Choose another name.{}",
        free(app, records, name).await?
    );
    Ok(Refusal::taken("name", FieldCode::Taken, message))
}

/// Some names that are free, like the one that was wanted.
async fn free(app: &App, records: &Whole, name: &str) -> Result<String, Refusal> {
    let stem: String = name.chars().take(56).collect();
    let wanted: Vec<_> = ["-2", "-3", "-site", "-web", "-4"].map(|end| format!("{stem}{end}")).to_vec();
    let hosts: Vec<_> =
        wanted.iter().map(|name| app.config.platform.default_host(name).to_string()).collect();
    let free = records.free_site_names(&wanted, &hosts).await?;

    Ok(match free.split_at_checked(SUGGESTIONS.min(free.len())) {
        Some((some, _)) if !some.is_empty() => format!(" Free are {}.", some.join(", ")),
        _ => String::new(),
    })
}

/// A path on the site, as it stands in a web address. A second slash, or a backslash, which
/// browsers take for one, would lead to another host (WHATWG URL, section 4.4).
pub(super) fn path<'a>(field: &str, typed: &'a str) -> Result<&'a str, Refusal> {
    let is_plain = typed.bytes().all(|byte| byte.is_ascii_graphic() && byte != b'#' && byte != b'\\');
    if typed.starts_with('/') && !typed.starts_with("//") && is_plain {
        return Ok(typed);
    }
    let message =
        format!("{} is not a path on the site. Begin with one slash, as in /timetable.", plain::shown(typed));
    Err(Refusal::field(field, FieldCode::Path, message))
}
