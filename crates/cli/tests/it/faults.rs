//! Whatever fails while domains go live: each ends where its DNS says, with one certificate, and
//! nothing that happened is lost or told twice.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use eventsource_stream::Eventsource;
use futures::StreamExt;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use nomenta_core::sheet::Sheet;
use nomenta_world::issuer_front::IssuerFront;
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Daemon, DatabaseWay, Databases, IssuerSetup, OtherIssuer, customer, wait_for};
use rand::Rng;
use serde_json::{Value, json};
use tokio::time::sleep;

use crate::issuance::until_the_ca_remembers;
use crate::own::{Own, count_of, own, with};
use crate::stage::{self, ADMIN, BASE_PORT, PROGRAM, Service, fresh_zone, setup, stage};
use crate::turns;

/// For all to be live after the last fault, on a machine with other tests.
const TIME_LIMIT: Duration = Duration::from_secs(400);
const OPTIONS: [&str; 3] = ["--account-orders=5000", "--domain-orders=1000", "--ca-call-limit=3"];

/// What fails.
#[derive(Clone, Copy, Debug)]
enum Fault {
    /// A process is gone at once.
    Killed,
    /// A process stands still, and goes on as if nothing had been.
    Frozen,
    /// The database is restarted.
    DatabaseRestarted,
    /// Connections to the database are cut without a word.
    DatabaseCut,
    /// The CA says nothing.
    CaSilent,
    /// The CA is too busy.
    CaBusy,
    /// The CA does what it is asked to, and breaks off in the answer.
    CaBrokenOff,
}

const FAULTS: [Fault; 7] = [
    Fault::Killed,
    Fault::Frozen,
    Fault::DatabaseRestarted,
    Fault::DatabaseCut,
    Fault::CaSilent,
    Fault::CaBusy,
    Fault::CaBrokenOff,
];

/// How often each fault is met.
fn rounds() -> usize {
    stage::heavy(10, 1)
}

/// Domains that are taken in before each fault.
fn at_once() -> usize {
    stage::heavy(5, 3)
}

/// Two processes on a database of their own, at a CA of their own.
struct Fleet {
    databases: Databases,
    way: DatabaseWay,
    front: IssuerFront,
    issuer: OtherIssuer,
    first: Own,
    second: Option<Daemon>,
    beside: ServiceSetup,
}

impl Fleet {
    async fn start(round: usize) -> Self {
        let layout = &stage().world.layout;
        let say = Arc::new(|text: &str| println!("{text}"));
        let state = format!("/var/tmp/nomenta-test-faults-{BASE_PORT}-{round}");
        let databases = Databases::start(Path::new(&state), say).await.expect("a database server");
        databases.database("faults").await.expect("a database");
        let way = DatabaseWay::to(&databases, BASE_PORT + 240).await.expect("a way");

        let folder = format!("pebble-faults{round}");
        let lifetime = Duration::from_secs(90 * 86_400);
        let issuer = IssuerSetup { folder, port: BASE_PORT + 241, nonce_reject: 5, lifetime, external: None };
        let issuer = OtherIssuer::start(layout, issuer).await.expect("a CA");
        let front = IssuerFront::start(layout, BASE_PORT + 244, &issuer.directory()).await.expect("a front");

        let mut setup = with(setup(BASE_PORT + 245, way.url("faults")), &OPTIONS);
        setup.directory = Some(front.directory());
        let mut beside = setup.clone();
        beside.listen.set_port(BASE_PORT + 246);
        let first = own(setup, &format!("faults{round}"), 245).await;
        let second = started(&beside, "faults-second").await;
        Self { databases, way, front, issuer, first, second: Some(second), beside }
    }

    /// Has something fail, and go on after a while.
    async fn meet(&mut self, fault: Fault) {
        let long = Duration::from_secs(stage::heavy(20, 14) as u64);
        match fault {
            Fault::Killed => {
                self.second.take().expect("it runs").kill().await;
                self.second = Some(started(&self.beside, "faults-second").await);
            }
            Fault::Frozen => {
                let id = self.second.as_ref().and_then(Daemon::id).expect("it runs");
                let id = Pid::from_raw(i32::try_from(id).expect("a process id"));
                kill(id, Signal::SIGSTOP).expect("frozen");
                sleep(long).await;
                kill(id, Signal::SIGCONT).expect("going on");
            }
            Fault::DatabaseRestarted => self.databases.restart().await.expect("restarted"),
            Fault::DatabaseCut => self.way.cut(),
            Fault::CaSilent => {
                self.front.hang(true);
                sleep(long / 2).await;
                self.front.hang(false);
            }
            Fault::CaBusy => {
                self.front.overload(Some(1));
                sleep(long / 4).await;
                self.front.overload(None);
            }
            Fault::CaBrokenOff => {
                self.front.break_off(true);
                sleep(long / 2).await;
                self.front.break_off(false);
            }
        }
    }
}

async fn started(setup: &ServiceSetup, name: &str) -> Daemon {
    let layout = &stage().world.layout;
    let log = layout.state.join(format!("{name}.log"));
    setup.start(layout, Path::new(PROGRAM), &log).await.expect("started")
}

/// Takes some in, and publishes their sheets, however often it takes while something fails.
async fn publish(service: &Service, zone: &str, batch: usize) -> Vec<String> {
    let mut hosts = Vec::new();
    for n in 0..at_once() {
        let host = format!("n{batch}-{n}.{zone}");
        let sheet: Sheet = serde_json::from_value(taken_in(service, &host).await).expect("a sheet");
        customer::publish_also(&stage().world.zones, &sheet).await.expect("published");
        hosts.push(host);
    }
    hosts
}

/// The answer to a call that is repeated until there is one.
async fn taken_in(service: &Service, host: &str) -> Value {
    let call = service.request("POST", "domains", ADMIN).json(&json!({ "host": host, "site": "onswick" }));
    let call = call.header("idempotency-key", host).timeout(Duration::from_secs(20));
    for _ in 0..200 {
        let answer = call.try_clone().expect("it can be repeated").send().await;
        if let Ok(answer) = answer
            && answer.status().is_success()
            && let Ok(view) = answer.json().await
        {
            return view;
        }
        sleep(Duration::from_millis(300)).await;
    }
    panic!("{host} was not taken in");
}

/// Follows what happens at a service, from wherever the stream breaks off; what it was told, by
/// number.
async fn follow(url: String, told: Arc<Mutex<Vec<u64>>>) {
    let client = reqwest::Client::new();
    loop {
        let last = told.lock().expect("whole").last().copied().unwrap_or(0);
        let asked = client.get(format!("{url}/api/v1/events")).bearer_auth(ADMIN);
        let asked = asked.header("accept", "text/event-stream").header("last-event-id", last.to_string());
        if let Ok(answer) = asked.send().await
            && answer.status().is_success()
        {
            let mut events = answer.bytes_stream().eventsource();
            while let Ok(Some(Ok(event))) = tokio::time::timeout(Duration::from_secs(40), events.next()).await
            {
                if let Ok(number) = event.id.parse() {
                    told.lock().expect("whole").push(number);
                }
            }
        }
        sleep(Duration::from_millis(200)).await;
    }
}

async fn live(service: &Service) -> BTreeSet<String> {
    let (status, rows) = service.get("domains?stage=live&limit=500").await;
    let rows = rows.as_array().filter(|_| status == 200).cloned().unwrap_or_default();
    rows.iter().filter_map(|row| row["host"].as_str().map(str::to_owned)).collect()
}

/// How many certificates of the CA name each of these.
fn counted(issued: &[String], hosts: &BTreeSet<String>) -> BTreeMap<String, usize> {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for pem in issued {
        let names = nomenta_certs::x509::facts(pem).expect("a certificate").names;
        for name in names.into_iter().filter(|name| hosts.contains(name)) {
            *counts.entry(name).or_default() += 1;
        }
    }
    counts
}

#[test]
fn whatever_fails_while_domains_go_live_each_gets_one_certificate_and_every_event_is_told_once() {
    let _turn = turns::to_fill_the_machine();
    stage();
    stage::run(until_the_ca_remembers(async |round| {
        let mut fleet = Fleet::start(round).await;
        let url = fleet.first.setup.url();
        let told = Arc::new(Mutex::new(Vec::new()));
        let following = tokio::spawn(follow(url, told.clone()));
        let zone = fresh_zone("faults");
        stage().world.zones.register(&zone).await.expect("registered");

        let mut hosts = BTreeSet::new();
        for n in 0..rounds() {
            for fault in FAULTS {
                hosts.extend(publish(&fleet.first.service, &zone, hosts.len()).await);
                let moment = rand::rng().random_range(0..1_500);
                sleep(Duration::from_millis(moment)).await;
                println!("round {n}: {fault:?}, {moment} ms after {} domains", hosts.len());
                fleet.meet(fault).await;
            }
        }

        let all =
            wait_for("all being live", TIME_LIMIT, || async { live(&fleet.first).await == hosts }).await;
        if let Err(error) = all {
            let live = live(&fleet.first).await;
            panic!("{error}: {:?}", hosts.difference(&live).collect::<Vec<_>>());
        }

        let remembers = fleet.issuer.said().is_empty();
        if remembers {
            let issued = fleet.issuer.issued().await.expect("the CA's word");
            let counts = counted(&issued, &hosts);
            let other: Vec<_> = counts.iter().filter(|(_, count)| **count != 1).collect();
            assert!(other.is_empty() && counts.len() == hosts.len(), "not one certificate each: {other:?}");
        }
        for host in &hosts {
            // By one call each, since there are hundreds.
            let (status, history) = fleet.first.get(&format!("domains/{host}/events?limit=500")).await;
            assert_eq!(status, 200, "{history}");
            for kind in ["domain.enrolled", "certificate.issued"] {
                assert_eq!(count_of(kind, &history), 1, "{kind} of {host}");
            }
            // The CA may come just when nothing answers it; another order follows a refusal alone.
            let [placed, refused] = ["order.placed", "order.refused"].map(|kind| count_of(kind, &history));
            assert_eq!(placed, 1 + refused, "orders of {host}");
        }

        told_once(&fleet, &told).await;
        following.abort();
        let deadlocks = "SELECT deadlocks FROM pg_stat_database WHERE datname = 'faults'";
        let deadlocks = fleet.databases.statement("faults", deadlocks).await.expect("counted");
        assert_eq!(deadlocks.trim(), "0", "locks are taken in one order");
        fleet.first.daemon.stop().await;
        remembers
    }));
}

/// Whoever follows was told every event that is recorded, once and in order.
async fn told_once(fleet: &Fleet, told: &Mutex<Vec<u64>>) {
    let recorded = "SELECT string_agg(seq::text, ' ' ORDER BY seq) FROM events";
    let complete = || async {
        let recorded = fleet.databases.statement("faults", recorded).await.expect("read");
        let last = recorded.trim().rsplit(' ').next().and_then(|last| last.parse().ok());
        last == told.lock().expect("whole").last().copied()
    };
    wait_for("the stream having told everything", Duration::from_secs(60), complete).await.expect("told");

    let recorded = fleet.databases.statement("faults", recorded).await.expect("read");
    let recorded: Vec<u64> =
        recorded.split_whitespace().map(|number| number.parse().expect("a number")).collect();
    let told = told.lock().expect("whole").clone();
    assert_eq!(told, recorded[..told.len()], "each once, in order");
}
