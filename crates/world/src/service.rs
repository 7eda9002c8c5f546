//! `nomenta serve` as a process of its own, set up for this world.

use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;

use nix::sys::signal::Signal;
use tokio::process::Command;

use crate::Daemon;
use crate::Layout;
use crate::PATIENCE;
use crate::layout::{CHALLENGES, ROOT};
use crate::wait_for;

/// Issuer name of the world's certification authority in CAA records.
pub const CA_IDENTITY: &str = "stampworks-ca.example";

/// The book of the world's DNS operators.
pub const OPERATORS: &str = include_str!("operators.toml");

/// What one service process is given.
#[derive(Clone, Debug)]
pub struct ServiceSetup {
    /// Where it listens.
    pub listen: SocketAddr,
    /// Database URL.
    pub database: String,
    /// Sealing key in hexadecimal.
    pub sealing_key: String,
    /// Secret of its admin key.
    pub admin_key: String,
    /// Secret of its edge key.
    pub edge_key: String,
    /// Whether it reads the zones' own servers alone, through no vantage.
    pub alone: bool,
    /// Which of the challenge zones it serves, if any.
    pub challenges: Option<usize>,
    /// Directory of its CA, if not the world's usual one.
    pub directory: Option<String>,
    /// Which addresses it may visit, if not loopback.
    pub egress: Option<Vec<String>>,
    /// What it writes to its log, if not the usual.
    pub log: Option<&'static str>,
    /// More options of `serve`.
    pub options: Vec<String>,
}

impl ServiceSetup {
    /// For a measurement: keys of one run, no vantage, and nothing else that need not be.
    pub fn measured(listen: SocketAddr, database: String, options: &[&str]) -> Self {
        Self {
            listen,
            database,
            sealing_key: "5e".repeat(32),
            admin_key: "bench_admin_key_of_one_run".into(),
            edge_key: "bench_edge_key_of_one_run".into(),
            alone: true,
            challenges: None,
            directory: None,
            egress: None,
            log: None,
            options: options.iter().map(|option| (*option).to_owned()).collect(),
        }
    }

    /// Base URL of API and console.
    pub fn url(&self) -> String {
        let is_by_tls = self.options.iter().any(|option| option.starts_with("--tls-cert"));
        format!("{}://{}", if is_by_tls { "https" } else { "http" }, self.listen)
    }

    /// Starts the process and waits until it is ready.
    ///
    /// # Errors
    /// With the end of its log, if it does not get ready.
    pub async fn start(&self, layout: &Layout, program: &Path, log: &Path) -> anyhow::Result<Daemon> {
        let mut command = Command::new("setpriv");
        let book = layout.write("operators.toml", OPERATORS)?;
        let registries = layout.write("registries.json", &crate::registrar::bootstrap())?;
        command.args(["--pdeathsig", "TERM"]).arg(program).args(self.arguments(layout));
        command.arg("--registries").arg(registries).arg("--book").arg(book).args(&self.options);
        command
            .env("NOMENTA_DATABASE", &self.database)
            .env("NOMENTA_SEALING_KEY", &self.sealing_key)
            .env("NOMENTA_ADMIN_KEY", &self.admin_key)
            .env("NOMENTA_EDGE_KEY", &self.edge_key)
            .env("NOMENTA_MAIL_PASSWORD", crate::mailbox::PASSWORD);

        if let Some(filter) = self.log {
            command.env("RUST_LOG", filter);
        }

        let mut daemon = Daemon::start("the service", command, log, Signal::SIGTERM)?;
        // Whether it is ready is all that is asked; who trusts its certificate is up to them.
        let client = reqwest::Client::builder().danger_accept_invalid_certs(true);
        let client = client.timeout(Duration::from_secs(2)).build()?;
        let ready = format!("{}/readyz", self.url());

        let mut ended = None;
        let waited = wait_for("the service being ready", PATIENCE, || {
            ended = daemon.check().err();
            let over = ended.is_some();
            let asked = client.get(&ready).send();
            async move { over || asked.await.is_ok_and(|r| r.status().is_success()) }
        })
        .await;

        match ended {
            Some(error) => Err(error),
            None => waited.map(|()| daemon),
        }
    }

    fn arguments(&self, layout: &Layout) -> Vec<String> {
        let mut words = vec!["serve".to_owned(), "--listen".into(), self.listen.to_string()];
        let mut option = |name: &str, value: String| words.extend([format!("--{name}"), value]);
        option("platform-zone", crate::layout::PLATFORM.zone.into());
        option("brand", "quaymark".into());
        option("proof-zone", format!("proof.{}", crate::layout::PLATFORM.zone));

        let (zone, ip) = CHALLENGES[self.challenges.unwrap_or(0)];
        option("acme-zone", zone.into());
        if self.challenges.is_some() {
            option("acme-dns", format!("{ip}:{}", layout.dns_port()));
            option("acme-name-server", format!("ns1.{zone}"));
        }

        for name in ["example", "test"] {
            option("admit-special-use", name.into());
        }
        option("root-server", ROOT.to_string());
        option("dns-port", layout.dns_port().to_string());
        for vantage in layout.vantage_words().into_iter().filter(|_| !self.alone) {
            option("vantage", vantage);
        }

        option("vantage-roots", layout.vantage_roots().display().to_string());
        option("http-port", layout.http_port().to_string());
        option("https-port", layout.https_port().to_string());

        match &self.egress {
            None => option("egress", "loopback".into()),
            Some(networks) => {
                option("egress", "listed".into());
                networks.iter().for_each(|network| option("egress-list", network.clone()));
            }
        }

        option("trust", layout.ca_roots().display().to_string());
        option("acme-directory", self.directory.clone().unwrap_or_else(|| layout.directory()));
        option("acme-roots", layout.directory_root().display().to_string());
        option("ca-identity", CA_IDENTITY.into());

        if layout.one_click_key().exists() {
            option("one-click-key", layout.one_click_key().display().to_string());
        }
        option("mail-server", crate::mailbox::address(layout).to_string());
        option("mail-user", crate::mailbox::USER.into());
        option("mail-from", "domains@quaymark.example".into());
        option("face-name", "Quaymark".into());
        option("face-colour", "#1f5673".into());
        option("support", "help@quaymark.example".into());

        words
    }
}
