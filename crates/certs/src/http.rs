//! A plain HTTP request to one very address, with caps on size and time.

use std::net::SocketAddr;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Empty, Limited};
use hyper::{Request, header};
use hyper_util::rt::TokioIo;
use tokio::net::TcpStream;
use tokio::time::timeout;

/// Largest body read, in octets.
const MOST: usize = 4096;

/// The parts of a response that are looked at.
pub(crate) struct Page {
    pub status: u16,
    pub location: Option<String>,
    pub body: String,
}

/// GETs `path` of `host` from `address`. The error says what went wrong in
/// words that follow "it".
pub(crate) async fn get(
    address: SocketAddr,
    host: &str,
    path: &str,
    patience: Duration,
) -> Result<Page, String> {
    timeout(patience, exchange(address, host, path))
        .await
        .map_err(|_| format!("no answer within {} s", patience.as_secs()))?
}

async fn exchange(address: SocketAddr, host: &str, path: &str) -> Result<Page, String> {
    let stream = TcpStream::connect(address).await.map_err(|e| format!("no connection: {}", e.kind()))?;
    let (mut sender, connection) =
        hyper::client::conn::http1::handshake(TokioIo::new(stream)).await.map_err(|e| e.to_string())?;
    let driver = tokio::spawn(connection);
    let request = Request::get(path)
        .header(header::HOST, host)
        .header(header::USER_AGENT, "nomenta")
        .body(Empty::<Bytes>::new())
        .map_err(|e| e.to_string())?;
    let response = sender.send_request(request).await.map_err(|e| e.to_string())?;
    let status = response.status().as_u16();
    let location = response.headers().get(header::LOCATION).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let body = Limited::new(response.into_body(), MOST).collect().await.map_err(|e| e.to_string())?;
    driver.abort();
    Ok(Page { status, location, body: String::from_utf8_lossy(&body.to_bytes()).into_owned() })
}
