//! One world for all tests, each on names of its own.

use std::future::Future;
use std::io::Write;
use std::mem::take;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::process::Output;
use std::sync::{Arc, LazyLock, Mutex, OnceLock};
use std::time::Duration;

use nomenta_core::name::hostname::Hostname;
use nomenta_core::sheet::Sheet;
use nomenta_world::edge::{Edge, EdgeConfig};
use nomenta_world::layout::{EDGE, PLATFORM};
use nomenta_world::service::ServiceSetup;
use nomenta_world::zones::servers;
use nomenta_world::{Daemon, Layout, World, wait_for};
use serde_json::{Value, json};
use tokio::process::Command;
use tokio::runtime::Runtime;

pub(crate) const PROGRAM: &str = env!("CARGO_BIN_EXE_nomenta");
/// The demo's program, built beside it.
pub(crate) fn demo_program() -> PathBuf {
    Path::new(PROGRAM).with_file_name("nomenta-demo")
}

pub(crate) const ADMIN: &str = "test_admin_key_of_the_stage";
pub(crate) const EDGE_KEY: &str = "test_edge_key_of_the_stage";
/// First port of the tests' world; the demo test takes another row.
pub(crate) const BASE_PORT: u16 = 18_630;
/// Long enough for a busy machine; nothing is expected to take it.
pub(crate) const TIME_LIMIT: Duration = Duration::from_secs(180);

/// How often a call is sent that a busy service puts off.
const TRIES: usize = 20;

/// Never dropped, so the servers end with the test process, not before.
static RUNTIME: LazyLock<Runtime> = LazyLock::new(|| {
    // Workers belong to no test whose output could show what they panic of.
    std::panic::set_hook(Box::new(|info| drop(writeln!(std::io::stderr(), "{info}"))));
    Runtime::new().expect("runtime")
});
static STAGE: OnceLock<Stage> = OnceLock::new();

/// The world, one service process, and the edge.
pub(crate) struct Stage {
    pub world: World,
    pub service: Service,
    _daemon: Daemon,
    _edge: Edge,
}

/// A service as its users reach it.
#[derive(Clone)]
pub(crate) struct Service {
    pub setup: ServiceSetup,
}

tokio::task_local! {
    /// Domains that a test has taken in at the shared service.
    static TAKEN_IN: Mutex<Vec<String>>;
}

/// Runs a test's own async part. What it took in is left alone from then on, so that the domains
/// of tests that are done take nothing from those that are not.
pub(crate) fn run<T: Send + 'static>(part: impl Future<Output = T> + Send + 'static) -> T {
    // On a worker thread, since processes end with the thread that started them.
    let handle = RUNTIME.spawn(TAKEN_IN.scope(Mutex::default(), async {
        let done = part.await;
        let hosts = TAKEN_IN.with(|hosts| take(&mut *hosts.lock().expect("whole")));
        for host in hosts {
            let pause = stage().service.request("POST", &format!("domains/{host}/pause"), ADMIN);
            // It has left, perhaps, or is claimed twice.
            let _ = pause.send().await;
        }
        done
    }));
    RUNTIME.block_on(handle).unwrap_or_else(|e| std::panic::resume_unwind(e.into_panic()))
}

/// The shared stage, started by whoever comes first.
pub(crate) fn stage() -> &'static Stage {
    STAGE.get_or_init(|| run(async { Stage::start().await.expect("the world starts") }))
}

/// Past the capture of any one test's output, for whoever reads the run.
fn say(what: &str) {
    let _ = writeln!(std::io::stderr(), "{what}");
}

pub(crate) fn state_folder(name: &str) -> PathBuf {
    Path::new("/var/tmp").join(format!("nomenta-{name}"))
}

/// A setup for a service on the world's databases; fast, for tests.
pub(crate) fn setup(port: u16, database: String) -> ServiceSetup {
    ServiceSetup {
        listen: ([127, 0, 0, 1], port).into(),
        database,
        sealing_key: "5e".repeat(32),
        admin_key: ADMIN.into(),
        edge_key: EDGE_KEY.into(),
        alone: false,
        challenges: None,
        directory: None,
        egress: None,
        log: None,
        options: [
            "--look-first=1",
            "--young-for=2",
            "--second-look=1",
            "--look-most=4",
            "--look-live=8",
            "--order-retry=4",
            "--pair-hold=5",
            "--mail-gather=1",
            // All tests call from one address, and many with keys that open nothing.
            "--wrong-keys=100000",
        ]
        .map(Into::into)
        .into(),
    }
}

impl Stage {
    async fn start() -> anyhow::Result<Self> {
        let layout = Layout::new(&state_folder("test"), BASE_PORT)?;
        layout.wipe()?;
        let world = World::start(layout, Arc::new(say)).await?;
        let setup = setup(BASE_PORT + 6, world.database("stage").await?);
        // Many tests share its account and its zones.
        let more = ["--account-orders=5000"].map(Into::into);
        let setup =
            ServiceSetup { challenges: Some(0), options: [setup.options, more.into()].concat(), ..setup };
        let layout = &world.layout;
        let daemon = setup.start(layout, Path::new(PROGRAM), &layout.state.join("service.log")).await?;
        let edge = Edge::start(edge_config(layout, &setup, EDGE.to_vec())).await?;
        let service = Service { setup };
        service.add_platform(&EDGE, "{site}.edge.quaymark.example").await;
        Ok(Self { world, service, _daemon: daemon, _edge: edge })
    }
}

pub(crate) fn edge_config(layout: &Layout, setup: &ServiceSetup, addresses: Vec<IpAddr>) -> EdgeConfig {
    EdgeConfig {
        addresses,
        http_port: layout.http_port(),
        https_port: layout.https_port(),
        service: setup.url(),
        key: EDGE_KEY.into(),
        own: stage_own(layout),
    }
}

/// The platform's own certificate.
fn stage_own(layout: &Layout) -> Option<nomenta_world::tls::Pem> {
    let authority = nomenta_world::tls::Authority::open(layout).ok()?;
    authority.issue(&[format!("*.{}", PLATFORM.zone)], 90).ok()
}

impl Service {
    /// One ingress, one account, one site.
    pub(crate) async fn add_platform(&self, addresses: &[IpAddr], canonical: &str) {
        let family = |v4| addresses.iter().filter(move |a| a.is_ipv4() == v4).map(ToString::to_string);
        let (ipv4, ipv6): (Vec<_>, Vec<_>) = (family(true).collect(), family(false).collect());
        let name_servers = servers(PLATFORM).into_iter().map(|(name, _)| name).collect::<Vec<_>>();
        let ingress = json!({
            "name": "harbour", "ipv4": ipv4, "ipv6": ipv6, "canonical": canonical, "name_servers": name_servers,
        });
        for (path, body) in [
            ("ingresses", ingress),
            ("accounts", json!({ "name": "onswick", "title": "Onswick Ferries" })),
            ("sites", json!({ "name": "onswick", "account": "onswick", "ingress": "harbour" })),
        ] {
            let (status, answer) = self.post(path, &body).await;
            assert_eq!(status, 201, "{path}: {answer}");
        }
    }

    pub(crate) fn request(&self, method: &str, path: &str, key: &str) -> reqwest::RequestBuilder {
        let method = method.parse().expect("method");
        reqwest::Client::new().request(method, format!("{}/api/v1/{path}", self.setup.url())).bearer_auth(key)
    }

    pub(crate) async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let (status, answer) = answer(self.request("POST", path, ADMIN).json(body)).await;
        if path == "domains" && status == 201 {
            self.note(&answer);
        }
        (status, answer)
    }

    /// Notes whose sheet this is, for when the test is done.
    fn note(&self, sheet: &Value) {
        let is_shared = self.setup.listen.port() == BASE_PORT + 6;
        if let Some(host) = sheet["host"].as_str().filter(|_| is_shared) {
            // Whatever a test has others do by the side is not known here.
            let _ = TAKEN_IN.try_with(|hosts| hosts.lock().expect("whole").push(host.to_owned()));
        }
    }

    pub(crate) async fn get(&self, path: &str) -> (u16, Value) {
        answer(self.request("GET", path, ADMIN)).await
    }

    /// The page of metrics.
    pub(crate) async fn metrics(&self) -> String {
        let asked = reqwest::Client::new().get(format!("{}/metrics", self.setup.url())).bearer_auth(ADMIN);
        asked.send().await.expect("an answer").text().await.expect("text")
    }

    /// Runs the command line as the admin.
    pub(crate) async fn cli(&self, words: &[&str]) -> Output {
        let mut command = Command::new(PROGRAM);
        command.args(words).env("NOMENTA_URL", self.setup.url()).env("NOMENTA_KEY", ADMIN);
        command.output().await.expect("the command runs")
    }

    /// The same, expecting success, and JSON.
    pub(crate) async fn cli_json(&self, words: &[&str]) -> Value {
        let output = self.cli(&[words, &["--as", "json"]].concat()).await;
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).expect("JSON")
    }

    /// Takes a domain in by the command line; its zone is registered first.
    pub(crate) async fn enrol(&self, world: &World, host: &str) -> Sheet {
        let name = Hostname::parse(host).expect("a host");
        world.zones.register(name.registered()).await.expect("registered");
        let sheet = self.cli_json(&["enrol", host, "--site", "onswick"]).await;
        self.note(&sheet);
        serde_json::from_value(sheet).expect("a sheet")
    }

    /// Waits by the command line until the domain is live.
    pub(crate) async fn live(&self, host: &str) {
        let output = self.cli(&["survey", host, "--until", "live", "--within", "180"]).await;
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(0), "{host} is not live: {err}");
    }

    /// Waits until the domain has been looked at, and so has its baseline.
    pub(crate) async fn looked_at(&self, host: &str) {
        let path = format!("domains/{host}");
        let looked = || async { !self.get(&path).await.1["looked_at"].is_null() };
        wait_for(&format!("{host} being looked at"), TIME_LIMIT, looked).await.expect("looked at");
    }

    /// Codes of a domain's open findings.
    pub(crate) async fn codes(&self, host: &str) -> Vec<String> {
        let detail = self.cli_json(&["explain", host]).await;
        let findings = detail["findings"].as_array().cloned().unwrap_or_default();
        findings.iter().filter_map(|f| f["code"].as_str().map(str::to_owned)).collect()
    }

    /// Waits until exactly these findings are open.
    pub(crate) async fn found(&self, host: &str, codes: &[&str]) {
        let what = format!("{host} having {codes:?}");
        let waited = wait_for(&what, TIME_LIMIT, || async { self.codes(host).await == codes });
        if let Err(error) = waited.await {
            panic!("{error}; it has {:?}", self.codes(host).await);
        }
    }
}

/// Sends a call, and again when the service says so, as a busy machine makes it; with a key of
/// its own, so that nothing is done twice.
pub(crate) async fn patiently(request: reqwest::RequestBuilder) -> reqwest::Response {
    let request = request.header("idempotency-key", uuid::Uuid::new_v4().to_string());
    for _ in 0..TRIES {
        let response = request.try_clone().expect("a body that is kept").send().await.expect("an answer");
        let again = response.headers().get("retry-after").and_then(|after| after.to_str().ok()?.parse().ok());
        match again {
            // In conflict with itself, while it is under way.
            Some(seconds) if matches!(response.status().as_u16(), 503 | 409) => {
                tokio::time::sleep(Duration::from_secs(seconds)).await
            }
            _ => return response,
        }
    }
    panic!("the service is not to be had")
}

async fn answer(request: reqwest::RequestBuilder) -> (u16, Value) {
    let response = patiently(request).await;
    let status = response.status().as_u16();
    (status, response.json().await.unwrap_or_default())
}

/// The number of a heavy case: `full` where `cargo xtask test --full` runs it.
pub(crate) fn heavy(full: usize, otherwise: usize) -> usize {
    if std::env::var_os("NOMENTA_FULL").is_some() { full } else { otherwise }
}

/// A zone that no other test uses.
pub(crate) fn fresh_zone(prefix: &str) -> String {
    let id = uuid::Uuid::new_v4().simple().to_string();
    format!("{prefix}-{}.example", &id[..8])
}
