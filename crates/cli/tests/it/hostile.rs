//! Zones that attack whoever reads them: they are told of, cost no more than the policy grants, and
//! keep nobody else waiting.

use std::time::{Duration, Instant};

use nomenta_core::sheet::Sheet;
use nomenta_world::customer;
use nomenta_world::hostile::{self, Attack, HOST_LABEL, VICTIM};
use nomenta_world::wait_for;
use serde_json::{Value, json};

use crate::own::{Own, own, own_setup, with};
use crate::stage::{self, ADMIN, fresh_zone, heavy, stage};
use crate::turns;

/// Who attacks, the domain, and what is found of it.
type Attacked = (Attack, String, &'static [&'static str]);

/// What is found of each attack, one of these; of some there is nothing to find.
const FOUND: [(Attack, &[&str]); 15] = [
    (Attack::Endless, &["survey-cut-short", "unreachable"]),
    (Attack::Reflected, &["survey-cut-short", "unreachable"]),
    (Attack::Circling, &["unreachable", "server-lame"]),
    (Attack::Crowded, &["survey-cut-short"]),
    (Attack::Pointing, &["survey-cut-short"]),
    (Attack::Gathering, &["address-foreign"]),
    (Attack::Chained, &["survey-cut-short"]),
    (Attack::Heavy, &["survey-cut-short"]),
    (Attack::Trickling, &["unreachable", "tcp-closed"]),
    (Attack::Storming, &[]),
    (Attack::Odd, &[]),
    (Attack::Late, &[]),
    (Attack::Lying, &[]),
    (Attack::Holding, &["unreachable", "tcp-closed"]),
    (Attack::Hollow, &["server-lame", "unreachable", "survey-cut-short"]),
];
/// Packets that one look may send to one server: what its walks and its readings ask, each up to
/// three times.
const MOST_ASKED: u64 = 3 * (200 + 40);
/// Packets that it may send to servers that others list as theirs: for as many names as are looked
/// for in one domain, a start, two kinds of address, and what stands above them.
const MOST_LED_ON: u64 = 3 * 16 * 6;
/// Connections in a minute to one network, as the service is told.
const VISITS: u64 = 20;
/// Hundreds of healthy domains in one zone are more than the platform usually orders for. Those that
/// are live by the time of the attack are left alone: it is what attackers cost that is measured.
const OPTIONS: [&str; 4] =
    ["--visits-a-minute=20", "--account-orders=5000", "--domain-orders=5000", "--look-live=600"];
/// How often it is measured how long healthy domains take, alone and beside those that attack.
const ROUNDS: usize = 2;
/// From how many on it tells anything how long healthy domains take, and how many times as long they
/// may take beside those that attack.
const TELLING: usize = 100;
const MOST_RATIO: f64 = 1.5;
/// Most memory that the service may take, in KiB.
const MOST_MEMORY: u64 = 300 * 1024;

/// Takes hosts in, has them published, and waits until all are live; how long that took.
async fn all_live(own: &Own, hosts: &[String]) -> Duration {
    let zones = &stage().world.zones;
    let mut sheets = Vec::new();
    for host in hosts {
        let (status, view) = own.post("domains", &json!({ "host": host, "site": "onswick" })).await;
        assert_eq!(status, 201, "{view}");
        let (_, view) = own.get(&format!("domains/{host}/sheet?reveal=true")).await;
        let sheet: Sheet = serde_json::from_value(view).expect("a sheet");
        sheets.push(sheet);
    }
    for sheet in &sheets {
        customer::publish_also(zones, sheet).await.expect("published");
    }

    let begun = Instant::now();
    // One call for all: to ask for each by itself is as much work as what is measured.
    let zone = hosts.first().and_then(|host| host.split_once('.')).expect("some hosts").1;
    let live = format!("domains?stage=live&text={zone}&limit=500");
    wait_for("all being live", Duration::from_secs(600), || async {
        own.get(&live).await.1.as_array().is_some_and(|rows| rows.len() == hosts.len())
    })
    .await
    .expect("live");
    let took = begun.elapsed();
    println!("{} live in {took:?}", hosts.len());
    took
}

/// Names of hosts in a zone of their own.
async fn hosts(count: usize) -> Vec<String> {
    let zone = fresh_zone("healthy");
    stage().world.zones.register(&zone).await.expect("registered");
    (0..count).map(|number| format!("h{number}.{zone}")).collect()
}

#[test]
fn while_every_attack_runs_healthy_domains_go_live_and_nobody_is_hit_through_us() {
    let _turn = turns::to_go_by_the_clock();
    stage();
    stage::run(async {
        let world = &stage().world;
        let layout = &world.layout;
        // Waits grow as they do where nothing is set, only from one second on; a few domains go at
        // the pace of the other tests.
        let pace = format!("--look-most={}", heavy(360, 4));
        let setup = with(with(own_setup("hostile", 124).await, &OPTIONS), &[&pace]);
        let own = own(setup, "hostile", 90).await;
        let attackers = hostile::start(layout.dns_port(), [layout.http_port(), layout.https_port()])
            .await
            .expect("attackers");
        world.zones.delegate(VICTIM.0, &[(format!("ns1.{}", VICTIM.0), VICTIM.1)]).await.expect("delegated");

        let count = heavy(200, 10);
        let mut alone = all_live(&own, &hosts(count).await).await;
        let begun = Instant::now();
        let attacked = enrolled(&own).await;
        let mut beside = all_live(&own, &hosts(count).await).await;
        // By turns, since a machine is not as fast from one minute to the next, and since those
        // that are live already cost something as well.
        for _ in 1..heavy(ROUNDS, 1) {
            paused(&own, &attacked, true).await;
            alone += all_live(&own, &hosts(count).await).await;
            paused(&own, &attacked, false).await;
            beside += all_live(&own, &hosts(count).await).await;
        }
        let ratio = beside.as_secs_f64() / alone.as_secs_f64();
        println!(
            "{count} live in {alone:?} alone, in {beside:?} beside {} that attack: {ratio:.2}",
            attacked.len()
        );

        for (attack, host, codes) in &attacked {
            told(&own, *attack, host, codes).await;
        }
        let memory = own.daemon.memory().expect("it runs").most;
        println!("{} MiB at most", memory / 1024);
        assert!(memory < MOST_MEMORY, "{memory} KiB");
        not_hit(&own, &attackers.counts, begun).await;
        // A few are live within seconds, of which the machine's own moods are a good part: it is
        // hundreds that tell what attackers cost.
        if count >= TELLING {
            assert!(ratio < MOST_RATIO, "{ratio:.2} times as long");
        }
    });
}

/// Takes in domains whose zones attack, some of each kind.
async fn enrolled(own: &Own) -> Vec<Attacked> {
    let mut attacked = Vec::new();
    for (attack, codes) in FOUND {
        for _ in 0..heavy(6, 2) {
            let zone = fresh_zone(attack.as_str());
            let server = (format!("ns1.{zone}"), attack.address());
            stage().world.zones.delegate(&zone, &[server]).await.expect("delegated");
            let host = format!("{HOST_LABEL}.{zone}");
            let (status, view) = own.post("domains", &json!({ "host": host, "site": "onswick" })).await;
            assert_eq!(status, 201, "{view}");
            attacked.push((attack, host, codes));
        }
    }
    attacked
}

/// Pauses all that attack, or goes on with them.
async fn paused(own: &Own, attacked: &[Attacked], is_paused: bool) {
    let method = if is_paused { "POST" } else { "DELETE" };
    for (_, host, _) in attacked {
        let request = own.service.request(method, &format!("domains/{host}/pause"), ADMIN);
        let response = stage::patiently(request).await;
        assert_eq!(response.status(), 204, "{host}");
    }
}

/// Waits until a domain that attacks has been looked at, and what is wrong with it is told; none
/// of them has got anywhere.
async fn told(own: &Own, attack: Attack, host: &str, codes: &[&str]) {
    own.looked_at(host).await;
    if !codes.is_empty() {
        let found = || async { own.codes(host).await.iter().any(|code| codes.contains(&code.as_str())) };
        let waited = wait_for(&format!("{attack} being told of"), Duration::from_secs(120), found).await;
        if let Err(error) = waited {
            panic!("{error}; {host} has {:?}", own.codes(host).await);
        }
    }
    let (_, detail): (u16, Value) = own.get(&format!("domains/{host}")).await;
    assert_eq!(detail["stage"], "ownership", "{attack}: {detail}");
}

/// What whoever was attacked got, at the receiving end, is no more than all looks may cost.
async fn not_hit(own: &Own, counts: &hostile::Counts, begun: Instant) {
    let looks = looks(&own.metrics().await);
    for attack in Attack::ALL {
        println!("{attack}: asked {} times", counts.asked(*attack));
        assert!(counts.asked(*attack) <= looks * MOST_ASKED, "{attack}: {looks} looks");
    }

    println!(
        "{looks} looks; the bystander was asked {} times, hosts visited {}",
        counts.victim(),
        counts.visited()
    );
    assert!(counts.victim() <= looks * MOST_LED_ON, "{looks} looks");
    let minutes = begun.elapsed().as_secs() / 60 + 2;
    // Each look at one of those that lead there would visit six addresses, two times.
    assert!((1..=minutes * VISITS).contains(&counts.visited()), "in {minutes} minutes");
}

/// Looks that were done, as the service counts them.
fn looks(metrics: &str) -> u64 {
    let lines = metrics
        .lines()
        .filter(|line| line.starts_with("nomenta_tasks_total") && line.contains(r#"kind="look""#));
    let counts = lines.filter_map(|line| line.rsplit(' ').next()?.parse::<f64>().ok());
    counts.sum::<f64>() as u64
}
