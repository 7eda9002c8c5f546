//! `move`, `pause`, `resume` and `release`.

use nomenta_api::domain::{MoveDomain, Moved};
use reqwest::Method;
use serde_json::json;

use super::domain::path;
use crate::Done;
use crate::args::{MoveOptions, Shape};
use crate::client::Client;
use crate::render::{exact, said, wrapped};

/// Changes what a domain shows.
pub(crate) async fn change(client: &Client, shape: Shape, options: MoveOptions) -> anyhow::Result<Done> {
    let MoveOptions { host, to, primary, entry_path, error_path, at } = options;
    let change = MoveDomain { site: to, primary, entry_path, error_path, at };
    let moved: Moved = client.patch(&path(&host, ""), &change).await?;

    let mut sentence = match (&change.site, change.at) {
        (Some(site), Some(at)) => format!("{host} shows the site {site} from {} on.", exact(at)),
        (Some(site), None) => format!("{host} shows the site {site} from now on."),
        (None, Some(at)) => format!("{host} leads to its default host until {}.", exact(at)),
        (None, None) => format!("{host} is changed."),
    };
    sentence.push_str(if moved.needs_records {
        " It lies behind another ingress: hand the customer the new sheet."
    } else {
        " The customer has nothing to publish anew."
    });
    said(shape, &moved, &wrapped(&sentence))
}

/// Leaves a domain alone.
pub(crate) async fn pause(client: &Client, shape: Shape, host: &str) -> anyhow::Result<Done> {
    client.ask(Method::POST, &path(host, "/pause")).await?;
    let sentence = format!(
        "{host} is paused: nothing is looked at or ordered. What is served stays until its certificate runs out."
    );
    said(shape, &json!({ "paused": host }), &wrapped(&sentence))
}

/// Goes on with a domain that was paused.
pub(crate) async fn resume(client: &Client, shape: Shape, host: &str) -> anyhow::Result<Done> {
    client.ask(Method::DELETE, &path(host, "/pause")).await?;
    said(shape, &json!({ "resumed": host }), &format!("{host} is looked at again."))
}

/// Lets a domain leave the platform.
pub(crate) async fn release(client: &Client, shape: Shape, host: &str) -> anyhow::Result<Done> {
    client.ask(Method::DELETE, &path(host, "")).await?;
    let sentence = format!(
        "{host} has left the platform. Its route is withdrawn, and its certificate is being revoked. The customer \
         should take its records back."
    );

    said(shape, &json!({ "released": host }), &wrapped(&sentence))
}
