//! Many domains at once, who may do what, and who did.

use std::sync::atomic::{AtomicUsize, Ordering};

use chrono::{Duration, Utc};
use futures::future::join_all;
use nomenta_api::audit::{AuditAct, AuditKind};
use nomenta_api::job::{Act, ItemResult, JobState, Selection};
use nomenta_api::role::Role;
use nomenta_core::intake::judge::{Judgement, RowResult};
use nomenta_core::intake::row::Columns;
use nomenta_core::intake::table::Table;
use nomenta_core::name::platform::Platform;
use nomenta_core::name::token::Token;
use nomenta_store::{
    AccountChange, Actor, Aged, AuditFilter, FreshToken, Intake, JobLease, Lane, NewJob, NewKey, NewSession,
    RosterFilter, Row, Store, StoreError, Whose,
};
use uuid::Uuid;

use super::{databases, enrol, every_change, every_domain, kinds, leased, run, site, store};

fn fresh() -> FreshToken {
    (
        Token::from_random(Uuid::new_v4().into_bytes().repeat(2)[..20].try_into().expect("20 octets")),
        Utc::now(),
    )
}

fn actor(call: &str) -> Actor {
    Actor {
        key_id: Uuid::nil(),
        who: "night shift".into(),
        role: Role::Operator,
        session_id: None,
        came_from: Some("127.0.0.1".into()),
        call: call.into(),
    }
}

async fn begin(store: &Store, act: &Act, filter: &RosterFilter) -> Uuid {
    let job = NewJob { act, asked: &Selection::default(), filter };
    store.begin_job(job).await.expect("begun")
}

/// Goes on with a job until it has ended, or somebody else has it.
async fn finish(store: &Store, lease: &JobLease) -> Result<(), StoreError> {
    while store.step_job(lease, &fresh).await? {}
    Ok(())
}

fn rows(table: &str) -> Vec<Row> {
    let platform = Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: None,
        acme_zone: None,
        dns_for_all: false,
        special_use: vec!["example".into()],
        reserved: Vec::new(),
    };
    let table = Table::read(table.as_bytes(), 100_000).expect("a table");
    let columns = Columns::of(&table).expect("columns");
    table.rows.iter().map(|row| (row.line, columns.read(row, &platform))).collect()
}

async fn take_in(store: &Store, rows: &[Row]) -> Vec<Judgement> {
    let intake = Intake {
        rows,
        whose: &Whose::Everybodys,
        token_expires_at: Utc::now() + Duration::days(1),
        token: &|| fresh().0,
        told: &|_, _| {},
    };
    store.take_in(&intake).await.expect("taken in")
}

fn count(judgements: &[Judgement], result: RowResult) -> usize {
    judgements.iter().filter(|one| one.result == result).count()
}

#[test]
fn a_table_is_taken_in_once_however_often_it_is_given() {
    run(async {
        let store = store("intake").await;
        let lines: String = (0..1200).map(|n| format!("w{n}.onswick.example,onswick,\n")).collect();
        let table =
            rows(&format!("host,site,pair\n{lines}tram.example,onswick,yes\nw1.onswick.example,onswick,\n"));

        let dry = store.judge_rows(&table, &Whose::Everybodys).await.expect("judged");
        assert_eq!((count(&dry, RowResult::New), count(&dry, RowResult::Repeated)), (1201, 1));
        assert_eq!(store.selected(&every_domain(), 5000).await.expect("counted").len(), 0, "nothing yet");

        let told = AtomicUsize::new(0);
        let intake = Intake {
            rows: &table,
            whose: &Whose::Everybodys,
            token_expires_at: Utc::now() + Duration::days(1),
            token: &|| fresh().0,
            told: &|done, total| {
                assert!(done <= total);
                told.fetch_add(1, Ordering::Relaxed);
            },
        };
        // Two at once: one of them finds all of it there.
        let both =
            [store.take_in(&intake).await, store.take_in(&intake).await].map(|one| one.expect("taken in"));
        let taken_in: Vec<_> = both.iter().map(|one| count(one, RowResult::TakenIn)).collect();
        assert_eq!(taken_in, [1201, 0]);
        assert_eq!(count(&both[1], RowResult::AlreadyThere), 1202);
        assert_eq!(told.into_inner(), 3, "it tells how far it has come");

        let counted = store.selected(&every_domain(), 5000).await.expect("counted");
        assert_eq!(counted.iter().map(|one| one.count).sum::<i64>(), 1202, "with both of the pair");
        assert_eq!(kinds(&store, "tram.example").await, ["domain.enrolled"]);
        let due = store.due_in_lanes(5000).await.expect("counted");
        assert_eq!(due, [(Lane::Bulk, 1202)], "nobody waits behind so many");
    });
}

#[test]
fn of_two_tables_at_once_none_takes_more_than_is_granted() {
    run(async {
        let store = store("granted").await;
        let granted = AccountChange { allowance: Some(Some(10)), ..AccountChange::default() };
        store.change_account("onswick", &granted, Default::default()).await.expect("granted");
        let tables: Vec<_> = ["a", "b", "c"]
            .iter()
            .map(|begin| {
                let lines: String = (0..8).map(|n| format!("{begin}{n}.onswick.example,onswick\n")).collect();
                rows(&format!("host,site\n{lines}"))
            })
            .collect();

        let judged = join_all(tables.iter().map(|table| take_in(&store, table))).await.concat();
        assert_eq!((count(&judged, RowResult::TakenIn), count(&judged, RowResult::OverAllowance)), (10, 14));
    });
}

#[test]
fn names_that_a_zone_proves_have_one_token() {
    run(async {
        let store = store("by-zone").await;
        let table = rows("host,site,by_zone\na.onswick.example,onswick,yes\nb.onswick.example,onswick,yes\n");
        take_in(&store, &table).await;
        take_in(&store, &rows("host,site,by_zone\nc.onswick.example,onswick,yes\n")).await;
        let mut tokens = Vec::new();
        for host in ["a", "b", "c"] {
            let host = format!("{host}.onswick.example");
            let record = store.domain_named(super::named(&host)).await.expect("found");
            tokens.push(record.domain.token.as_str().to_owned());
        }
        tokens.dedup();
        assert_eq!(tokens.len(), 1);
    });
}

#[test]
fn a_job_that_changes_hands_is_done_once_to_each() {
    run(async {
        let store = store("job").await;
        for n in 0..70 {
            enrol(&store, &format!("w{n}.onswick.example")).await;
        }
        let ended = enrol(&store, "gone.onswick.example").await;
        let filter = every_domain();
        let id = begin(&store.by(actor("POST /api/v1/jobs")), &Act::Rotate {}, &filter).await;

        let first = store.lease_job().await.expect("asked").expect("a job");
        assert!(store.lease_job().await.expect("asked").is_none(), "not two at once");
        assert!(store.step_job(&first, &fresh).await.expect("gathered"));
        store.release(ended.id, Default::default()).await.expect("released");
        assert!(store.step_job(&first, &fresh).await.expect("begun"));
        // Its process dies. Whoever has the job next goes on behind its last line.
        let dead = "UPDATE jobs SET leased_until = now() - interval '1 second'";
        databases().await.statement("job", dead).await.expect("its lease has run out");
        let second = store.lease_job().await.expect("asked").expect("the same job");
        assert_eq!(second.id, first.id);
        assert!(matches!(store.step_job(&first, &fresh).await, Err(StoreError::LeaseLost)));
        finish(&store, &second).await.expect("done");

        let job = store.job(&Whose::Everybodys, id).await.expect("found");
        assert_eq!((job.state, job.total, job.changed, job.refused), (JobState::Done, 71, 70, 1));
        assert_eq!(job.by.as_deref(), Some("night shift"));
        let refused = store.job_items(id, Some(ItemResult::Refused), None, 10).await.expect("lines");
        assert_eq!(refused.len(), 1);
        assert!(refused[0].because.as_deref().is_some_and(|because| because.contains("has left")));
        for n in 0..70 {
            let told = kinds(&store, &format!("w{n}.onswick.example")).await;
            assert_eq!(told, ["domain.enrolled", "token.rotated"], "once");
        }
        let told = store.audit(&AuditFilter { who: Some("night shift".into()), ..every_change() }, 500).await;
        let told = told.expect("recorded");
        let rotated = told.iter().filter(|row| row.kind == AuditKind::Domain).count();
        assert_eq!(rotated, 70, "each is recorded under whoever began the job");
    });
}

#[test]
fn a_job_goes_no_further_than_the_key_that_began_it() {
    run(async {
        let store = store("revoked").await;
        for n in 0..60 {
            enrol(&store, &format!("w{n}.onswick.example")).await;
        }
        let key = NewKey {
            name: "night shift",
            role: Role::Operator,
            accounts: &[],
            expires_at: None,
            hash: b"of a secret",
            hint: "cret",
        };
        let key_id = store.add_key(&key).await.expect("a key");
        let actor = Actor { key_id, ..actor("POST /api/v1/jobs") };
        let id = begin(&store.by(actor), &Act::Rotate {}, &every_domain()).await;
        let lease = store.lease_job().await.expect("asked").expect("a job");
        assert!(store.step_job(&lease, &fresh).await.expect("gathered"));
        assert!(store.step_job(&lease, &fresh).await.expect("begun"));

        store.revoke_key(key_id, Default::default()).await.expect("revoked");
        assert!(!store.step_job(&lease, &fresh).await.expect("stopped"));
        let job = store.job(&Whose::Everybodys, id).await.expect("found");
        assert_eq!((job.state, job.total, job.changed), (JobState::Stopped, 60, 25));
        assert!(store.lease_job().await.expect("asked").is_none(), "nobody goes on");
    });
}

#[test]
fn a_job_is_stopped_behind_what_it_has_done() {
    run(async {
        let store = store("stopped").await;
        for n in 0..60 {
            enrol(&store, &format!("w{n}.onswick.example")).await;
        }
        let id = begin(&store, &Act::Rotate {}, &every_domain()).await;
        let lease = store.lease_job().await.expect("asked").expect("a job");
        store.step_job(&lease, &fresh).await.expect("gathered");
        store.step_job(&lease, &fresh).await.expect("begun");
        assert!(store.stop_job(&Whose::Everybodys, id).await.expect("stopped"));
        assert!(!store.stop_job(&Whose::Everybodys, id).await.expect("asked"), "it had ended");
        assert!(matches!(finish(&store, &lease).await, Err(StoreError::LeaseLost)));
        assert!(store.lease_job().await.expect("asked").is_none());

        let job = store.job(&Whose::Everybodys, id).await.expect("found");
        assert_eq!((job.state, job.total, job.changed), (JobState::Stopped, 60, 25));
        let rotated = "SELECT count(*) FROM domains WHERE cardinality(superseded) > 0";
        assert_eq!(databases().await.statement("stopped", rotated).await.expect("counted").trim(), "25");
        let others = Whose::Of(vec![Uuid::nil()]);
        assert!(
            matches!(store.job(&others, id).await, Err(StoreError::Missing { .. })),
            "it is nobody else's"
        );
    });
}

#[test]
fn jobs_say_what_is_so_already_and_what_cannot_be() {
    run(async {
        let store = store("acts").await;
        store
            .add_site(&nomenta_store::NewSite {
                default_host: "night.quaymark.example",
                ..site("onswick", "night")
            })
            .await
            .expect("a site");
        let paused = enrol(&store, "a.onswick.example").await;
        enrol(&store, "b.onswick.example").await;
        store.pause(paused.id, Default::default()).await.expect("paused");

        let outcomes = async |act: Act| {
            let id = begin(&store, &act, &every_domain()).await;
            let lease = store.lease_job().await.expect("asked").expect("a job");
            finish(&store, &lease).await.expect("done");
            let items = store.job_items(id, None, None, 10).await.expect("lines");
            items.into_iter().map(|item| item.result.expect("done")).collect::<Vec<_>>()
        };
        use ItemResult::{Changed, Refused, Unchanged};
        let to = |site: &str| Act::Move { site: site.into() };
        assert_eq!(outcomes(Act::Look {}).await, [Refused, Changed], "a paused one is not looked at");
        assert_eq!(outcomes(Act::Pause {}).await, [Unchanged, Changed]);
        assert_eq!(outcomes(Act::Resume {}).await, [Changed, Changed]);
        assert_eq!(outcomes(to("night")).await, [Changed, Changed]);
        assert_eq!(outcomes(to("night")).await, [Unchanged, Unchanged]);
        assert_eq!(outcomes(to("nowhere")).await, [Refused, Refused]);
        assert_eq!(outcomes(Act::Release {}).await, [Changed, Changed]);
        assert_eq!(outcomes(Act::Release {}).await, []);
    });
}

#[test]
fn bulk_work_and_silent_zones_keep_nobody_waiting() {
    run(async {
        let store = store("lanes").await;
        let old = enrol(&store, "old.onswick.example").await;
        let leases = leased(&store, 10).await;
        assert_eq!(leases[0].lane, Lane::First, "new domains go first");
        // It did not answer in time, and is looked at again with all others.
        store.postpone(&leases[0], Utc::now() + Duration::hours(1), Lane::Silent).await.expect("given back");
        begin(&store, &Act::Look {}, &every_domain()).await;
        let lease = store.lease_job().await.expect("asked").expect("a job");
        finish(&store, &lease).await.expect("done");
        assert_eq!(
            store.due_in_lanes(10).await.expect("counted"),
            [(Lane::Silent, 1)],
            "it stays in its lane"
        );

        // Somebody looks at it: that goes first.
        store.look_now(old.id).await.expect("asked");
        assert_eq!(store.due_in_lanes(10).await.expect("counted"), [(Lane::First, 1)]);
        for lane in [Lane::Usual, Lane::Silent] {
            assert!(store.lease(lane, 5).await.expect("leases").is_empty());
        }
        assert_eq!(store.lease(Lane::First, 5).await.expect("leases").len(), 1);
    });
}

#[test]
fn a_key_or_session_that_has_ended_opens_nothing() {
    run(async {
        let store = store("doors").await;
        let key = |name, hash, expires_at| NewKey {
            name,
            role: Role::Viewer,
            accounts: &[],
            expires_at,
            hash,
            hint: "hint",
        };
        let soon = Utc::now() - Duration::seconds(1);
        store.add_key(&key("short", b"short", Some(soon))).await.expect("kept");
        assert!(store.key_by_hash(b"short").await.expect("asked").is_none(), "it has expired");
        let id = store.add_key(&key("long", b"long", None)).await.expect("kept");

        let session = |hash, until| NewSession {
            key_id: id,
            hash,
            came_from: Some("127.0.0.1"),
            expires_at: Utc::now() + until,
        };
        let first = store.begin_session(&session(b"one", Duration::hours(1))).await.expect("begun");
        let second = store.begin_session(&session(b"two", Duration::hours(1))).await.expect("begun");
        store.begin_session(&session(b"over", Duration::hours(-1))).await.expect("begun");
        assert_eq!(store.sessions(None, 10).await.expect("listed").len(), 2);
        store.end_session(first).await.expect("ended");
        assert!(matches!(store.end_session(first).await, Err(StoreError::Missing { .. })));
        assert!(store.session(b"one").await.expect("asked").is_none());
        assert!(store.session(b"over").await.expect("asked").is_none());
        assert!(store.is_open(id, Some(second)).await.expect("asked"));
        assert!(!store.is_open(id, Some(first)).await.expect("asked"));

        store.revoke_key(id, Default::default()).await.expect("revoked");
        assert!(store.session(b"two").await.expect("asked").is_none(), "with its key");
        assert!(!store.is_open(id, Some(second)).await.expect("asked"));
        assert!(store.sessions(None, 10).await.expect("listed").is_empty());
    });
}

#[test]
fn what_somebody_changes_is_recorded_and_what_comes_by_itself_is_not() {
    run(async {
        let store = store("audit").await;
        let record = enrol(&store, "www.onswick.example").await;
        let by = store.by(actor("PATCH /api/v1/accounts/onswick"));
        let title = AccountChange { title: Some("Onswick Boats"), ..AccountChange::default() };
        by.change_account("onswick", &title, Default::default()).await.expect("changed");
        by.rotate_token(record.id, &fresh().0, Utc::now(), Default::default()).await.expect("rotated");
        by.pause(record.id, Default::default()).await.expect("paused");
        store.resume(record.id, Default::default()).await.expect("resumed");

        let all = store.audit(&every_change(), 10).await.expect("recorded");
        let told: Vec<_> = all.iter().map(|row| (row.kind, row.act, row.name.as_deref())).collect();
        let domain = (AuditKind::Domain, AuditAct::Changed, Some("www.onswick.example"));
        assert_eq!(told, [domain, domain, (AuditKind::Account, AuditAct::Changed, Some("onswick"))]);
        let [paused, rotated, titled] = &all[..] else { panic!("{all:?}") };
        assert_eq!(paused.became.as_ref().expect("after")["stage"], "paused");
        assert_eq!(rotated.became.as_ref().expect("after")["token"], "(hidden)");
        let token = record.domain.token.as_str();
        assert!(!format!("{all:?}").contains(token), "no token is in it");
        assert_eq!(titled.was.as_ref().expect("before")["title"], "Onswick Ferries");
        assert_eq!(titled.became.as_ref().expect("after")["title"], "Onswick Boats");
        assert_eq!((titled.who.as_str(), titled.came_from.as_deref()), ("night shift", Some("127.0.0.1")));
        assert_eq!(titled.call, "PATCH /api/v1/accounts/onswick");

        let of = |whose| AuditFilter { whose, ..every_change() };
        let others = store.audit(&of(Whose::Of(vec![Uuid::nil()])), 10).await.expect("listed");
        assert!(others.is_empty(), "it is nobody else's");
        let own = store.part(&Whose::Everybodys, "onswick").await.expect("found");
        assert_eq!(store.audit(&of(own), 10).await.expect("listed").len(), 3);
        let page = AuditFilter { before: Some(rotated.seq), ..every_change() };
        assert_eq!(store.audit(&page, 10).await.expect("listed").len(), 1);
    });
}

#[test]
fn what_is_older_than_it_is_kept_is_forgotten() {
    run(async {
        let store = store("aged").await;
        let record = enrol(&store, "www.onswick.example").await;
        store.by(actor("x")).pause(record.id, Default::default()).await.expect("paused");
        assert_eq!(kinds(&store, "www.onswick.example").await.len(), 2);
        begin(&store, &Act::Look {}, &every_domain()).await;
        let lease = store.lease_job().await.expect("asked").expect("a job");
        finish(&store, &lease).await.expect("done");

        for kind in Aged::ALL {
            let yesterday = Utc::now() - Duration::days(1);
            assert_eq!(store.forget_aged(*kind, yesterday, 10).await.expect("done"), 0, "{kind}: it is kept");
        }
        let tomorrow = Utc::now() + Duration::days(1);
        for (kind, want) in [(Aged::Events, 2), (Aged::Audit, 1), (Aged::Jobs, 1), (Aged::Spreads, 0)] {
            assert_eq!(store.forget_aged(kind, tomorrow, 10).await.expect("done"), want, "{kind}");
        }
        assert!(store.jobs(&Whose::Everybodys, None, 10).await.expect("listed").is_empty());
    });
}
