//! A plain HTTP request over a connection that is there already, with a cap on
//! what is read.

use bytes::Bytes;
use http_body_util::{BodyExt, Empty, Limited};
use hyper::header::{HeaderMap, HeaderName};
use hyper::{Request, header};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite};

use crate::failure::Failure;

/// Largest body read, in octets.
const LARGEST: usize = 64 * 1024;

/// The parts of a response that are looked at.
pub(crate) struct Page {
    pub status: u16,
    pub location: Option<String>,
    pub robots: Option<String>,
    pub body: String,
}

impl Page {
    /// Where it sends visitors on to.
    pub(crate) fn redirect(&self) -> Option<&str> {
        self.location.as_deref().filter(|_| matches!(self.status, 301 | 302 | 303 | 307 | 308))
    }
}

/// GETs `path` of `host`.
pub(crate) async fn get(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    host: &str,
    path: &str,
) -> Result<Page, Failure> {
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let driver = tokio::spawn(connection);

    let request = Request::get(path)
        .header(header::HOST, host)
        .header(header::USER_AGENT, "nomenta")
        .body(Empty::<Bytes>::new())?;
    let response = sender.send_request(request).await?;

    let status = response.status().as_u16();
    let location = text(response.headers(), header::LOCATION);
    let robots = text(response.headers(), HeaderName::from_static("x-robots-tag"));

    let body = Limited::new(response.into_body(), LARGEST).collect().await;
    let body = body.map_err(|_| Failure::TooLarge(LARGEST))?;
    driver.abort();

    let body = String::from_utf8_lossy(&body.to_bytes()).into_owned();
    Ok(Page { status, location, robots, body })
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<String> {
    headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned)
}
