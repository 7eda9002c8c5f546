//! Records, leases and events on a real PostgreSQL.

mod fleet;
mod listings;
mod migrations;

use std::path::Path;
use std::sync::{Arc, LazyLock};

use chrono::{Duration, SubsecRound as _, Utc};
use futures::future::join_all;
use nomenta_api::event::EventKind;
use nomenta_api::role::Role;
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::evidence::{Evidence, OrderState, Problem};
use nomenta_core::judge::finding::{Finding, Severity};
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::judge::policy::Policy;
use nomenta_core::judge::schedule::NextLook;
use nomenta_core::judge::step::{self, Outcome};
use nomenta_core::name::platform::Platform;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::method::Method;
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::Depth;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use nomenta_store::{
    AccountChange, AuditFilter, DomainRecord, Enrolment, EventFilter, Expected, Inquiry, Issued, Lane, Lease,
    Limits, Looked, NameFilter, Named, NewChallenge, NewDomain, NewKey, NewOrder, NewSite, QuickDone,
    RosterFilter, Store, StoreError, TaskKind, Then, Whose,
};
use nomenta_world::Databases;
use tokio::runtime::Runtime;
use tokio::sync::OnceCell;

/// Never dropped, so the server ends with the test process, not before.
static RUNTIME: LazyLock<Runtime> = LazyLock::new(|| Runtime::new().expect("runtime"));
/// Longest wait for what comes a moment later.
const SOON: std::time::Duration = std::time::Duration::from_secs(20);
static DATABASES: OnceCell<Databases> = OnceCell::const_new();

/// Runs a test's own async part on a worker thread, since processes end with the
/// thread that started them.
fn run(part: impl Future<Output = ()> + Send + 'static) {
    let handle = RUNTIME.spawn(part);
    RUNTIME.block_on(handle).unwrap_or_else(|error| std::panic::resume_unwind(error.into_panic()));
}

async fn databases() -> &'static Databases {
    DATABASES
        .get_or_init(|| async {
            let say = Arc::new(|what: &str| println!("{what}"));
            let started = Databases::start(Path::new("/var/tmp/nomenta-test-store"), say).await;
            started.expect("PostgreSQL starts")
        })
        .await
}

/// A store of its own, with one site.
async fn store(name: &str) -> Store {
    let url = databases().await.database(name).await.expect("a database");
    let store = Store::open(&url, Rules::default()).await.expect("opened");
    let ingress = Ingress {
        name: "harbour".into(),
        revision: 0,
        ipv4: [[127, 77, 0, 10].into()].into(),
        ipv6: Default::default(),
        canonical: CanonicalHost::parse("edge.quaymark.example").expect("valid"),
        name_servers: Default::default(),
        subdomain_addresses: true,
    };
    store.add_ingress(&ingress).await.expect("an ingress");
    store.add_account("onswick", "Onswick Ferries", &AccountChange::default()).await.expect("an account");
    store.add_site(&site("onswick", "onswick")).await.expect("a site");
    store
}

fn site<'a>(account: &'a str, name: &'a str) -> NewSite<'a> {
    let default_host = "onswick.quaymark.example";
    NewSite { account, name, ingress: "harbour", default_host, entry_path: "/", error_path: "/" }
}

/// Up to so many due tasks of each lane.
async fn leased(store: &Store, most: usize) -> Vec<Lease> {
    let mut leases = Vec::new();
    for lane in Lane::ALL {
        leases.extend(store.lease(*lane, most).await.expect("leases"));
    }
    leases
}

fn named(host: &str) -> Named<'_> {
    Named { host, account: None, whose: &Whose::Everybodys }
}

async fn enrol(store: &Store, host: &str) -> DomainRecord {
    let name = Subject::parse(host).expect("valid");
    let token = Token::from_random([1; 20]);
    let token_expires_at = Utc::now() + Duration::days(1);
    let domains = [NewDomain { subject: name, token }];
    let id = store.enrol(&Enrolment::new("onswick", &domains, token_expires_at)).await.expect("enrolled");
    store.domain(id).await.expect("found")
}

fn survey(record: &DomainRecord) -> Survey {
    let zone = ZoneView::Unreachable {
        zone: "onswick.example".into(),
        tried: vec!["nobody".into()],
        delegation: None,
    };
    let (host, routed) = (record.domain.host.clone(), record.domain.routed());
    Survey {
        host,
        at: Utc::now(),
        zone,
        readings: Vec::new(),
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed,
        depth: Depth::Full,
    }
}

/// What `step` makes of a zone whose servers are silent.
fn outcome(record: &DomainRecord) -> Outcome {
    let platform = Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: None,
        acme_zone: None,
        dns_for_all: false,
        special_use: vec!["example".into(), "test".into()],
        reserved: Vec::new(),
    };
    let evidence = Evidence { survey: Some(survey(record)), ..Evidence::default() };
    step::step(&record.domain, &platform, &evidence, &Policy::default(), Utc::now())
}

async fn finish(
    store: &Store,
    lease: &Lease,
    record: &DomainRecord,
    outcome: &Outcome,
) -> Result<(), StoreError> {
    let survey = survey(record);
    let looked = looked(&survey, outcome);
    store.finish_look(lease, record, &looked, Utc::now()).await
}

async fn order_state(store: &Store, record: &DomainRecord) -> OrderState {
    let limits = Limits { per_domain: 40, per_account: 40, per_customer: 40 };
    let inquiry = Inquiry {
        domain_id: record.id,
        registered: record.domain.host.registered().to_owned(),
        directory: "https://127.0.0.1/directory".into(),
        first: limits,
        renewal: limits,
    };
    store.known(inquiry).await.expect("known").order
}

fn looked<'a>(survey: &'a Survey, outcome: &'a Outcome) -> Looked<'a> {
    Looked {
        survey,
        baseline: None,
        outcome,
        operator: None,
        course: None,
        probe: None,
        visit: None,
        drifts: &[],
        order: None,
    }
}

async fn kinds(store: &Store, host: &str) -> Vec<String> {
    let domain = Some(store.claim(named(host)).await.expect("found"));
    let of = EventFilter { domain, ..every_event() };
    let events = store.events(&of, 0, 100).await.expect("events");
    events.into_iter().map(|row| row.event.kind().to_string()).collect()
}

#[test]
fn a_task_is_leased_to_one_worker_however_many_ask() {
    run(async {
        let store = store("lease").await;
        for n in 0..30 {
            enrol(&store, &format!("w{n}.onswick.example")).await;
        }
        let asked = join_all((0..12).map(|_| leased(&store, 5))).await;
        let mut taken: Vec<_> = asked.into_iter().flatten().map(|l| l.domain_id).collect();
        let all = taken.len();
        taken.sort();
        taken.dedup();
        assert_eq!((all, taken.len()), (30, 30), "each once, and all of them");
        assert!(leased(&store, 5).await.is_empty());
        let due = store.next_due(Lane::ALL).await.expect("a time").expect("something is queued");
        assert!((8.0..13.0).contains(&due), "the leases run out in {due} s");
    });
}

#[test]
fn who_lost_the_lease_writes_nothing() {
    run(async {
        let store = store("lost").await;
        let record = enrol(&store, "www.onswick.example").await;
        let lease = leased(&store, 1).await.remove(0);
        store.renew(&lease).await.expect("renewed");
        // The task comes back and is taken by another process.
        store.postpone(&lease, Utc::now(), Lane::Usual).await.expect("given back");
        let other = leased(&store, 1).await.remove(0);

        let outcome = outcome(&record);
        let refused = finish(&store, &lease, &record, &outcome).await;
        assert!(matches!(refused, Err(StoreError::LeaseLost)));
        assert!(matches!(store.renew(&lease).await, Err(StoreError::LeaseLost)));
        assert!(matches!(store.drop_task(&lease).await, Err(StoreError::LeaseLost)));
        assert_eq!(kinds(&store, "www.onswick.example").await, ["domain.enrolled"]);
        assert!(store.findings(&Whose::Everybodys, record.id).await.expect("findings").is_empty());

        finish(&store, &other, &record, &outcome).await.expect("written");
        assert_eq!(
            kinds(&store, "www.onswick.example").await,
            ["domain.enrolled", "gate.changed", "finding.opened"]
        );
    });
}

#[test]
fn looks_that_end_together_are_each_written_or_not() {
    run(async {
        let store = store("together").await;
        let hosts: Vec<_> = (0..40).map(|n| format!("w{n}.onswick.example")).collect();
        let records = join_all(hosts.iter().map(|host| enrol(&store, host))).await;
        let mut leases = leased(&store, 50).await;
        leases.sort_by_key(|lease| records.iter().position(|record| record.id == lease.domain_id));

        // One has lost its task to another process, one found what the database does not take.
        let (lost, unkept) = (3, 17);
        store.postpone(&leases[lost], Utc::now(), Lane::Usual).await.expect("given back");
        leased(&store, 1).await.pop().expect("taken by another");
        let mut outcomes: Vec<_> = records.iter().map(outcome).collect();
        outcomes[unkept].gates.0[GateName::Routing as usize].reason = "\0".into();

        let all = leases.iter().zip(&records).zip(&outcomes);
        let done =
            join_all(all.map(|((lease, record), outcome)| finish(&store, lease, record, outcome))).await;
        for (index, done) in done.into_iter().enumerate() {
            let told = kinds(&store, &hosts[index]).await;
            let is_written = told == ["domain.enrolled", "gate.changed", "finding.opened"];
            match done {
                Ok(()) => assert!(is_written && ![lost, unkept].contains(&index), "{index}: {told:?}"),
                Err(StoreError::LeaseLost) => assert!(index == lost && !is_written, "{index}: {told:?}"),
                Err(error) => assert!(index == unkept && !is_written, "{index}: {error}"),
            }
        }
        let seen = join_all(records.iter().map(|record| store.take_up(record.id))).await;
        let looked = seen.iter().filter(|seen| seen.as_ref().expect("there").0.survey.is_some());
        assert_eq!(looked.count(), 38);
        let same = join_all((0..20).map(|_| store.take_up(records[0].id))).await;
        assert!(same.iter().all(Result::is_ok), "whoever asks for the same is answered as well");
        let gone = store.take_up(uuid::Uuid::nil()).await;
        assert!(matches!(gone, Err(StoreError::Missing { .. })));
    });
}

#[test]
fn a_look_asked_for_during_a_look_comes_after_it() {
    run(async {
        let store = store("again").await;
        let record = enrol(&store, "www.onswick.example").await;
        let lease = leased(&store, 1).await.remove(0);
        store.look_now(record.id).await.expect("asked");
        assert!(leased(&store, 1).await.is_empty(), "not two at once");
        finish(&store, &lease, &record, &outcome(&record)).await.expect("written");
        assert_eq!(leased(&store, 1).await.len(), 1, "due again at once");
        let unknown = store.look_now(uuid::Uuid::nil()).await;
        assert!(matches!(unknown, Err(StoreError::Ended)));
    });
}

#[test]
fn findings_keep_their_first_time_and_tell_when_they_come_and_go() {
    run(async {
        let store = store("findings").await;
        let host = "www.onswick.example";
        let mut record = enrol(&store, host).await;
        let finding = |code: Code, remedy: &str| Finding {
            code,
            severity: Severity::Blocker,
            gate: GateName::Routing,
            remedy: remedy.into(),
            remark: String::new(),
            evidence: Vec::new(),
            edits: Vec::new(),
        };
        let (a, b) = (Code::CnameForeign, Code::AddressForeign);
        let rounds: [&[(Code, &str)]; 3] =
            [&[(a, "one"), (b, "one")], &[(a, "two")], &[(a, "two"), (b, "three")]];
        let mut first_seen = None;
        for round in rounds {
            store.look_now(record.id).await.expect("asked");
            let lease = leased(&store, 1).await.remove(0);
            let mut result = outcome(&record);
            result.findings = round.iter().map(|(code, remedy)| finding(*code, remedy)).collect();
            finish(&store, &lease, &record, &result).await.expect("written");
            record = store.domain_named(named(host)).await.expect("found");
            let open = store.findings(&Whose::Everybodys, record.id).await.expect("findings");
            let mut shown: Vec<_> =
                open.iter().map(|row| (row.finding.code, row.finding.remedy.as_str())).collect();
            shown.sort_unstable();
            assert_eq!(shown, round);
            let stays = open.iter().find(|row| row.finding.code == a).expect("it stays open");
            assert_eq!(*first_seen.get_or_insert(stays.first_seen), stays.first_seen);
            assert!(stays.last_seen >= stays.first_seen);
        }
        let told: Vec<_> =
            kinds(&store, host).await.into_iter().filter(|k| k.starts_with("finding")).collect();
        assert_eq!(told, ["finding.opened", "finding.opened", "finding.cleared", "finding.opened"]);
    });
}

#[test]
fn events_of_many_writers_are_numbered_in_the_order_of_commit() {
    run(async {
        let store = store("events").await;
        let mut listener = store.listen().await.expect("listening");
        let reader = async {
            let (mut seen, mut after) = (Vec::new(), 0);
            while seen.len() < 40 {
                for event in store.events(&every_event(), after, 7).await.expect("events") {
                    after = event.seq;
                    seen.push(event.seq);
                }
            }
            seen
        };
        let hosts: Vec<_> = (0..40).map(|n| format!("w{n}.onswick.example")).collect();
        let writers = join_all(hosts.iter().map(|host| enrol(&store, host)));
        let (seen, _) = tokio::join!(reader, writers);
        // A reader that always resumes after the last number missed none.
        let all: Vec<_> =
            store.events(&every_event(), 0, 100).await.expect("events").into_iter().map(|e| e.seq).collect();
        assert_eq!(seen, all);
        assert_eq!(store.last_event().await.expect("a number"), all[39]);
        assert!(listener.heard().await.is_ok(), "others were told");
    });
}

#[test]
fn whoever_listens_hears_that_calls_may_have_been_missed() {
    run(async {
        let store = store("missed").await;
        let mut listener = store.listen().await.expect("listening");
        let cut = "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
                   WHERE datname = 'missed' AND query LIKE 'LISTEN%'";
        let gone = databases().await.statement("postgres", cut).await.expect("cut");
        assert_eq!(gone.trim(), "1");
        // What was called before it broke is heard first.
        while listener.heard().await.expect("it is made anew").is_some() {}

        enrol(&store, "www.onswick.example").await;
        assert!(matches!(listener.heard().await, Ok(Some(_))), "it goes on");
    });
}

#[test]
fn an_order_goes_from_open_to_refused_to_issued_and_is_alone() {
    run(async {
        let store = store("orders").await;
        let host = "www.onswick.example";
        let record = enrol(&store, host).await;
        let place = async |key: &[u8]| {
            store.look_now(record.id).await.expect("asked");
            let leases = leased(&store, 5).await;
            let look = leases.into_iter().find(|l| l.kind == TaskKind::Look).expect("a look");
            let (now, record) = (Utc::now(), store.domain_named(named(host)).await.expect("found"));
            let (mut outcome, survey) = (outcome(&record), survey(&record));
            // Whoever is to have a certificate holds the name.
            outcome.gates.0[GateName::Ownership as usize].state = GateState::Passed;
            let order = NewOrder {
                domains: vec![(record.id, host.to_owned())],
                registered: "onswick.example".into(),
                method: Method::Http,
                sealed_key: key.to_vec(),
                limits: Limits { per_domain: 40, per_account: 40, per_customer: 40 },
                known: store.take_up(record.id).await.expect("read").1,
            };
            let looked = Looked { order: Some(&order), ..looked(&survey, &outcome) };
            store.finish_look(&look, &record, &looked, now).await.expect("written");
        };
        assert_eq!(order_state(&store, &record).await, OrderState::None);
        place(b"first key").await;
        let order = store.open_order(record.id).await.expect("read").expect("open");
        assert_eq!((order.url.as_deref(), order.sealed_key.as_slice()), (None, &b"first key"[..]));
        let leases = leased(&store, 5).await;
        let lease = leases.iter().find(|l| l.kind == TaskKind::Order).expect("an order").clone();
        for look in leases.iter().filter(|l| l.kind == TaskKind::Look) {
            store.postpone(look, Utc::now(), Lane::Usual).await.expect("given back");
        }
        place(b"second key").await;
        let same = store.open_order(record.id).await.expect("read").expect("open");
        assert_eq!((same.id, same.sealed_key), (order.id, order.sealed_key.clone()), "one order at a time");

        let url = "https://127.0.0.1/order/1";
        store.note_order_url(&lease, order.id, url).await.expect("noted");
        let twice = store.note_order_url(&lease, order.id, "https://127.0.0.1/order/2").await;
        assert!(matches!(twice, Err(StoreError::LeaseLost)), "another has placed it already");
        let mut look = lease.clone();
        look.kind = TaskKind::Look;
        let late = store.forget_order_url(&look, order.id).await;
        assert!(matches!(late, Err(StoreError::LeaseLost)), "whoever has lost the task changes nothing");
        let kept = store.open_order(record.id).await.expect("read").expect("open");
        assert_eq!(kept.url.as_deref(), Some(url));
        let challenge = |token, method, answer| NewChallenge { token, name: host, method, answer, tls: None };
        for new in [challenge("token", Method::Http, "token.thumb"), challenge("other", Method::Dns, "text")]
        {
            store.add_challenge(&lease, order.id, &new).await.expect("added");
        }
        let late = store.add_challenge(&look, order.id, &challenge("late", Method::Http, "late")).await;
        assert!(matches!(late, Err(StoreError::LeaseLost)));
        let all = store.all_challenge_texts(10).await.expect("read");
        assert_eq!(all, [(host.to_owned(), "text".to_owned())]);
        assert_eq!(store.challenge_texts(host).await.expect("read"), ["text"]);
        assert_eq!(
            store.challenge(&Whose::Everybodys, "other").await.expect("read"),
            None,
            "each method has its own"
        );
        assert_eq!(
            store.challenge(&Whose::Everybodys, "token").await.expect("read").as_deref(),
            Some("token.thumb")
        );
        let problem =
            Problem { kind: "urn:x:caa".into(), detail: "no".into(), status: Some(403), subproblems: vec![] };
        let retry_at = Utc::now() + Duration::seconds(60);
        store.finish_refused(&lease, &order, &problem, retry_at).await.expect("written");
        assert_eq!(store.challenge(&Whose::Everybodys, "token").await.expect("read"), None);
        let OrderState::Refused { problem: kept, .. } = order_state(&store, &record).await else {
            panic!("not refused");
        };
        assert_eq!(kept, problem);
        assert_eq!(store.refusals(record.id).await.expect("a count"), 1);

        place(b"third key").await;
        let order = store.open_order(record.id).await.expect("read").expect("open");
        let leases = leased(&store, 5).await;
        let lease = leases.iter().find(|l| l.kind == TaskKind::Order).expect("an order");
        let facts = CertificateFacts {
            serial: "01".into(),
            issuer: "CN=Stampworks".into(),
            names: vec![host.into()],
            not_before: Utc::now(),
            not_after: Utc::now() + Duration::days(90),
        };
        let renew_at = Utc::now() + Duration::days(60);
        let issued = Issued { facts: facts.clone(), chain_pem: "PEM".into(), renew_at };
        store.finish_issued(lease, &order, &issued).await.expect("written");
        assert_eq!(order_state(&store, &record).await, OrderState::None);
        assert_eq!(store.refusals(record.id).await.expect("a count"), 0);
        let held = store.certificate(record.id).await.expect("read").expect("held");
        assert_eq!(held.facts.serial, facts.serial);
        let chain = store.certificate_chain(record.id).await.expect("read");
        assert_eq!(chain.as_deref(), Some("PEM"));
        let twice = store.finish_issued(lease, &order, &issued).await;
        assert!(matches!(twice, Err(StoreError::LeaseLost)));
        let told: Vec<_> = kinds(&store, host).await.into_iter().filter(|k| !k.starts_with("gate")).collect();
        assert_eq!(
            told,
            [
                "domain.enrolled",
                "finding.opened",
                "claim.held",
                "order.placed",
                "order.refused",
                "order.placed",
                "certificate.issued"
            ]
        );
    });
}

#[test]
fn names_are_taken_once_and_unknown_ones_are_named() {
    run(async {
        let store = store("names").await;
        enrol(&store, "www.onswick.example").await;
        let taken =
            store.add_account("onswick", "Again", &AccountChange::default()).await.expect_err("taken");
        assert_eq!(taken.to_string(), "There is already an account named onswick. Choose another name.");
        let missing = store.add_site(&site("nobody", "s")).await.expect_err("missing");
        assert_eq!(missing.to_string(), "There is no account named nobody. Check the spelling.");
        assert!(matches!(store.domain_named(named("no.example")).await, Err(StoreError::Missing { .. })));
        let rows = store.accounts(&every_name(), 10).await.expect("accounts").rows;
        assert_eq!((rows[0].title.as_str(), rows[0].domains), ("Onswick Ferries", 1));
        assert_eq!(store.site("onswick").await.expect("a site").ingress, "harbour");
    });
}

#[test]
fn keys_are_found_by_hash_until_they_are_revoked() {
    run(async {
        let store = store("keys").await;
        let key = NewKey {
            name: "",
            role: Role::Viewer,
            accounts: &[],
            expires_at: None,
            hash: b"hash",
            hint: "hint",
        };
        let id = store.add_key(&NewKey { name: "for tests", ..key }).await.expect("added");
        let again = store.add_key(&NewKey { name: "renamed", ..key }).await.expect("kept");
        assert_eq!(id, again, "a known hash is the same key");
        assert_eq!(
            store.key_by_hash(b"hash").await.expect("read").map(|k| k.name).as_deref(),
            Some("renamed")
        );
        assert!(store.keys(None, 10).await.expect("keys")[0].used_at.is_some());
        store.revoke_key(id, Expected::default()).await.expect("revoked");
        assert!(store.key_by_hash(b"hash").await.expect("read").is_none());
        assert!(store.key(id).await.expect("read").is_none());
        assert!(store.revoke_key(uuid::Uuid::nil(), Expected::default()).await.is_err());
    });
}

async fn enrol_many(store: &Store, site: &str, zone: &str, count: u8) -> Result<(), StoreError> {
    let domains = (0..count).map(|number| NewDomain {
        subject: Subject::parse(&format!("s{number}.{zone}")).expect("a name"),
        token: Token::from_random([number; 20]),
    });
    let domains: Vec<_> = domains.collect();
    let token_expires_at = Utc::now() + Duration::days(1);
    store.enrol(&Enrolment::new(site, &domains, token_expires_at)).await.map(drop)
}

#[test]
fn many_are_taken_in_at_once_or_none_and_a_sweep_is_leased_by_one() {
    run(async {
        let (store, zone) = (store("sweeps").await, "fleet.example");
        enrol_many(&store, "onswick", zone, 5).await.expect("taken in");
        let again = enrol_many(&store, "onswick", zone, 9).await.expect_err("some are there");
        assert!(matches!(&again, StoreError::Taken { name, .. } if name == "s0.fleet.example"), "{again}");
        let nowhere = enrol_many(&store, "nowhere", zone, 0).await;
        assert!(matches!(nowhere, Err(StoreError::Missing { .. })));
        // What was committed has its number a moment later.
        let enrolled = || async {
            let events = store.events(&every_event(), 0, 100).await.expect("events");
            events.iter().filter(|row| row.event.kind() == EventKind::Enrolled).count()
        };
        nomenta_world::wait_for("five being numbered", SOON, || async { enrolled().await == 5 })
            .await
            .expect("told");

        // New domains have full looks; none is to be quick.
        assert_eq!(store.due_by(Utc::now(), 100).await.expect("counted"), (false, 5));
        assert!(store.lease_sweep(100).await.expect("leased").tasks.is_empty());
        let leases = leased(&store, 100).await;
        assert_eq!(leases.len(), 5);
        assert!(leased(&store, 100).await.is_empty(), "they are taken");
        let record = store.domain_named(named("s0.fleet.example")).await.expect("there");
        assert_eq!((record.account.as_str(), record.domain.zone.as_str()), ("onswick", zone));
        assert!(record.looked_at.is_none() && record.domain.pair.is_none());

        let moment = Utc::now() + Duration::days(2);
        assert_eq!(store.all_due_at(moment).await.expect("moved"), 5);
        assert_eq!(store.due_by(Utc::now(), 100).await.expect("counted"), (false, 0));
        // A quick look at what is not leased writes nothing.
        let sweep = store.lease_sweep(1).await.expect("leased");
        let at = NextLook { due: Utc::now(), soonest: Utc::now() };
        let done = QuickDone { domain_id: record.id, at, then: Then::Quick };
        store.finish_sweep(&sweep, &[done], Utc::now()).await.expect("void");
        assert_eq!(store.due_by(Utc::now(), 100).await.expect("counted"), (false, 0));
    });
}

#[test]
fn a_domain_that_somebody_waits_for_is_looked_at_as_soon_as_it_may_be() {
    run(async {
        let store = store("awaited").await;
        let awaited = enrol(&store, "www.onswick.example").await;
        let left_alone = enrol(&store, "shop.onswick.example").await;
        // PostgreSQL keeps microseconds.
        let now = Utc::now().trunc_subsecs(6);
        let at = NextLook { due: now + Duration::minutes(30), soonest: now + Duration::seconds(40) };
        let looked_at = async |lease: &Lease| {
            let record = store.domain(lease.domain_id).await.expect("there");
            let (survey, outcome) = (survey(&record), Outcome { next_look: at, ..outcome(&record) });
            store.finish_look(lease, &record, &looked(&survey, &outcome), now).await.expect("written");
        };
        let next = async |record: &DomainRecord| {
            let next = store.domain(record.id).await.expect("there").next_look.expect("one is due");
            (next - now).num_seconds()
        };
        for lease in leased(&store, 9).await {
            looked_at(&lease).await;
        }

        let until = now + Duration::seconds(70);
        store.awaited(&[awaited.id], until, now + Duration::seconds(5)).await.expect("noted");
        assert_eq!((next(&awaited).await, next(&left_alone).await), (40, 1800), "no sooner than it may be");

        // For as long as somebody waits, the next one comes as soon.
        store.look_now(awaited.id).await.expect("woken");
        looked_at(&leased(&store, 9).await[0]).await;
        assert_eq!(next(&awaited).await, 40);
        store.awaited(&[awaited.id], now, now).await.expect("too soon to be noted again");
        store.look_now(left_alone.id).await.expect("woken");
        looked_at(&leased(&store, 9).await[0]).await;
        assert_eq!(next(&left_alone).await, 1800);
    });
}

#[test]
fn what_has_changed_and_what_is_waited_for_goes_before_all_others() {
    run(async {
        let store = store("first").await;
        let changed = enrol(&store, "www.onswick.example").await;
        let unchanged = enrol(&store, "shop.onswick.example").await;
        let now = Utc::now();
        let looked_at = async |lease: &Lease, quick: Option<i64>| {
            let record = store.domain(lease.domain_id).await.expect("there");
            let found =
                Outcome { next_look: NextLook::at(now), quick, findings: Vec::new(), ..outcome(&record) };
            let (survey, outcome) = (survey(&record), found);
            store.finish_look(lease, &record, &looked(&survey, &outcome), now).await.expect("written");
        };
        for lease in leased(&store, 9).await {
            looked_at(&lease, Some(7)).await;
        }

        let sweep = store.lease_sweep(9).await.expect("leased");
        let done: Vec<_> = [(changed.id, Then::FullNow), (unchanged.id, Then::Full)]
            .map(|(domain_id, then)| QuickDone { domain_id, at: NextLook::at(now), then })
            .into();
        store.finish_sweep(&sweep, &done, now).await.expect("written");
        let lanes = async || {
            let leases = leased(&store, 9).await;
            let of = |id| leases.iter().find(|lease| lease.domain_id == id).expect("leased").clone();
            (of(changed.id), of(unchanged.id))
        };
        let (first, second) = lanes().await;
        assert_eq!((first.lane, second.lane), (Lane::First, Lane::Usual), "a change goes first");

        looked_at(&first, None).await;
        looked_at(&second, None).await;
        store.awaited(&[unchanged.id], now + Duration::seconds(70), now).await.expect("noted");
        let (first, second) = lanes().await;
        assert_eq!((first.lane, second.lane), (Lane::Usual, Lane::First), "whoever is waited for does");

        // For as long as somebody waits.
        looked_at(&second, None).await;
        looked_at(&first, None).await;
        assert_eq!(lanes().await.1.lane, Lane::First);
    });
}

#[test]
fn a_claim_that_ended_is_kept_for_its_history_and_not_for_ever() {
    run(async {
        let (store, host) = (store("kept").await, "www.onswick.example");
        let record = enrol(&store, host).await;
        store.release(record.id, Expected::default()).await.expect("released");
        assert!(matches!(store.release(record.id, Expected::default()).await, Err(StoreError::Ended)));
        assert!(matches!(store.look_now(record.id).await, Err(StoreError::Ended)));

        let again = enrol(&store, host).await;
        assert_eq!(store.domain_named(named(host)).await.expect("found").id, again.id);
        let later = Utc::now() + Rules::default().kept;
        assert_eq!(store.forget_ended(later - Duration::minutes(1), 10).await.expect("asked"), 0);
        assert_eq!(store.forget_ended(later + Duration::minutes(1), 10).await.expect("asked"), 1);
        assert!(matches!(store.domain(record.id).await, Err(StoreError::Missing { .. })));

        let left = || async { store.events(&every_event(), 0, 100).await.expect("events").len() };
        let waited = nomenta_world::wait_for("one", SOON, || async { left().await == 1 }).await;
        waited.expect("the history of the other one stays");
    });
}

/// Every domain of the fleet.
fn every_domain() -> RosterFilter {
    RosterFilter { whose: Whose::Everybodys, ..RosterFilter::default() }
}

/// Every event.
fn every_event() -> EventFilter {
    EventFilter { whose: Whose::Everybodys, ..EventFilter::default() }
}

/// Every account or site.
fn every_name() -> NameFilter {
    NameFilter { whose: Whose::Everybodys, ..NameFilter::default() }
}

/// Every change of the log.
fn every_change() -> AuditFilter {
    AuditFilter { whose: Whose::Everybodys, ..AuditFilter::default() }
}
