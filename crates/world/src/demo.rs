//! The demo: the whole world, the service, and customers who keep moving.

use std::collections::BTreeMap;
use std::fs;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use data_encoding::HEXLOWER;
use futures::{TryStreamExt, stream};
use nomenta_core::name::subject::Subject;
use nomenta_core::one_click::template::Template;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::Purpose;
use reqwest::{Client, Method, StatusCode};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use crate::Daemon;
use crate::Layout;
use crate::PATIENCE;
use crate::World;
use crate::Zones;
use crate::acts;
use crate::cast::{ACCOUNTS, Act, KEYED, ONE_CLICK, PARTS, Part, RIVALS, RivalPart};
use crate::consent::Consent;
use crate::customer::{self, Mistake};
use crate::edge::{Edge, EdgeConfig};
use crate::hook::{Hook, Manner};
use crate::layout::{EDGE, PLATFORM, write_whole};
use crate::mailbox::NOBODY;
use crate::service::ServiceSetup;
use crate::tls::Authority;
use crate::wait_for;
use crate::zones::servers;

/// Nobody who watches waits for as long as customers do.
const IN_A_HURRY: [&str; 11] = [
    "--mail-gather=20",
    "--look-first=2",
    "--young-for=10",
    "--second-look=3",
    "--look-most=20",
    "--look-live=30",
    "--look-contested=3",
    "--order-retry=60",
    "--stalled-after=180",
    "--quick-looks=1",
    "--usual-share=0.06",
];

/// Wait where a call is put off.
const PUT_OFF: Duration = Duration::from_secs(1);
/// Zones whose customers are let in at once.
const CUSTOMERS_AT_ONCE: usize = 8;

/// How the demo is run.
pub struct DemoOptions {
    /// State folder.
    pub state: PathBuf,
    /// First of its row of ports.
    pub base_port: u16,
    /// Whether to forget what earlier runs left.
    pub fresh: bool,
    /// Where to write how to reach it, once it serves.
    pub ready_file: Option<PathBuf>,
    /// The `nomenta` program.
    pub program: PathBuf,
}

/// Secrets of a demo, kept from run to run in its state folder.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Secrets {
    sealing_key: String,
    admin_key: String,
    edge_key: String,
}

/// Runs until `stop` is cancelled; then ends everything it started.
///
/// # Errors
/// If something cannot be started; the message names it.
pub async fn run(options: DemoOptions, stop: CancellationToken) -> anyhow::Result<()> {
    let layout = Layout::new(&options.state, options.base_port)?;
    if options.fresh {
        layout.wipe()?;
    }

    if let Some(file) = &options.ready_file {
        let _ = fs::remove_file(file);
    }

    let say = Arc::new(|what: &str| println!("  {what} …"));
    println!("Starting the world in {}", layout.state.display());
    let Some(world) = stop.run_until_cancelled(World::start(layout, say)).await else { return Ok(()) };
    let world = world?;

    let mut running = Running { service: None };
    let ran = stop.run_until_cancelled(serve(&world, &options, &mut running)).await;

    println!("Stopping");
    if let Some(service) = running.service {
        service.stop().await;
    }

    world.stop().await;
    ran.unwrap_or(Ok(()))
}

struct Running {
    service: Option<Daemon>,
}

async fn serve(world: &World, options: &DemoOptions, running: &mut Running) -> anyhow::Result<()> {
    let layout = &world.layout;
    let secrets = secrets(layout)?;

    println!("  Starting the service …");
    let setup = ServiceSetup {
        listen: layout.service(),
        database: world.database("nomenta").await?,
        sealing_key: secrets.sealing_key.clone(),
        admin_key: secrets.admin_key.clone(),
        edge_key: secrets.edge_key.clone(),
        alone: false,
        challenges: Some(0),
        directory: None,
        egress: None,
        log: None,
        options: IN_A_HURRY.map(Into::into).into(),
    };

    running.service = Some(setup.start(layout, &options.program, &layout.state.join("service.log")).await?);
    let edge = Edge::start(EdgeConfig {
        addresses: EDGE.to_vec(),
        http_port: layout.http_port(),
        https_port: layout.https_port(),
        service: setup.url(),
        key: secrets.edge_key.clone(),
        own: Some(world.own_certificate()?),
    })
    .await?;

    let platform = Platform { client: Client::new(), url: setup.url(), key: secrets.admin_key.clone() };
    println!("  Letting {} customers in …", ACCOUNTS.len());
    let (hook, _hooked) = Hook::start(Manner::Takes).await?;
    platform.tell(&hook).await?;
    platform.seed(&world.zones, &edge).await?;
    platform.introduce(&world.consent).await?;
    platform.give_key(&world.zones).await?;
    announce(layout, options, &setup, &secrets)?;

    let bringing = async {
        for part in &PARTS {
            if let Act::Brought(days) = part.act {
                platform.bring(layout, part.host, days).await?;
            }
        }
        Ok(())
    };

    let moving = async { tokio::try_join!(bringing, platform.play(&world.zones)).map(drop) };
    let watched = watch(running);

    tokio::select! {
        done = moving => done?,
        died = watched => return died,
    }

    watch(running).await
}

/// Ends with an error when the service does.
async fn watch(running: &mut Running) -> anyhow::Result<()> {
    loop {
        if let Some(service) = &mut running.service {
            service.check()?;
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}

fn secrets(layout: &Layout) -> anyhow::Result<Secrets> {
    let path = layout.state.join("secrets.json");
    if let Ok(text) = fs::read_to_string(&path) {
        return serde_json::from_str(&text).with_context(|| format!("Cannot read {}", path.display()));
    }

    let secrets = Secrets {
        sealing_key: HEXLOWER.encode(&rand::random::<[u8; 32]>()),
        admin_key: new_key("admin"),
        edge_key: new_key("edge"),
    };

    layout.write("secrets.json", &serde_json::to_string_pretty(&secrets)?)?;
    Ok(secrets)
}

fn new_key(word: &str) -> String {
    format!("demo_{word}_{}", HEXLOWER.encode(&rand::random::<[u8; 12]>()))
}

fn announce(
    layout: &Layout,
    options: &DemoOptions,
    setup: &ServiceSetup,
    secrets: &Secrets,
) -> anyhow::Result<()> {
    let url = setup.url();
    let key = &secrets.admin_key;

    println!("\nNomenta serves.\n");
    println!("  Console    {url}");
    println!("  Key        {key}\n");
    println!("For the command line:\n");
    println!("  export NOMENTA_URL={url}");
    println!("  export NOMENTA_KEY={key}\n");
    println!("Ctrl-C stops everything.");

    if let Some(file) = &options.ready_file {
        let ready = json!({
            "url": url,
            "admin_key": key,
            "edge_key": secrets.edge_key,
            "edge_https": EDGE.map(|ip| std::net::SocketAddr::new(ip, layout.https_port()).to_string()),
            "ca_root_pem": layout.ca_roots(),
        });
        write_whole(file, &serde_json::to_string_pretty(&ready)?)?;
    }

    Ok(())
}

/// The platform's own engineer, working through the API.
struct Platform {
    client: Client,
    url: String,
    key: String,
}

impl Platform {
    async fn call(
        &self,
        method: Method,
        path: &str,
        body: Option<Value>,
    ) -> anyhow::Result<(StatusCode, Value)> {
        let url = format!("{}/api/v1/{path}", self.url);
        let mut request = self.client.request(method, url).bearer_auth(&self.key);
        if let Some(body) = &body {
            request = request.json(body);
        }

        // On a machine that is busy a call is put off for a moment.
        let until = Instant::now() + PATIENCE;
        let response = loop {
            let sent = request.try_clone().context("A body that is read once")?.send().await?;
            if sent.status() != StatusCode::SERVICE_UNAVAILABLE || Instant::now() > until {
                break sent;
            }
            tokio::time::sleep(PUT_OFF).await;
        };
        let status = response.status();
        let answer: Value = response.json().await.unwrap_or_default();

        if status.is_success() || status == StatusCode::CONFLICT {
            return Ok((status, answer));
        }

        anyhow::bail!("{path} was refused: {}", answer["detail"].as_str().unwrap_or_default())
    }

    /// Adds something; `false` if an earlier run has.
    async fn add(&self, path: &str, body: Value) -> anyhow::Result<bool> {
        Ok(self.call(Method::POST, path, Some(body)).await?.0 == StatusCode::CREATED)
    }

    async fn sheet(&self, host: &str) -> anyhow::Result<Sheet> {
        let host = Subject::parse(host)?;
        let (_, sheet) = self.call(Method::GET, &format!("domains/{host}/sheet?reveal=true"), None).await?;
        Ok(serde_json::from_value(sheet)?)
    }

    /// Waits until a domain is live, unless it has left or rests.
    async fn live(&self, host: &str, account: &str) -> anyhow::Result<()> {
        let path = format!("domains/{host}?account={account}");
        let is_live = || async {
            let answer = self.call(Method::GET, &path, None).await;
            answer.is_ok_and(|(_, detail)| {
                let rests =
                    ["ended", "suspended_at", "paused_at"].iter().any(|field| !detail[field].is_null());
                rests || detail["stage"] == "live"
            })
        };
        wait_for(&format!("{host} being live"), Duration::from_secs(120), is_live).await
    }

    /// Lets other accounts that claim a name prove themselves too, once it is live.
    async fn contend(&self, zones: &Zones) -> anyhow::Result<()> {
        for RivalPart { host, holder, challenger } in RIVALS {
            self.live(host, holder).await?;
            let sheet = format!("domains/{host}/sheet?reveal=true&account={challenger}");
            let (_, sheet) = self.call(Method::GET, &sheet, None).await?;
            let sheet: Sheet = serde_json::from_value(sheet)?;
            customer::publish_only_also(zones, &sheet, Purpose::Ownership).await?;
        }
        Ok(())
    }

    /// What the platform does about a domain once it is taken in.
    async fn treat(&self, part: &Part) -> anyhow::Result<()> {
        let host = Subject::parse(part.host)?;
        match part.act {
            Act::BeyondPlan => {
                let none = json!({ "allowance": { "domains": 0 } });
                self.call(Method::PATCH, &format!("accounts/{}", part.site), Some(none)).await?;
            }
            Act::Staged => {
                let tomorrow = chrono::Utc::now() + chrono::TimeDelta::hours(20);
                let at = json!({ "at": tomorrow.to_rfc3339() });
                self.call(Method::PATCH, &format!("domains/{host}"), Some(at)).await?;
            }
            _ => {}
        }
        Ok(())
    }

    /// A certificate that the customer has from elsewhere, once the domain's
    /// own is there.
    async fn bring(&self, layout: &Layout, host: &str, days: i64) -> anyhow::Result<()> {
        wait_for(&format!("{host} having a certificate"), PATIENCE, || async {
            let answer = self.call(Method::GET, &format!("domains/{host}"), None).await;
            answer.is_ok_and(|(_, detail)| !detail["certificate"].is_null())
        })
        .await?;

        let pem = Authority::open(layout)?.issue(&[host.to_owned()], days)?;
        let body = json!({ "chain_pem": pem.chain, "key_pem": pem.key });
        self.call(Method::PUT, &format!("domains/{host}/certificate"), Some(body)).await?;
        Ok(())
    }

    async fn seed(&self, zones: &Zones, edge: &Edge) -> anyhow::Result<()> {
        let (ipv4, ipv6): (Vec<IpAddr>, Vec<IpAddr>) = EDGE.iter().partition(|ip| ip.is_ipv4());
        let canonical = "{site}.edge.quaymark.example";

        self.add(
            "ingresses",
            json!({
                "name": "harbour", "ipv4": ipv4, "ipv6": ipv6, "canonical": canonical,
                "name_servers": servers(PLATFORM).into_iter().map(|(name, _)| name).collect::<Vec<_>>(),
            }),
        )
        .await?;

        for account in &ACCOUNTS {
            self.add("accounts", json!({ "name": account.name, "title": account.title })).await?;
            for site in account.sites {
                let site = json!({ "name": site, "account": account.name, "ingress": "harbour" });
                self.add("sites", site).await?;
            }
        }

        // Zones have customers of their own, and those of one zone come one after another.
        let mut by_zone = BTreeMap::<String, Vec<&Part>>::new();
        for part in &PARTS {
            let zone = Subject::parse(part.host)?.host.registered().to_owned();
            by_zone.entry(zone).or_default().push(part);
        }
        stream::iter(by_zone.into_values().map(anyhow::Ok))
            .try_for_each_concurrent(CUSTOMERS_AT_ONCE, async |parts| {
                for part in parts {
                    self.let_in(part, zones, edge).await?;
                }
                Ok(())
            })
            .await?;

        for RivalPart { host, challenger, .. } in RIVALS {
            self.add("domains", json!({ "host": host, "site": challenger })).await?;
        }
        Ok(())
    }

    /// Takes a domain in, and has its customer do what they do.
    async fn let_in(&self, part: &Part, zones: &Zones, edge: &Edge) -> anyhow::Result<()> {
        let host = Subject::parse(part.host)?;
        if part.act == Act::EdgeBehind {
            edge.withhold(host.host.as_str());
        }

        acts::set_stage(zones, &host.host, part.act).await?;
        let pair = matches!(part.act, Act::HalfPair | Act::Pair);
        if !self.add("domains", json!({ "host": part.host, "site": part.site, "pair": pair })).await? {
            return Ok(());
        }

        // Nothing is published where no server answers, so nobody waits for it there.
        if part.act != Act::Wrong(Mistake::Unreachable) {
            self.looked_at(&host).await?;
        }
        self.treat(part).await?;
        acts::act(zones, &self.sheet(part.host).await?, part).await?;
        if part.act == Act::Pair {
            customer::publish_also(zones, &self.sheet(&format!("www.{host}")).await?).await?;
        }
        if part.act == Act::OldSheet {
            self.call(Method::POST, &format!("domains/{host}/token"), None).await?;
        }
        Ok(())
    }

    /// Has people and a system told what happens; one of them is not there any more.
    async fn tell(&self, hook: &Hook) -> anyhow::Result<()> {
        // That of an earlier run is not there any more.
        let (_, hooks) = self.call(Method::GET, "hooks", None).await?;
        for former in hooks.as_array().into_iter().flatten() {
            let path = format!("hooks/{}", former["id"].as_str().unwrap_or_default());
            self.call(Method::DELETE, &path, None).await?;
        }
        self.add("hooks", json!({ "url": hook.url() })).await?;

        let (_, recipients) = self.call(Method::GET, "recipients", None).await?;
        if recipients.as_array().is_some_and(|known| !known.is_empty()) {
            return Ok(());
        }
        // Whose mailbox is gone is shown at any hour.
        for (address, kinds, quiet) in [
            (
                "onboarding@quaymark.example",
                json!(["blocked", "lapsed", "claimed-twice"]),
                Some("22:00-06:00 UTC"),
            ),
            ("night.desk@quaymark.example", json!(["lapsed", "certificate-expiring"]), None),
            (NOBODY, json!(["claimed-twice"]), None),
        ] {
            let recipient = json!({ "address": address, "kinds": kinds, "quiet": quiet });
            self.add("recipients", recipient).await?;
        }
        Ok(())
    }

    /// Gives its templates to the operator that offers one click.
    async fn introduce(&self, consent: &Consent) -> anyhow::Result<()> {
        let (_, given) = self.call(Method::GET, "ingresses/harbour/one-click", None).await?;
        let templates: Vec<Template> = serde_json::from_value(given["templates"].clone())?;
        templates.into_iter().for_each(|template| consent.learn(template));
        for zone in ONE_CLICK {
            consent.offer(zone).await?;
        }
        Ok(())
    }

    /// Gives the key of a customer's zone.
    async fn give_key(&self, zones: &Zones) -> anyhow::Result<()> {
        let (host, zone) = KEYED;
        self.looked_at(&Subject::parse(host)?).await?;
        let (_, kept) = self.call(Method::GET, &format!("domains/{host}/zone-key"), None).await?;
        if !kept["key"].is_null() {
            return Ok(());
        }
        let key = zones.give_key(zone, "marbeck-key").await?;
        let path = format!("domains/{host}/zone-key");
        self.call(Method::PUT, &path, Some(json!({ "key": key }))).await.map(drop)
    }

    /// Waits for the first look, which takes the baseline: customers are slower
    /// than that.
    async fn looked_at(&self, host: &Subject) -> anyhow::Result<()> {
        wait_for(&format!("the first look at {host}"), PATIENCE, || async {
            let answer = self.call(Method::GET, &format!("domains/{host}"), None).await;
            answer.is_ok_and(|(_, detail)| !detail["looked_at"].is_null())
        })
        .await
    }

    /// Customers mend their mistakes, each at its time.
    async fn play(&self, zones: &Zones) -> anyhow::Result<()> {
        let start = Instant::now();
        self.contend(zones).await?;
        for part in PARTS.iter().filter(|part| part.act == Act::Suspended) {
            self.live(part.host, part.site).await?;
            self.call(Method::POST, &format!("accounts/{}/suspension", part.site), None).await?;
        }
        for part in &PARTS {
            let Act::Mended(_, seconds) = part.act else { continue };
            tokio::time::sleep_until(start + Duration::from_secs(seconds)).await;
            customer::publish(zones, &self.sheet(part.host).await?, None).await?;
        }

        Ok(())
    }
}
