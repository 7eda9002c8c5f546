//! The stand-in for a DNS operator that speaks Domain Connect: Harrow DNS. Whoever is sent there
//! with a signed link sees what will change, agrees or not, and is sent back; what they agree
//! to is published in their zone at Knot.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::{Context, bail, ensure};
use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::rsa::{KeyPair, KeySize};
use aws_lc_rs::signature::{KeyPair as _, RSA_PKCS1_2048_8192_SHA256, UnparsedPublicKey};
use axum::extract::{Form, Path, RawQuery, State};
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use hickory_proto::rr::{RData, RecordType};
use nomenta_core::name::dns::DnsName;
use nomenta_core::one_click::apply::key_texts;
use nomenta_core::one_click::template::{DISCOVERY_LABEL, Template, TemplateRecord};
use nomenta_core::reading::record::RecordData;
use pem::Pem;
use serde::Deserialize;
use serde_json::json;
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::front::Minted;
use crate::layout::{HARROW, PLATFORM};
use crate::tls;
use crate::update::ask;
use crate::zones::{Change, Zones, servers};
use crate::{Layout, PATIENCE, wait_for};

/// Where it listens.
pub const CONSENT: Ipv4Addr = Ipv4Addr::new(127, 88, 0, 3);
/// Its name.
pub const CONSENT_HOST: &str = "connect.harrowdns.example";
/// Where its settings begin.
const SETTINGS: &str = "/dc";
const TTL: u32 = 5;

/// The operator, as tests and the demo make it behave.
#[derive(Clone)]
pub struct Consent {
    shared: Arc<Shared>,
}

struct Shared {
    layout: Layout,
    zones: Zones,
    known: Mutex<HashMap<(String, String), Template>>,
    garbled: Mutex<Vec<String>>,
}

/// The key that the platform signs with; made at the first start.
pub(crate) fn platform_key(layout: &Layout) -> anyhow::Result<String> {
    let path = layout.one_click_key();
    if !path.exists() {
        let key = KeyPair::generate(KeySize::Rsa2048)?;
        layout.write("one-click.pem", &pem::encode(&Pem::new("PRIVATE KEY", key.as_der()?.as_ref())))?;
    }
    Ok(std::fs::read_to_string(path)?)
}

/// Starts it, and publishes the platform's key; it ends with the guard.
pub(crate) async fn start(layout: &Layout, zones: &Zones) -> anyhow::Result<(Consent, DropGuard)> {
    let private = KeyPair::from_pkcs8(pem::parse(platform_key(layout)?)?.contents())?;
    let public = BASE64.encode(private.public_key().as_der()?.as_ref());
    let owner = format!("k1.one-click.{}", PLATFORM.zone);
    let texts = key_texts(&public).into_iter().map(|text| Change::Add {
        owner: owner.clone(),
        ttl: TTL,
        data: RecordData::Txt(text.as_str().into()),
    });
    let mut changes = vec![Change::Clear { owner: owner.clone() }];
    changes.extend(texts);
    zones.update(PLATFORM.zone, &changes).await?;

    let address = Change::Add { owner: CONSENT_HOST.into(), ttl: TTL, data: RecordData::A(CONSENT) };
    zones.update(HARROW.zone, &[address]).await?;

    let shared = Shared {
        layout: layout.clone(),
        zones: zones.clone(),
        known: Mutex::default(),
        garbled: Mutex::default(),
    };
    let consent = Consent { shared: Arc::new(shared) };
    let address = SocketAddr::from((CONSENT, layout.https_port()));
    let listener = TcpListener::bind(address).await;
    let listener = listener.with_context(|| format!("The operator's pages cannot be served at {address}"))?;
    let acceptor = tls::server(Arc::new(Minted::open(layout, CONSENT_HOST)?), &[b"http/1.1"])?;

    let stop = CancellationToken::new();
    tokio::spawn(tls::serve(listener, acceptor, consent.clone().app(), stop.clone()));
    Ok((consent, stop.drop_guard()))
}

impl Consent {
    /// Knows a template from now on.
    pub fn learn(&self, template: Template) {
        let key = (template.provider_id.clone(), template.service_id.clone());
        self.shared.known.lock().unwrap_or_else(PoisonError::into_inner).insert(key, template);
    }

    /// Sends nonsense for the settings of a zone.
    pub fn garble(&self, zone: &str) {
        self.shared.garbled.lock().unwrap_or_else(PoisonError::into_inner).push(zone.to_owned());
    }

    /// Offers one click for a zone.
    ///
    /// # Errors
    /// If the name server refuses.
    pub async fn offer(&self, zone: &str) -> anyhow::Result<()> {
        let data = RecordData::Txt(format!("{CONSENT_HOST}{SETTINGS}").as_str().into());
        let owner = format!("{DISCOVERY_LABEL}.{zone}");
        self.shared.zones.update(zone, &[Change::Add { owner: owner.clone(), ttl: TTL, data }]).await?;

        let is_everywhere = || async {
            let port = self.shared.layout.dns_port();
            for (_, server) in servers(HARROW) {
                let reply = ask(SocketAddr::from((server, port)), &owner, RecordType::TXT).await;
                if reply.is_ok_and(|reply| reply.answers().is_empty()) {
                    return false;
                }
            }
            true
        };
        wait_for("one click being offered at each name server", PATIENCE, is_everywhere).await
    }

    fn app(self) -> Router {
        Router::new()
            .route("/dc/v2/{zone}/settings", get(settings))
            .route("/api/v2/domainTemplates/providers/{provider}/services/{service}", get(template))
            .route("/ux/v2/domainTemplates/providers/{provider}/services/{service}/apply", get(asked))
            .route("/ux/decided", post(decided))
            .with_state(self)
    }

    fn template(&self, provider: &str, service: &str) -> Option<Template> {
        let known = self.shared.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&(provider.to_owned(), service.to_owned())).cloned()
    }
}

async fn settings(State(consent): State<Consent>, Path(zone): Path<String>) -> Response {
    let garbled = consent.shared.garbled.lock().unwrap_or_else(PoisonError::into_inner).contains(&zone);
    if garbled {
        return "{ \"providerId\": ".into_response();
    }
    let port = consent.shared.layout.https_port();
    let base = format!("https://{CONSENT_HOST}:{port}");
    // Nobody's browser finds names of this world.
    let pages = format!("https://{CONSENT}:{port}/ux");
    Json(json!({
        "providerId": HARROW.zone, "providerName": "Harrow", "providerDisplayName": "Harrow DNS",
        "urlSyncUX": pages, "urlAPI": format!("{base}/api"), "width": 750, "height": 750,
        "urlControlPanel": format!("{base}/zones/%domain%"), "nameServers": ["ns1.harrowdns.example"],
    }))
    .into_response()
}

async fn template(
    State(consent): State<Consent>,
    Path((provider, service)): Path<(String, String)>,
) -> Response {
    match consent.template(&provider, &service) {
        Some(template) => Json(json!({ "version": template.version })).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// What somebody is sent with.
struct Asked {
    template: Template,
    values: HashMap<String, String>,
    query: String,
}

impl Asked {
    /// Reads a link, and checks who has signed it.
    async fn read(consent: &Consent, provider: &str, service: &str, query: &str) -> anyhow::Result<Self> {
        let template = consent.template(provider, service).context("This template is not known here.")?;
        let values: HashMap<String, String> = serde_urlencoded::from_str(query)?;
        let signed: Vec<_> =
            query.split('&').filter(|pair| !pair.starts_with("key=") && !pair.starts_with("sig=")).collect();

        let value = |name: &str| values.get(name).with_context(|| format!("The link has no {name}."));
        let key = public_key(consent, value("key")?, &template.sync_pub_key_domain).await?;
        let signature = BASE64.decode(value("sig")?)?;
        key.verify(signed.join("&").as_bytes(), &signature).context("The signature of the link is wrong.")?;

        let redirect = value("redirect_uri")?;
        let (_, rest) = redirect.split_once("://").unwrap_or_default();
        let host = rest.split([':', '/']).next().unwrap_or_default();
        ensure!(host == template.sync_redirect_domain, "The link would lead to {host} afterwards.");
        Ok(Self { template, query: query.to_owned(), values })
    }

    fn value(&self, name: &str) -> &str {
        self.values.get(name).map(String::as_str).unwrap_or_default()
    }

    /// Where the template is applied.
    fn base(&self) -> DnsName {
        let zone = DnsName::new(self.value("domain"));
        if self.value("host").is_empty() { zone } else { zone.child(self.value("host")) }
    }

    fn filled(&self, text: &str) -> String {
        let mut filled = text.to_owned();
        for (name, value) in &self.values {
            filled = filled.replace(&format!("%{name}%"), value);
        }
        filled
    }

    /// The records that the template brings, each with its owner.
    fn records(&self) -> anyhow::Result<Vec<(DnsName, RecordData)>> {
        let owner = |host: &str| if host == "@" { self.base() } else { self.base().child(host) };
        let records = self.template.records.iter().map(|record| {
            Ok(match record {
                TemplateRecord::A { host, points_to, .. } => {
                    (owner(host), RecordData::A(self.filled(points_to).parse()?))
                }
                TemplateRecord::Aaaa { host, points_to, .. } => {
                    (owner(host), RecordData::Aaaa(self.filled(points_to).parse()?))
                }
                TemplateRecord::Cname { host, points_to, .. } => {
                    (owner(host), RecordData::Cname(DnsName::new(self.filled(points_to))))
                }
                TemplateRecord::Txt { host, data, .. } => {
                    (owner(host), RecordData::Txt(self.filled(data).as_str().into()))
                }
            })
        });
        records.collect()
    }

    /// What makes way, and what comes: a CNAME replaces what stands at the host, addresses
    /// replace addresses and a CNAME, texts those with the same beginning.
    async fn changes(&self, consent: &Consent) -> anyhow::Result<Vec<Change>> {
        let records = self.records()?;
        let mut changes = Vec::new();
        for (owner, data) in &records {
            match data {
                RecordData::Cname(_) => changes.push(Change::Clear { owner: owner.to_string() }),
                RecordData::A(_) | RecordData::Aaaa(_) => {
                    for rtype in [RecordType::A, RecordType::AAAA, RecordType::CNAME] {
                        changes.extend(standing(consent, owner, rtype).await?);
                    }
                }
                _ => {
                    let texts = standing(consent, owner, RecordType::TXT).await?;
                    changes.extend(texts.into_iter().filter(|change| match change {
                        Change::Remove { data: RecordData::Txt(text), .. } => {
                            text.to_text().starts_with("token=")
                        }
                        _ => false,
                    }));
                }
            }
        }
        changes.extend(records.into_iter().map(|(owner, data)| Change::Add {
            owner: owner.to_string(),
            ttl: TTL,
            data,
        }));
        Ok(changes)
    }
}

/// Records that stand at a name, as what takes them away.
async fn standing(consent: &Consent, owner: &str, rtype: RecordType) -> anyhow::Result<Vec<Change>> {
    let reply = ask(primary(consent), owner, rtype).await?;
    let data = reply.answers().iter().filter(|record| record.record_type() == rtype);
    let data = data.filter_map(|record| match record.data() {
        RData::A(address) => Some(RecordData::A(address.0)),
        RData::AAAA(address) => Some(RecordData::Aaaa(address.0)),
        RData::CNAME(name) => Some(RecordData::Cname(DnsName::new(name.to_string()))),
        RData::TXT(text) => Some(RecordData::Txt(text.to_string().as_str().into())),
        _ => None,
    });
    Ok(data.map(|data| Change::Remove { owner: owner.to_owned(), data }).collect())
}

fn primary(consent: &Consent) -> SocketAddr {
    (crate::layout::PRIMARY, consent.shared.layout.dns_port()).into()
}

/// The public key under a label, joined from its parts.
async fn public_key(
    consent: &Consent,
    label: &str,
    domain: &str,
) -> anyhow::Result<UnparsedPublicKey<Vec<u8>>> {
    let reply = ask(primary(consent), &format!("{label}.{domain}"), RecordType::TXT).await?;
    let mut parts: Vec<(usize, String)> = Vec::new();
    for record in reply.answers() {
        let RData::TXT(text) = record.data() else { continue };
        let text = text.to_string();
        let field =
            |name: &str| text.split(',').find_map(|field| field.strip_prefix(name)).map(str::to_owned);
        let (Some(place), Some(data)) = (field("p="), field("d=")) else { continue };
        parts.push((place.parse()?, data));
    }

    parts.sort();
    let joined: String = parts.into_iter().map(|(_, data)| data).collect();
    if joined.is_empty() {
        bail!("There is no key at {label}.{domain}.");
    }
    Ok(UnparsedPublicKey::new(&RSA_PKCS1_2048_8192_SHA256, BASE64.decode(joined)?))
}

async fn asked(
    State(consent): State<Consent>,
    Path((provider, service)): Path<(String, String)>,
    RawQuery(query): RawQuery,
) -> Response {
    let asked = Asked::read(&consent, &provider, &service, &query.unwrap_or_default()).await;
    match asked {
        Ok(asked) => page(&asked, &provider, &service).into_response(),
        Err(error) => (StatusCode::FORBIDDEN, format!("Nothing is changed. {error}")).into_response(),
    }
}

fn page(asked: &Asked, provider: &str, service: &str) -> Html<String> {
    let records = asked.records().unwrap_or_default();
    let list: String = records
        .iter()
        .map(|(owner, data)| format!("<li>{} {} {data}</li>", escaped(owner), data.type_name()))
        .collect();
    let hidden =
        |name: &str, value: &str| format!("<input type=hidden name={name} value=\"{}\">", escaped(value));
    Html(format!(
        "<!doctype html><meta name=viewport content='width=device-width'><title>Harrow DNS</title>\
         <body style='font:17px sans-serif;max-width:600px;margin:2em auto;padding:0 1em'><h1>Harrow DNS</h1>\
         <p>{} asks to change your zone {}:</p><ul>{list}</ul><form method=post action=/ux/decided>{}{}{}\
         <button name=decision value=yes>Agree</button> <button name=decision value=no>Refuse</button></form>",
        escaped(&asked.template.provider_name),
        escaped(asked.value("domain")),
        hidden("provider", provider),
        hidden("service", service),
        hidden("query", &asked.query),
    ))
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

/// What somebody decided.
#[derive(Deserialize)]
struct Decision {
    provider: String,
    service: String,
    query: String,
    decision: String,
}

async fn decided(State(consent): State<Consent>, Form(form): Form<Decision>) -> Response {
    match carried_out(&consent, &form).await {
        Ok(back) => Redirect::to(&back).into_response(),
        Err(error) => (StatusCode::FORBIDDEN, format!("Nothing is changed. {error}")).into_response(),
    }
}

async fn carried_out(consent: &Consent, form: &Decision) -> anyhow::Result<String> {
    let asked = Asked::read(consent, &form.provider, &form.service, &form.query).await?;
    let back = format!("{}?state={}", asked.value("redirect_uri"), asked.value("state"));
    if form.decision != "yes" {
        return Ok(format!("{back}&error=access_denied&error_description=The+customer+refused"));
    }

    let changes = asked.changes(consent).await?;
    consent.shared.zones.update(asked.value("domain"), &changes).await?;
    Ok(back)
}
