//! A service with a platform behind it, as benches set it up and call it.

use std::net::IpAddr;
use std::path::Path;

use nomenta_world::layout::EDGE;
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Daemon, World};
use reqwest::{Client, Method, RequestBuilder};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

/// A service that runs.
pub(crate) struct Platform {
    pub setup: ServiceSetup,
    pub process: Daemon,
    client: Client,
}

impl Platform {
    /// Starts it on a database of its own, with the ingress `harbour` and the site `onswick`; without
    /// vantages at first.
    pub(crate) async fn start(world: &World, options: &[&str]) -> anyhow::Result<Self> {
        let setup = ServiceSetup::measured(world.layout.service(), world.database("bench").await?, options);
        let platform = Self::run(world, setup).await?;

        let (ipv4, ipv6): (Vec<IpAddr>, Vec<IpAddr>) = EDGE.into_iter().partition(IpAddr::is_ipv4);
        let canonical = "{site}.edge.quaymark.example";
        let ingress = json!({ "name": "harbour", "ipv4": ipv4, "ipv6": ipv6, "canonical": canonical });
        for (path, body) in [
            ("ingresses", ingress),
            ("accounts", json!({ "name": "onswick" })),
            ("sites", json!({ "name": "onswick", "account": "onswick", "ingress": "harbour" })),
        ] {
            platform.call::<Value>(Method::POST, path, &body).await?;
        }
        Ok(platform)
    }

    /// The service with another setup.
    pub(crate) async fn run(world: &World, setup: ServiceSetup) -> anyhow::Result<Self> {
        let log = world.layout.state.join("service.log");
        let process = setup.start(&world.layout, Path::new(env!("CARGO_BIN_EXE_nomenta")), &log).await?;
        Ok(Self { setup, process, client: Client::new() })
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.client.request(method, format!("{}/api/v1/{path}", self.setup.url()));
        request.bearer_auth(&self.setup.admin_key)
    }

    /// What a call answers; without a body where it is null.
    pub(crate) async fn call<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &Value,
    ) -> anyhow::Result<T> {
        let request = self.request(method, path);
        let request = if body.is_null() { request } else { request.json(body) };
        Ok(request.send().await?.error_for_status()?.json().await?)
    }
}
