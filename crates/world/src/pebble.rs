//! Pebble, strict, rejecting its usual share of nonces, validating at the
//! stand-in edge's ports through one of the resolvers.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::Context;
use futures::FutureExt;
use futures::future::BoxFuture;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::json;

use crate::Layout;
use crate::PATIENCE;
use crate::daemon::{self, Daemon};
use crate::wait_for;
use crate::watch::{Said, Server, Watch, Watched};

/// A domain that this CA's policy has no place for.
pub const EMBARGOED: &str = "embargo.test";

/// How a certification authority is set up.
#[derive(Clone, Debug)]
pub struct IssuerSetup {
    /// Its folder in the state.
    pub folder: String,
    /// Port of its directory; its management listens on the next.
    pub port: u16,
    /// Share of good nonces that it rejects, in percent.
    pub nonce_reject: u8,
    /// Lifetime of its certificates.
    pub lifetime: Duration,
    /// Identifier and MAC key, base64url, of the one outside account that may
    /// register; anyone may if `None`.
    pub external: Option<(String, String)>,
}

impl IssuerSetup {
    /// The world's usual one.
    pub(crate) fn usual(layout: &Layout) -> Self {
        Self {
            folder: "pebble".into(),
            port: layout.base_port + 2,
            nonce_reject: 5,
            lifetime: Duration::from_secs(90 * 24 * 3600),
            external: None,
        }
    }

    /// URL of its directory.
    pub fn directory(&self) -> String {
        format!("https://127.0.0.1:{}/dir", self.port)
    }

    fn management(&self) -> String {
        format!("https://127.0.0.1:{}", self.port + 1)
    }

    fn log(&self, layout: &Layout) -> PathBuf {
        layout.state.join(&self.folder).join("log")
    }
}

/// A certification authority that runs beside the world's usual one.
pub struct OtherIssuer {
    setup: IssuerSetup,
    layout: Layout,
    watch: Watch,
    said: Said,
}

impl OtherIssuer {
    /// Starts it. Its root is among those that the world trusts from then on.
    ///
    /// # Errors
    /// If it does not answer.
    pub async fn start(layout: &Layout, setup: IssuerSetup) -> anyhow::Result<Self> {
        let said = Said::default();
        let watch = Watch::over(vec![watched(layout, &setup).await?], said.ear());
        Ok(Self { setup, layout: layout.clone(), watch, said })
    }

    /// What was said of it since it was started.
    pub fn said(&self) -> Vec<String> {
        self.said.all()
    }

    /// Stops its process without ending it, as a lock inside it would.
    pub async fn hang(&self) {
        let id = self.watch.first_id().await.and_then(|id| i32::try_from(id).ok());
        if let Some(id) = id {
            let _ = kill(Pid::from_raw(id), Signal::SIGSTOP);
        }
    }

    /// URL of its directory.
    pub fn directory(&self) -> String {
        self.setup.directory()
    }

    /// Every certificate that it has issued, as PEM.
    ///
    /// # Errors
    /// If its log or its management calls cannot be read.
    pub async fn issued(&self) -> anyhow::Result<Vec<String>> {
        issued(&self.layout, &self.setup).await
    }
}

/// A certification authority.
struct Issuer {
    layout: Layout,
    setup: IssuerSetup,
}

impl Server for Issuer {
    fn start(&self) -> BoxFuture<'_, anyhow::Result<Daemon>> {
        start(&self.layout, &self.setup).boxed()
    }

    fn answers(&self) -> BoxFuture<'_, bool> {
        answers(&self.layout, &self.setup).boxed()
    }
}

/// Starts one that is watched over.
pub(crate) async fn watched(layout: &Layout, setup: &IssuerSetup) -> anyhow::Result<Watched> {
    Watched::start(Issuer { layout: layout.clone(), setup: setup.clone() }).await
}

/// Whether its directory is to be had.
async fn answers(layout: &Layout, setup: &IssuerSetup) -> bool {
    let Ok(client) = client(&layout.directory_root()) else { return false };
    // Its directory needs none of its records, and they may be what it is stuck on.
    let directory = client.get(setup.directory()).send();
    let records = client.get(format!("{}/cert-status-by-serial/0", setup.management())).send();
    directory.await.is_ok() && records.await.is_ok()
}

async fn start(layout: &Layout, setup: &IssuerSetup) -> anyhow::Result<Daemon> {
    layout.folder(&setup.folder)?;

    // One certificate for every directory of the world.
    let cert = layout.directory_root();
    let key = layout.state.join("pebble/tls.key");
    if !key.exists() {
        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into(), "localhost".into()])?;
        layout.write("pebble/tls.pem", &made.cert.pem())?;
        layout.write("pebble/tls.key", &made.signing_key.serialize_pem())?;
    }

    let keys: serde_json::Map<_, _> =
        setup.external.iter().map(|(id, key)| (id.clone(), json!(key))).collect();
    let config = json!({ "pebble": {
        "listenAddress": setup.directory().trim_start_matches("https://").trim_end_matches("/dir"),
        "managementListenAddress": setup.management().trim_start_matches("https://"),
        "certificate": cert, "privateKey": key,
        "httpPort": layout.http_port(), "tlsPort": layout.https_port(),
        "certificateValidityPeriod": setup.lifetime.as_secs(),
        "ocspResponderURL": "", "externalAccountBindingRequired": setup.external.is_some(),
        "externalAccountMACKeys": keys,
        "domainBlocklist": [EMBARGOED],
    }});

    let file = layout.write(&format!("{}/config.json", setup.folder), &config.to_string())?;
    let resolver = layout.vantages()[0].1;

    let mut pebble = daemon::command(layout, "pebble", "TERM")?;
    pebble.arg("-strict").arg("-config").arg(file).arg("-dnsserver").arg(resolver.to_string());
    pebble.env("PEBBLE_VA_NOSLEEP", "1").env("PEBBLE_WFE_NONCEREJECT", setup.nonce_reject.to_string());

    let log = setup.log(layout);
    let _ = fs::remove_file(&log);
    let mut daemon = Daemon::start("the certification authority", pebble, &log, Signal::SIGTERM)?;

    let client = client(&cert)?;
    wait_for("the certification authority answering", PATIENCE, || async {
        client.get(setup.directory()).send().await.is_ok()
    })
    .await
    .or_else(|late| daemon.check().and(Err(late)))?;

    let root = client.get(format!("{}/roots/0", setup.management())).send().await?.error_for_status()?;
    layout.trust(&root.text().await?)?;

    Ok(daemon)
}

/// Fetches each certificate whose serial the log names.
pub(crate) async fn issued(layout: &Layout, setup: &IssuerSetup) -> anyhow::Result<Vec<String>> {
    let mut certificates = Vec::new();
    for serial in serials(layout, setup)? {
        let status = status(layout, setup, &serial).await?;
        let pem = status["Certificate"].as_str().context("Pebble shows no certificate")?;
        certificates.push(pem.to_owned());
    }

    Ok(certificates)
}

/// What the CA says of a certificate: `Valid` or `Revoked`.
pub(crate) async fn status_of(layout: &Layout, setup: &IssuerSetup, serial: &str) -> anyhow::Result<String> {
    let status = status(layout, setup, serial.trim_start_matches('0')).await?;
    Ok(status["Status"].as_str().unwrap_or_default().to_owned())
}

fn serials(layout: &Layout, setup: &IssuerSetup) -> anyhow::Result<Vec<String>> {
    let path = setup.log(layout);
    let log = fs::read_to_string(&path).with_context(|| format!("Cannot read {}", path.display()))?;
    let named = log.lines().filter_map(|l| l.split_once("Issued certificate serial "));
    Ok(named.map(|(_, rest)| rest.split_whitespace().next().unwrap_or_default().to_owned()).collect())
}

async fn status(layout: &Layout, setup: &IssuerSetup, serial: &str) -> anyhow::Result<serde_json::Value> {
    let client = client(&layout.directory_root())?;
    let asked = client.get(format!("{}/cert-status-by-serial/{serial}", setup.management())).send();
    Ok(asked.await?.error_for_status()?.json().await?)
}

pub(crate) fn client(root: &Path) -> anyhow::Result<reqwest::Client> {
    let pem = fs::read(root).with_context(|| format!("Cannot read {}", root.display()))?;
    let root = reqwest::Certificate::from_pem(&pem)?;
    // By HTTP/2 a Host header counts for nothing, and Pebble makes URLs of it.
    Ok(reqwest::Client::builder().http1_only().add_root_certificate(root).build()?)
}
