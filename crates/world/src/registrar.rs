//! The stand-in for a registry's RDAP service (RFC 9082): it knows every domain of the world, and
//! when it runs out.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::Context;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::get;
use axum::{Json, Router};
use chrono::{DateTime, TimeDelta, Utc};
use nomenta_core::reading::record::RecordData;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::Layout;
use crate::front::Minted;
use crate::layout::HARROW;
use crate::tls;
use crate::zones::{Change, Zones};

/// Where it listens.
const ADDRESS: Ipv4Addr = Ipv4Addr::new(127, 88, 0, 6);
/// Its name.
const HOST: &str = "rdap.harrowdns.example";
const TTL: u32 = 20;

/// What it says of a domain that differs from the others.
#[derive(Clone, Debug)]
pub struct Entry {
    /// When it runs out.
    pub expires_at: DateTime<Utc>,
    /// Its statuses (RFC 8056).
    pub status: Vec<String>,
}

/// The registry's records.
#[derive(Clone, Default)]
pub struct Registrar {
    entries: Arc<Mutex<HashMap<String, Entry>>>,
}

/// The file that says whom to ask (RFC 9224).
pub(crate) fn bootstrap() -> String {
    let services = json!([[["example", "test"], [format!("https://{HOST}/rdap/")]]]);
    json!({ "version": "1.0", "services": services }).to_string()
}

/// Starts it; it ends with the guard.
pub(crate) async fn start(layout: &Layout, zones: &Zones) -> anyhow::Result<(Registrar, DropGuard)> {
    let address = Change::Add { owner: HOST.into(), ttl: TTL, data: RecordData::A(ADDRESS) };
    zones.update(HARROW.zone, &[address]).await?;

    let registrar = Registrar::default();
    let address = SocketAddr::from((ADDRESS, layout.https_port()));
    let listener = TcpListener::bind(address).await;
    let listener = listener.with_context(|| format!("The registry cannot be asked at {address}"))?;
    let acceptor = tls::server(Arc::new(Minted::open(layout, HOST)?), &[b"http/1.1"])?;
    let app = Router::new().route("/rdap/domain/{name}", get(domain)).with_state(registrar.clone());

    let stop = CancellationToken::new();
    tokio::spawn(tls::serve(listener, acceptor, app, stop.clone()));
    Ok((registrar, stop.drop_guard()))
}

impl Registrar {
    /// Says this of a domain from now on.
    pub fn say(&self, domain: &str, entry: Entry) {
        self.entries.lock().unwrap_or_else(PoisonError::into_inner).insert(domain.to_owned(), entry);
    }
}

async fn domain(
    State(registrar): State<Registrar>,
    Path(name): Path<String>,
) -> Result<Json<Value>, StatusCode> {
    let entry = registrar.entries.lock().unwrap_or_else(PoisonError::into_inner).get(&name).cloned();
    let entry = entry.unwrap_or_else(|| Entry {
        expires_at: Utc::now() + TimeDelta::days(300),
        status: vec!["active".into()],
    });
    Ok(Json(json!({
        "objectClassName": "domain",
        "ldhName": name.to_uppercase(),
        "status": entry.status,
        "events": [
            { "eventAction": "registration", "eventDate": "2019-04-02T08:00:00Z" },
            { "eventAction": "expiration", "eventDate": entry.expires_at },
        ],
        "entities": [{
            "objectClassName": "entity", "roles": ["registrar"],
            "vcardArray": ["vcard", [["version", {}, "text", "4.0"], ["fn", {}, "text", "Harrow Names"]]],
        }],
    })))
}
