//! Calls to the platform's own systems: CloudEvents 1.0, signed by the Standard Webhooks scheme,
//! through the guard of outbound connections.

use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use chrono::{TimeDelta, Utc};
use nomenta_dns::{Egress, Surveyor};
use nomenta_store::{DueRow, NotTaken};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::redirect::Policy;
use reqwest::{Certificate, Client, Response, StatusCode, Url};
use serde_json::json;
use standardwebhooks::Webhook;
use thiserror::Error;

/// Longest that a system may take to answer.
const TAKING: Duration = Duration::from_secs(8);
/// Longest that it may put the next call off, as it says.
const LONGEST_WAIT: TimeDelta = TimeDelta::hours(6);
/// What secrets begin with, by the scheme.
const PREFIX: &str = "whsec_";

/// Calls hooks.
pub(crate) struct Caller {
    client: Client,
    egress: Egress,
}

/// Why a URL is not called.
#[derive(Debug, Error)]
pub(crate) enum NotCalled {
    /// It is none.
    #[error("This is no URL. Give one as https://host/path")]
    NoUrl,
    /// It has a name and a password in it.
    #[error("Leave name and password out: calls are signed instead")]
    Login,
    /// It is not spoken to in secret.
    #[error("Hooks are called by HTTPS. Give a URL that begins with https://")]
    Plain,
    /// The guard lets no call out to it.
    #[error("{0} may not be called: it is no public address")]
    Guarded(IpAddr),
}

/// A hook gave no answer.
fn silent(because: impl ToString) -> NotTaken {
    NotTaken { because: because.to_string(), not_before: None, is_silent: true, is_final: false }
}

/// Names are found through the vantages, and led only to where the guard lets calls out.
struct Guarded {
    surveyor: Arc<Surveyor>,
    egress: Egress,
}

impl Resolve for Guarded {
    fn resolve(&self, name: Name) -> Resolving {
        let (surveyor, egress) = (self.surveyor.clone(), self.egress.clone());
        Box::pin(async move {
            let found = surveyor.addresses(name.as_str().to_owned()).await;
            let permitted: Vec<_> = found.into_iter().filter(|address| egress.admits(*address)).collect();
            if permitted.is_empty() {
                return Err(format!("{} has no address that may be called", name.as_str()).into());
            }
            let addresses: Addrs = Box::new(permitted.into_iter().map(|address| SocketAddr::new(address, 0)));
            Ok(addresses)
        })
    }
}

impl Caller {
    /// Trusts the roots in `trust`.
    ///
    /// # Errors
    /// If they cannot be read.
    pub(crate) fn new(surveyor: Arc<Surveyor>, egress: Egress, trust: &Path) -> anyhow::Result<Self> {
        let pem = std::fs::read(trust).with_context(|| format!("Cannot read {}", trust.display()))?;
        let mut client = Client::builder()
            .tls_built_in_root_certs(false)
            .dns_resolver(Arc::new(Guarded { surveyor, egress: egress.clone() }))
            .redirect(Policy::none())
            .no_proxy()
            .timeout(TAKING)
            .user_agent("nomenta");
        for root in Certificate::from_pem_bundle(&pem)? {
            client = client.add_root_certificate(root);
        }
        Ok(Self { client: client.build()?, egress })
    }

    /// Whether a URL may be called at all; addresses are vetted once more when they are.
    ///
    /// # Errors
    /// What is wrong with it, and what to give instead.
    pub(crate) fn vetted(&self, url: &str) -> Result<Url, NotCalled> {
        let url: Url = url.parse().map_err(|_| NotCalled::NoUrl)?;
        let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
        let literal = host.parse::<IpAddr>().ok();
        if !url.username().is_empty() || url.password().is_some() {
            return Err(NotCalled::Login);
        }
        if url.scheme() != "https" && !literal.is_some_and(|address| address.is_loopback()) {
            return Err(NotCalled::Plain);
        }
        match literal.filter(|address| !self.egress.admits(*address)) {
            Some(address) => Err(NotCalled::Guarded(address)),
            None => Ok(url),
        }
    }

    /// Calls a hook about one thing, signed with every secret that counts.
    pub(crate) async fn call(
        &self,
        url: &str,
        secrets: &[String],
        source: &str,
        row: &DueRow,
    ) -> Result<(), NotTaken> {
        let url = self.vetted(url).map_err(silent)?;
        let body = envelope(row, source).to_string();
        let id = row.event_id.to_string();
        let at = Utc::now().timestamp();
        let signatures = signed(secrets, &id, at, &body).map_err(silent)?;

        let request = self
            .client
            .post(url)
            .header("content-type", "application/cloudevents+json")
            .header(standardwebhooks::HEADER_WEBHOOK_ID, &id)
            .header(standardwebhooks::HEADER_WEBHOOK_TIMESTAMP, at)
            .header(standardwebhooks::HEADER_WEBHOOK_SIGNATURE, signatures)
            .body(body);
        match request.send().await {
            Ok(response) if response.status().is_success() => Ok(()),
            Ok(response) => Err(turned_down(&response)),
            Err(error) => Err(silent(innermost(&error))),
        }
    }
}

/// A secret of a hook, as the scheme writes it.
pub(crate) fn new_secret() -> String {
    let secret: [u8; 24] = rand::random();
    format!("{PREFIX}{}", data_encoding::BASE64.encode(&secret))
}

/// The event as it is told (CloudEvents 1.0, structured mode).
fn envelope(row: &DueRow, source: &str) -> serde_json::Value {
    json!({
        "specversion": "1.0",
        "id": row.event_id,
        "source": source,
        "type": format!("nomenta.notice.{}", row.kind),
        "subject": row.host,
        "time": row.at,
        "datacontenttype": "application/json",
        "data": {
            "kind": row.kind,
            "host": row.host,
            "account": row.account,
            "sequence": row.seq,
            "told": row.event.told(),
            "event": row.event,
        },
    })
}

fn signed(
    secrets: &[String],
    id: &str,
    at: i64,
    body: &str,
) -> Result<String, standardwebhooks::WebhookError> {
    let each = secrets.iter().map(|secret| Webhook::new(secret)?.sign(id, at, body.as_bytes()));
    Ok(each.collect::<Result<Vec<_>, _>>()?.join(" "))
}

fn turned_down(response: &Response) -> NotTaken {
    let status = response.status();
    let after: Option<i64> =
        response.headers().get("retry-after").and_then(|value| value.to_str().ok()?.parse().ok());
    let may_wait = matches!(status, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE);
    let wait = after.and_then(TimeDelta::try_seconds).filter(|_| may_wait);
    NotTaken {
        because: format!("It answered with status {status}"),
        not_before: wait.map(|wait| Utc::now() + wait.clamp(TimeDelta::zero(), LONGEST_WAIT)),
        is_silent: false,
        is_final: false,
    }
}

/// What lies at the bottom of an error: the rest tells about the client.
fn innermost(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return format!("It did not answer within {} s", TAKING.as_secs());
    }
    let mut cause: &dyn std::error::Error = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wait_is_no_longer_than_is_borne_whatever_was_asked_for() {
        let waits = |seconds: &str| {
            let response = axum::http::Response::builder().status(503).header("retry-after", seconds);
            let told = turned_down(&Response::from(response.body("").expect("a response")));
            told.not_before.map(|until| until - Utc::now())
        };
        assert!(waits("60").is_some_and(|wait| wait <= TimeDelta::seconds(60)));
        assert!(waits("99999999").is_some_and(|wait| wait <= LONGEST_WAIT));
        for nonsense in ["9223372036854775807", "99999999999999999999", "soon"] {
            assert_eq!(waits(nonsense), None, "{nonsense}");
        }
    }
}
