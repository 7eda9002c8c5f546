//! Many domains at once, by the command line and the API: intake, jobs, and who did it.

use std::io::Write;
use std::process::Stdio;
use std::time::{Duration, Instant};

use futures::StreamExt;
use nomenta_world::{Daemon, wait_for};
use serde_json::{Value, json};
use tokio::process::Command;
use tokio::time::timeout;

use crate::own::{plain, start};
use crate::stage::{self, ADMIN, EDGE_KEY, PROGRAM, Service, TIME_LIMIT, fresh_zone, heavy, stage};
use crate::turns;

/// A file that is gone with the test.
fn table(name: &str, text: &[u8]) -> std::path::PathBuf {
    let path = stage().world.layout.state.join(name);
    std::fs::write(&path, text).expect("written");
    path
}

async fn rows(database: &str, sql: &str) -> String {
    stage().world.statement(database, sql).await.expect("rows").trim().to_owned()
}

/// How many rows came to a result.
fn count(intake: &Value, result: &str) -> u64 {
    let results = intake["results"].as_array().expect("results");
    results
        .iter()
        .find(|one| one["result"] == result)
        .map_or(0, |one| one["count"].as_u64().expect("a number"))
}

#[test]
fn a_table_is_taken_in_at_one_call_and_a_job_over_it_outlives_its_process() {
    let _turn = turns::to_fill_the_machine();
    stage();
    stage::run(async {
        let domains = heavy(50_000, 3_000);
        let (service, daemon) = plain(44, "intake").await;
        let zone = fresh_zone("intake");
        // Some of them are what the job is about.
        let some = heavy(20_000, 2_000);
        let name = |n| if n < some { format!("j{n}") } else { format!("w{n}") };
        let lines: String = (0..domains).map(|n| format!("{}.{zone},onswick\r\n", name(n))).collect();
        let text = format!("\u{feff}host,site\r\n{lines}");

        let send = async |accept: &str, query: &str| {
            let request = service.request("POST", &format!("intake{query}"), ADMIN).header("accept", accept);
            let request = request.header("content-type", "text/csv").body(text.clone());
            request.send().await.expect("an answer")
        };
        let dry: Value = send("application/json", "?dry_run=true").await.json().await.expect("JSON");
        assert_eq!((count(&dry, "new"), &dry["dry_run"]), (domains as u64, &json!(true)));
        assert_eq!(service.get("domains?limit=1").await.1, json!([]), "nothing was taken in");

        let began = Instant::now();
        let told = send("text/event-stream", "").await.text().await.expect("events");
        println!("{domains} rows taken in within {:?}", began.elapsed());
        assert!(told.matches("event: progress").count() > 2, "it tells how far it has come");
        let done = told.lines().rev().find_map(|line| line.strip_prefix("data: ")).expect("an answer");
        let done: Value = serde_json::from_str(done).expect("JSON");
        assert_eq!(
            (count(&done, "taken-in"), done["rows"].as_array().map(Vec::len)),
            (domains as u64, Some(domains))
        );

        let again = send("text/csv", "").await.text().await.expect("a table");
        assert_eq!(again.lines().count(), domains + 1);
        assert!(again.lines().skip(1).all(|line| line.contains(",already-there,")), "the same table again");
        let written =
            "SELECT count(*) FROM domains UNION ALL SELECT count(*) FROM audit WHERE kind = 'domain'";
        assert_eq!(rows("intake", written).await, format!("{domains}\n{domains}"), "each once, and recorded");

        killed_half_way(&service, daemon, some).await;
    });
}

/// Pauses some domains by a job whose process dies on the way.
async fn killed_half_way(service: &Service, daemon: Daemon, domains: usize) {
    let job = json!({ "act": { "do": "pause" }, "domains": { "text": "j" } });
    let (status, preview) = service.post("jobs/preview", &job).await;
    assert_eq!(status, 200, "{preview}");
    let (status, begun) = service.post("jobs", &job).await;
    assert_eq!(status, 202, "{begun}");
    let id = begun["id"].as_str().expect("an id").to_owned();

    let path = format!("jobs/{id}");
    let done = async || {
        let job = service.get(&path).await.1;
        let number = |field: &str| job[field].as_u64().unwrap_or(0);
        (number("changed") + number("unchanged") + number("refused"), job)
    };
    let half = domains as u64 / 2;
    wait_for("half of the job being done", Duration::from_secs(600), || async { done().await.0 >= half })
        .await
        .expect("half");
    daemon.kill().await;
    let daemon = start(service, "intake").await;
    let began = Instant::now();
    wait_for("the job being done", Duration::from_secs(900), || async {
        !done().await.1["ended_at"].is_null()
    })
    .await
    .expect("done");

    let (all, job) = done().await;
    println!("the rest of {domains} done within {:?} of the next start", began.elapsed());
    assert_eq!((&job["state"], Some(all)), (&json!("done"), job["total"].as_u64()), "{job}");
    assert_eq!(all, domains as u64, "{job}");
    let once = "SELECT count(*), count(DISTINCT host) FROM events WHERE kind = 'domain.paused'";
    assert_eq!(rows("intake", once).await, format!("{domains}|{domains}"), "once to each");
    let recorded = "SELECT count(*) FROM audit WHERE kind = 'domain' AND call LIKE 'job %'";
    assert_eq!(rows("intake", recorded).await, domains.to_string());
    daemon.stop().await;
}

#[test]
fn a_file_with_every_kind_of_bad_row_gives_every_message() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(45, "badrows").await;
        for (name, body) in [
            ("accounts", json!({ "name": "small", "allowance": { "domains": 1 } })),
            ("accounts", json!({ "name": "still" })),
            ("sites", json!({ "name": "small", "account": "small", "ingress": "harbour" })),
            ("sites", json!({ "name": "still", "account": "still", "ingress": "harbour" })),
            ("accounts/still/suspension", json!({})),
        ] {
            let (status, answer) = service.post(name, &body).await;
            assert!((200..300).contains(&status), "{name}: {answer}");
        }
        let zone = fresh_zone("rows");
        let text = format!(
            "host,site,account,pair,note\n\
             a.{zone},onswick,onswick,,first\n\
             A.{zone}.,onswick,,,again\n\
             192.0.2.7,onswick,,,\n\
             office@{zone},onswick,,,\n\
             com,onswick,,,\n\
             under_score.{zone},onswick,,,\n\
             x.quaymark.example,onswick,,,\n\
             b.{zone},nowhere,,,\n\
             c.{zone},onswick,small,,\n\
             d.{zone},small,,,\n\
             e.{zone},small,,,\n\
             f.{zone},still,,,\n\
             g.{zone},onswick,,perhaps,\n\
             *.{zone},onswick,,yes,\n\
             h.{zone},,,,\n\
             i.{zone},onswick\n\
             j.{zone},onswick,,, =cmd()\n"
        );
        let file = table("bad-rows.csv", text.as_bytes());
        let file = file.to_str().expect("a path");

        for options in [&["--dry-run"][..], &[]] {
            let taken_in = if options.is_empty() { "taken in" } else { "would be taken in" };
            let printed = service.cli(&[&["intake", file], options].concat()).await;
            assert_eq!(printed.status.code(), Some(1), "some rows need a correction");
            let text = String::from_utf8_lossy(&printed.stdout);
            for part in [
                &format!("17 rows: 3 {taken_in}, 1 asked for twice, 13 to be corrected."),
                "192.0.2.7",
                "is an IP address",
                "mail address",
                "bad-name",
                "reserved",
                "There is no site nowhere",
                "is no site of small",
                "grants 1 domains",
                "The account still is suspended",
                "neither yes nor no",
                "A wildcard has no pair",
                "The field site is empty",
                "2 fields, and the first line names 5 columns",
            ] {
                assert!(text.contains(part), "{part} is missing in:\n{text}");
            }
        }
        let csv = service.cli(&["intake", file, "--as", "csv"]).await;
        let csv = String::from_utf8_lossy(&csv.stdout).into_owned();
        assert!(csv.starts_with("host,site,account,pair,note,result,because\r\n"), "{csv}");
        assert!(csv.contains(&format!("a.{zone},onswick,onswick,,first,already-there,")), "{csv}");
        assert!(csv.contains("'=cmd(),already-there"), "no spreadsheet runs it: {csv}");

        for (name, octets, says) in [
            ("no-header.csv", b"www.onswick.example,onswick\n".as_slice(), "names no column host"),
            ("latin.csv", b"host,site\nf\xe4hre.example,onswick\n", "Line 2 is no UTF-8 text"),
            ("empty.csv", b"\n\n", "The table is empty"),
            ("twice.csv", b"host,site,Host\na,b,c\n", "names the column Host twice"),
        ] {
            let file = table(name, octets);
            let refused = service.cli(&["intake", file.to_str().expect("a path")]).await;
            let said = String::from_utf8_lossy(&refused.stderr).into_owned();
            assert!(!refused.status.success() && said.contains(says), "{name}: {said}");
        }

        // From a pipe, too.
        let mut command = std::process::Command::new(PROGRAM);
        command.args(["intake", "-", "--as", "json"]).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child =
            command.env("NOMENTA_URL", service.setup.url()).env("NOMENTA_KEY", ADMIN).spawn().expect("runs");
        let line = format!("host;site\nk.{zone};onswick\n");
        child.stdin.take().expect("a pipe").write_all(line.as_bytes()).expect("written");
        let output = child.wait_with_output().expect("it ends");
        let intake: Value = serde_json::from_slice(&output.stdout).expect("JSON");
        assert_eq!(count(&intake, "taken-in"), 1);
        daemon.stop().await;
    });
}

#[test]
fn bulk_work_says_first_what_it_would_do_and_then_what_it_did() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(46, "bulk").await;
        let zone = fresh_zone("bulk");
        let lines: String = (0..40).map(|n| format!("w{n}.{zone},onswick\n")).collect();
        let file = table("bulk.csv", format!("host,site\n{lines}").as_bytes());
        assert!(service.cli(&["intake", file.to_str().expect("a path")]).await.status.success());
        assert!(service.cli(&["pause", &format!("w7.{zone}")]).await.status.success());

        let asked = service.cli(&["bulk", "pause", "--text", &zone]).await;
        let said = String::from_utf8_lossy(&asked.stdout).into_owned();
        for part in
            [&format!("To pause: 40 domains (text {zone})"), "39 would be changed", "1 are so already"]
        {
            assert!(said.contains(part), "{part} is missing in {said}");
        }
        assert!(String::from_utf8_lossy(&asked.stderr).contains("Nothing was done"));
        assert_eq!(service.get("domains?stage=paused").await.1.as_array().map(Vec::len), Some(1));

        let done = service.cli_json(&["bulk", "pause", "--text", &zone, "--yes"]).await;
        assert_eq!(
            (&done["state"], &done["changed"], &done["unchanged"]),
            (&json!("done"), &json!(39), &json!(1))
        );
        let id = done["id"].as_str().expect("an id");
        let lines = service.cli_json(&["job", "show", id, "--result", "unchanged"]).await;
        assert_eq!(lines["domains"][0]["host"], format!("w7.{zone}"));
        let listed = service.cli_json(&["job", "list"]).await;
        assert_eq!((&listed[0]["id"], &listed[0]["act"]["do"]), (&json!(id), &json!("pause")));

        let refused = service.cli(&["bulk", "look", "--text", &zone, "--yes"]).await;
        assert_eq!(refused.status.code(), Some(1), "paused domains are not looked at");
        assert!(
            String::from_utf8_lossy(&refused.stderr).contains("For 40 of 40 domains it could not be done.")
        );
        let unknown = service.cli(&["bulk", "move", "--to", "nowhere", "--yes"]).await;
        assert!(String::from_utf8_lossy(&unknown.stderr).contains("There is no site named nowhere"));

        // Another ingress for all: each is looked at again, by a job.
        service.cli_json(&["bulk", "resume", "--text", &zone, "--yes"]).await;
        let revised = service.request("PUT", "ingresses/harbour", ADMIN).json(&json!({
            "ipv4": ["127.77.0.10"], "canonical": "{site}.edge.quaymark.example",
        }));
        let revised = revised.send().await.expect("an answer");
        let link = revised.headers()["link"].to_str().expect("text").to_owned();
        assert!(link.ends_with("; rel=\"monitor\""), "{link}");
        let path = link.trim_start_matches("</api/v1/").split('>').next().expect("a path").to_owned();
        let done = || async { service.get(&path).await.1["state"] == "done" };
        wait_for("all being due for a look", TIME_LIMIT, done).await.expect("done");
        assert_eq!(service.get(&path).await.1["changed"], 40);
        let since = chrono::Utc::now() - chrono::Duration::seconds(1);
        let again = || async {
            let last = service.get(&format!("domains/w39.{zone}")).await.1["looked_at"].clone();
            let last = last.as_str().and_then(|at| at.parse::<chrono::DateTime<chrono::Utc>>().ok());
            last.is_some_and(|at| at > since)
        };
        wait_for("the last of them being looked at again", TIME_LIMIT, again).await.expect("looked at");

        // Who did it, a line for each.
        let told = service.cli(&["audit", "--name", &format!("w1.{zone}"), "--as", "lines"]).await;
        let told = String::from_utf8_lossy(&told.stdout).into_owned();
        let told: Vec<Value> = told.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
        let acts: Vec<_> = told.iter().map(|line| line["call"].as_str().expect("a call")).collect();
        assert!(acts[0].starts_with("job ") && acts[1].starts_with("job "), "{acts:?}");
        assert_eq!(*acts.last().expect("the first"), "POST /api/v1/intake");
        assert_eq!((&told[1]["after"]["stage"], &told[1]["from"]), (&json!("paused"), &json!("127.0.0.1")));
        daemon.stop().await;
    });
}

/// Follows a stream until it ends; how long that took since `ended` was done.
async fn closes(request: reqwest::RequestBuilder, end: impl AsyncFnOnce()) -> Duration {
    let response = request.send().await.expect("an answer");
    assert_eq!(response.status(), 200);
    let mut stream = response.bytes_stream();
    stream.next().await.expect("it is open").expect("octets");
    end().await;

    let since = Instant::now();
    let rest = async { while let Some(Ok(_)) = stream.next().await {} };
    timeout(Duration::from_secs(10), rest).await.expect("the stream ends");
    since.elapsed()
}

#[test]
fn what_a_key_or_session_has_opened_ends_with_it() {
    stage();
    stage::run(async {
        let service = &stage().service;
        let key = async |role: &str, expires: Option<chrono::DateTime<chrono::Utc>>| {
            let (status, key) =
                service.post("keys", &json!({ "name": "stream", "role": role, "expires_at": expires })).await;
            assert_eq!(status, 201, "{key}");
            (
                key["id"].as_str().expect("an id").to_owned(),
                key["secret"].as_str().expect("a secret").to_owned(),
            )
        };
        let second = Duration::from_secs(1);

        for (role, path) in [("viewer", "events"), ("edge", "edge/changes")] {
            let (id, secret) = key(role, None).await;
            let took = closes(service.request("GET", path, &secret), async || {
                let gone = service.request("DELETE", &format!("keys/{id}"), ADMIN).send().await;
                assert_eq!(gone.expect("an answer").status(), 204);
            });
            assert!(took.await < second, "{path} with a key that is revoked");

            let soon = chrono::Utc::now() + chrono::Duration::milliseconds(1500);
            let (_, secret) = key(role, Some(soon)).await;
            let took = closes(service.request("GET", path, &secret), async || {
                let left = (soon - chrono::Utc::now()).to_std().unwrap_or_default();
                tokio::time::sleep(left).await;
            });
            assert!(took.await < second, "{path} with a key that expires");
        }

        // A feed that waits for news ends too, and brings none.
        let (id, secret) = key("edge", None).await;
        let feed = service.request("GET", "edge/feed", &secret).send().await.expect("an answer");
        let tag = feed.headers()["etag"].clone();
        let waiting = service.request("GET", "edge/feed?wait=50", &secret).header("if-none-match", tag);
        let revoke = service.request("DELETE", &format!("keys/{id}"), ADMIN);
        let (feed, _) = tokio::join!(waiting.send(), async {
            tokio::time::sleep(Duration::from_millis(300)).await;
            revoke.send().await
        });
        assert!([200, 401].contains(&feed.expect("an answer").status().as_u16()));
        assert_eq!(
            service.request("GET", "edge/feed", &secret).send().await.expect("an answer").status(),
            401
        );

        // Signing out ends the session on the service, with what it has opened.
        let (_, secret) = key("viewer", None).await;
        let url = |path: &str| format!("{}/api/v1/{path}", service.setup.url());
        let client = reqwest::Client::new();
        for is_own in [true, false] {
            let signed =
                client.post(url("session")).json(&json!({ "key": secret })).send().await.expect("an answer");
            let cookie = signed.headers()["set-cookie"].to_str().expect("text");
            let cookie = cookie.split(';').next().expect("a pair").to_owned();
            let listed = service.get("sessions").await.1;
            let session = listed[0]["id"].as_str().expect("an id").to_owned();
            assert_eq!(listed[0]["from"], "127.0.0.1");

            let stream = client.get(url("events")).header("cookie", &cookie);
            let took = closes(stream, async || {
                let request = match is_own {
                    true => client.delete(url("session")).header("cookie", &cookie),
                    false => service.request("DELETE", &format!("sessions/{session}"), ADMIN),
                };
                assert_eq!(request.send().await.expect("an answer").status(), 204);
            });
            assert!(took.await < second, "a session that is ended");
            let again = client.get(url("session")).header("cookie", &cookie).send().await.expect("an answer");
            assert_eq!(again.status(), 401, "the cookie opens nothing any more");
        }
        let edge = service.request("GET", "edge/feed", EDGE_KEY).send().await.expect("an answer");
        assert_eq!(edge.status(), 200, "nobody else is shut out");
    });
}

#[test]
fn a_key_of_some_accounts_sees_and_changes_nothing_else() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(47, "narrow").await;
        let zone = fresh_zone("narrow");
        for name in ["tram", "ferry", "bus"] {
            service.post("accounts", &json!({ "name": name })).await;
            service.post("sites", &json!({ "name": name, "account": name, "ingress": "harbour" })).await;
            let (status, answer) =
                service.post("domains", &json!({ "host": format!("{name}.{zone}"), "site": name })).await;
            assert_eq!(status, 201, "{answer}");
            service.post("domains", &json!({ "host": format!("all.{zone}"), "site": name })).await;
        }
        let made = service.cli_json(&[
            "--account",
            "tram",
            "key",
            "add",
            "two",
            "--role",
            "operator",
            "--also",
            "ferry",
        ]);
        let made = made.await;
        let secret = made["secret"].as_str().expect("a secret").to_owned();
        let run = async |words: &[&str]| {
            let mut command = Command::new(PROGRAM);
            command.args(words).env("NOMENTA_URL", service.setup.url()).env("NOMENTA_KEY", &secret);
            command.output().await.expect("the command runs")
        };
        let json = async |words: &[&str]| {
            let output = run(&[words, &["--as", "json"]].concat()).await;
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            serde_json::from_slice::<Value>(&output.stdout).unwrap_or_else(|_| panic!("{words:?}: {said}"))
        };

        let roster = json(&["roster"]).await;
        let seen: Vec<_> =
            roster.as_array().expect("lines").iter().map(|line| line["account"].as_str()).collect();
        assert_eq!(seen.len(), 4);
        assert!(!seen.contains(&Some("bus")), "{seen:?}");
        assert_eq!(json(&["account", "list"]).await.as_array().map(Vec::len), Some(2));
        assert!(!run(&["explain", &format!("bus.{zone}")]).await.status.success());
        let several = run(&["explain", &format!("all.{zone}")]).await;
        assert!(String::from_utf8_lossy(&several.stderr).contains("ferry and tram claim"), "of its own");
        assert!(!run(&["key", "list"]).await.status.success(), "that is about all accounts");

        // A table and a job reach as far as the key.
        let lines = format!("host,site\nx.{zone},tram\ny.{zone},bus\n");
        let file = table("narrow.csv", lines.as_bytes());
        let taken = run(&["intake", file.to_str().expect("a path"), "--as", "json"]).await;
        let taken: Value = serde_json::from_slice(&taken.stdout).expect("JSON");
        assert_eq!((count(&taken, "taken-in"), count(&taken, "unknown-site")), (1, 1));
        let paused = json(&["bulk", "pause", "--yes"]).await;
        assert_eq!(paused["changed"], 5);
        let (_, bus) = service.get(&format!("domains/bus.{zone}")).await;
        assert!(bus["paused_at"].is_null(), "{bus}");
        let begun = service.post("jobs", &json!({ "act": { "do": "look" }, "domains": {} })).await.1;
        assert_eq!(json(&["job", "list"]).await.as_array().map(Vec::len), Some(1), "only its own");
        let of_all = format!("jobs/{}", begun["id"].as_str().expect("an id"));
        assert_eq!(service.request("GET", &of_all, &secret).send().await.expect("an answer").status(), 404);
        daemon.stop().await;
    });
}
