//! A stand-in for the web forwarding that DNS editors offer: it sends every
//! visitor on to the former host.

use std::net::{Ipv4Addr, SocketAddr};

use anyhow::Context;
use axum::Router;
use axum::response::Redirect;
use tokio::net::TcpListener;
use tokio::task::JoinSet;

use crate::Layout;
use crate::layout::FORMER_HOST;

/// Where it listens.
pub(crate) const FORWARDER: Ipv4Addr = Ipv4Addr::new(127, 88, 0, 1);

pub(crate) async fn start(layout: &Layout) -> anyhow::Result<JoinSet<()>> {
    let address = SocketAddr::from((FORWARDER, layout.http_port()));
    let listener = TcpListener::bind(address)
        .await
        .with_context(|| format!("Cannot listen on {address}, for the web forwarder"))?;

    let target = format!("https://sites.{FORMER_HOST}/");
    let router = Router::new().fallback(move || async move { Redirect::to(&target) });

    let mut running = JoinSet::new();
    running.spawn(async move {
        // It ends with its owner.
        let _ = axum::serve(listener, router).await;
    });

    Ok(running)
}
