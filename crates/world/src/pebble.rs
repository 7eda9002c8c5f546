//! Pebble, strict, rejecting its usual share of nonces, validating at the
//! stand-in edge's ports through one of the resolvers.

use std::fs;
use std::path::Path;
use std::time::Duration;

use anyhow::Context;
use nix::sys::signal::Signal;
use serde_json::json;

use crate::daemon::{self, Daemon};
use crate::{Layout, wait_for};

/// A domain that this CA's policy has no place for.
pub const EMBARGOED: &str = "embargo.test";

pub(crate) async fn start(layout: &Layout) -> anyhow::Result<Daemon> {
    let folder = layout.folder("pebble")?;
    let (cert, key) = (layout.directory_root(), folder.join("tls.key"));
    if !key.exists() {
        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into(), "localhost".into()])?;
        layout.write("pebble/tls.pem", &made.cert.pem())?;
        layout.write("pebble/tls.key", &made.signing_key.serialize_pem())?;
    }
    let config = json!({ "pebble": {
        "listenAddress": layout.directory().trim_start_matches("https://").trim_end_matches("/dir"),
        "managementListenAddress": layout.management().trim_start_matches("https://"),
        "certificate": cert, "privateKey": key,
        "httpPort": layout.http_port(), "tlsPort": layout.https_port(),
        "certificateValidityPeriod": 90 * 24 * 3600,
        "ocspResponderURL": "", "externalAccountBindingRequired": false,
        "domainBlocklist": [EMBARGOED],
    }});
    let file = layout.write("pebble/config.json", &config.to_string())?;
    let resolver = layout.vantages()[0].1;
    let mut pebble = daemon::command(layout, "pebble", "TERM")?;
    pebble.arg("-strict").arg("-config").arg(file).arg("-dnsserver").arg(resolver.to_string());
    pebble.env("PEBBLE_VA_NOSLEEP", "1").env("PEBBLE_WFE_NONCEREJECT", "5");
    let _ = fs::remove_file(folder.join("log"));
    let mut daemon =
        Daemon::start("the certification authority", pebble, &folder.join("log"), Signal::SIGTERM)?;
    let client = client(&cert)?;
    wait_for("the certification authority answering", Duration::from_secs(20), || async {
        client.get(layout.directory()).send().await.is_ok()
    })
    .await
    .or_else(|late| daemon.check().and(Err(late)))?;
    let root = client.get(format!("{}/roots/0", layout.management())).send().await?.error_for_status()?;
    keep_root(layout, &root.text().await?)?;
    Ok(daemon)
}

/// Fetches each certificate whose serial the log names.
pub(crate) async fn issued(layout: &Layout, log: &str) -> anyhow::Result<Vec<String>> {
    let client = client(&layout.directory_root())?;
    let mut certificates = Vec::new();
    for (_, rest) in log.lines().filter_map(|l| l.split_once("Issued certificate serial ")) {
        let serial = rest.split_whitespace().next().unwrap_or_default();
        let status =
            client.get(format!("{}/cert-status-by-serial/{serial}", layout.management())).send().await?;
        let status: serde_json::Value = status.error_for_status()?.json().await?;
        let pem = status["Certificate"].as_str().context("Pebble shows no certificate")?;
        certificates.push(pem.to_owned());
    }
    Ok(certificates)
}

fn client(root: &Path) -> anyhow::Result<reqwest::Client> {
    let pem = fs::read(root).with_context(|| format!("Cannot read {}", root.display()))?;
    let root = reqwest::Certificate::from_pem(&pem)?;
    Ok(reqwest::Client::builder().add_root_certificate(root).build()?)
}

/// Pebble makes a new root at each start; certificates of earlier runs still
/// lead to the earlier roots, so all are kept.
fn keep_root(layout: &Layout, root: &str) -> anyhow::Result<()> {
    let earlier = fs::read_to_string(layout.ca_roots()).unwrap_or_default();
    layout.write("pebble/roots.pem", &format!("{root}{earlier}"))?;
    Ok(())
}
