//! The client of the API.

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use eventsource_stream::{Event, Eventsource};
use futures::{Stream, StreamExt};
use nomenta_api::event::CloudEvent;
use nomenta_api::problem::Problem;
use reqwest::{Certificate, Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use uuid::Uuid;

/// How often a call is sent that a busy service puts off.
const TRIES: usize = 4;
/// How long a call may be under way that was begun.
const LONGEST_CALL: Duration = Duration::from_secs(60);
/// Longest wait between two of them.
const LONGEST_WAIT: Duration = Duration::from_secs(5);

/// When a service that is busy wants to be asked again.
fn retry_after(response: &Response) -> Option<Duration> {
    let after = response.headers().get("retry-after")?;
    let seconds = after.to_str().ok()?.parse().ok()?;
    Some(Duration::from_secs(seconds).min(LONGEST_WAIT))
}

/// An answer that grants what was asked; else what its problem document says.
async fn granted(response: Response) -> anyhow::Result<Response> {
    let status = response.status();
    if status.is_success() {
        return Ok(response);
    }
    match response.json::<Problem>().await {
        Ok(problem) => bail!("{}", problem.detail),
        Err(_) => bail!("The service answered with status {status}."),
    }
}

/// The client of the API.
pub(crate) struct Client {
    inner: reqwest::Client,
    url: String,
    key: String,
    account: Option<String>,
}

impl Client {
    /// `account` says whose domains are meant, `roots` what the service's certificate may lead
    /// to beside the usual roots.
    pub(crate) fn new(
        url: String,
        key: String,
        roots: Option<&Path>,
        account: Option<String>,
    ) -> anyhow::Result<Self> {
        let url = url.trim_end_matches('/').to_owned();
        let mut builder = reqwest::Client::builder();
        if let Some(path) = roots {
            let text = fs::read(path).with_context(|| format!("Cannot read {}", path.display()))?;
            let roots = Certificate::from_pem_bundle(&text);
            let roots = roots.with_context(|| format!("{} holds no roots in PEM", path.display()))?;
            builder = roots.into_iter().fold(builder, reqwest::ClientBuilder::add_root_certificate);
        }
        Ok(Self { inner: builder.build()?, url, key, account })
    }

    /// The same service, asked with another key.
    pub(crate) fn with_key(&self, key: &str) -> Self {
        Self { inner: self.inner.clone(), url: self.url.clone(), key: key.to_owned(), account: None }
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request =
            self.inner.request(method, format!("{}/api/v1/{path}", self.url)).bearer_auth(&self.key);
        match &self.account {
            Some(account) if path.starts_with("domains/") => request.query(&[("account", account)]),
            _ => request,
        }
    }

    /// Whose domains are meant.
    pub(crate) fn account(&self) -> Option<&str> {
        self.account.as_deref()
    }

    pub(crate) async fn patch<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> anyhow::Result<T> {
        let response = self.send(self.request(Method::PATCH, path).json(body)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// For changes that are answered with nothing.
    pub(crate) async fn change(&self, path: &str, body: &impl Serialize) -> anyhow::Result<()> {
        self.send(self.request(Method::PATCH, path).json(body)).await.map(drop)
    }

    /// Sends a call, and again when a busy service says so; one that changes something has a key
    /// of its own, so nothing is done twice.
    async fn send(&self, request: RequestBuilder) -> anyhow::Result<Response> {
        let request = request.header("idempotency-key", Uuid::new_v4().to_string());
        let begun = Instant::now();
        for tried in 1.. {
            let Some(same) = request.try_clone() else { break };
            let response = self.reached(same).await?;
            let may_wait = match response.status() {
                StatusCode::SERVICE_UNAVAILABLE => tried < TRIES,
                // The same call of a moment ago is under way.
                StatusCode::CONFLICT => begun.elapsed() < LONGEST_CALL,
                _ => false,
            };
            match retry_after(&response).filter(|_| may_wait) {
                Some(wait) => tokio::time::sleep(wait).await,
                None => return granted(response).await,
            }
        }
        self.send_once(request).await
    }

    /// Sends a call whose answer is too long to be kept for whoever repeats it.
    async fn send_once(&self, request: RequestBuilder) -> anyhow::Result<Response> {
        granted(self.reached(request).await?).await
    }

    async fn reached(&self, request: RequestBuilder) -> anyhow::Result<Response> {
        if self.key.is_empty() {
            bail!("No key is set. Set NOMENTA_KEY, or give --key.");
        }
        let sent = request.send().await;
        sent.with_context(|| format!("Cannot reach the service at {}. Is NOMENTA_URL right?", self.url))
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> anyhow::Result<T> {
        let response = self.send(self.request(Method::GET, path)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// Gets what a query asks for.
    pub(crate) async fn get_with<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &impl Serialize,
    ) -> anyhow::Result<T> {
        let response = self.send(self.request(Method::GET, path).query(query)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// Gets a resource in the form that `accept` names.
    pub(crate) async fn text(&self, path: &str, accept: &str) -> anyhow::Result<String> {
        let response = self.send(self.request(Method::GET, path).header("accept", accept)).await?;
        response.text().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// Gets what a query asks for, in the form that `accept` names.
    pub(crate) async fn text_with(
        &self,
        path: &str,
        query: &impl Serialize,
        accept: &str,
    ) -> anyhow::Result<String> {
        let request = self.request(Method::GET, path).query(query).header("accept", accept);
        let response = self.send(request).await?;
        response.text().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// The first `most` lines of a paged listing, along its `Link` headers (RFC 8288).
    pub(crate) async fn pages<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &impl Serialize,
        most: usize,
    ) -> anyhow::Result<Vec<T>> {
        let mut request = self.request(Method::GET, path).query(query);
        let mut all = Vec::new();

        loop {
            let response = self.send(request).await?;
            let link = response.headers().get("link").and_then(|value| value.to_str().ok());
            let next = link.and_then(|link| link.strip_prefix("</api/v1/")?.strip_suffix(">; rel=\"next\""));
            let next = next.map(str::to_owned);

            let page: Vec<T> =
                response.json().await.with_context(|| format!("The answer to {path} cannot be read"))?;
            all.extend(page);

            match next.filter(|_| all.len() < most) {
                Some(next) => request = self.request(Method::GET, &next),
                None => {
                    all.truncate(most);
                    return Ok(all);
                }
            }
        }
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> anyhow::Result<T> {
        let response = self.send(self.request(Method::POST, path).json(body)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    pub(crate) async fn put<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> anyhow::Result<T> {
        let response = self.send(self.request(Method::PUT, path).json(body)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// Posts a master file (RFC 4027).
    pub(crate) async fn post_zone<T: DeserializeOwned>(
        &self,
        path: &str,
        zone: Vec<u8>,
    ) -> anyhow::Result<T> {
        let request = self.request(Method::POST, path).header("content-type", "text/dns; charset=utf-8");
        let response = self.send_once(request.body(zone)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// Posts a table (RFC 4180), and is told how far it has come.
    pub(crate) async fn post_table(
        &self,
        path: &str,
        query: &impl Serialize,
        table: Vec<u8>,
    ) -> anyhow::Result<impl Stream<Item = anyhow::Result<Event>> + Unpin> {
        let request = self.request(Method::POST, path).query(query).body(table);
        let request = request.header("content-type", "text/csv").header("accept", "text/event-stream");
        let stream = self.send_once(request).await?.bytes_stream().eventsource();
        Ok(stream.map(|event| Ok(event?)).boxed())
    }

    /// For calls without a body that answer with something.
    pub(crate) async fn call<T: DeserializeOwned>(&self, method: Method, path: &str) -> anyhow::Result<T> {
        let response = self.send(self.request(method, path)).await?;
        response.json().await.with_context(|| format!("The answer to {path} cannot be read"))
    }

    /// For calls that answer with nothing.
    pub(crate) async fn ask(&self, method: Method, path: &str) -> anyhow::Result<()> {
        self.send(self.request(method, path)).await.map(drop)
    }

    /// Events as they happen, from now on.
    pub(crate) async fn events(
        &self,
    ) -> anyhow::Result<impl Stream<Item = anyhow::Result<CloudEvent>> + Unpin> {
        let response = self.send(self.request(Method::GET, "events")).await?;
        let stream = response.bytes_stream().eventsource();
        Ok(stream.map(|event| Ok(serde_json::from_str(&event?.data)?)).boxed())
    }
}
