//! What a key sees and does that opens one account alone: for every operation of the document, what
//! another account has is answered for as what there is not.

use futures::StreamExt as _;
use nomenta_world::{customer, wait_for};
use reqwest::header::CONTENT_TYPE;
use serde_json::{Value, json};

use crate::own::plain;
use crate::stage::{self, EDGE_KEY, Service, TIME_LIMIT, fresh_zone, stage};

/// Names and ids that an operation is asked about: what another account has, or what there is not.
struct Subjects {
    account: String,
    site: String,
    host: String,
    hook: String,
    job: String,
    link: String,
    /// An id of everything else.
    id: String,
}

impl Subjects {
    fn absent() -> Self {
        let id = uuid::Uuid::nil().to_string();
        Self {
            account: "no-such-account".into(),
            site: "no-such-site".into(),
            host: "rides.nothing.example".into(),
            hook: id.clone(),
            job: id.clone(),
            link: id.clone(),
            id,
        }
    }

    /// An answer with every one of them made alike.
    fn blanked(&self, answer: &str) -> String {
        let all = [&self.host, &self.account, &self.site, &self.hook, &self.job, &self.link, &self.id];
        all.into_iter().fold(answer.to_owned(), |text, one| text.replace(one.as_str(), "_"))
    }
}

/// How far an operation reaches.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Reach {
    /// What an account has: that of others is not there.
    Account,
    /// What belongs to no account, for any key.
    Shared,
    /// What is of all accounts: for keys that open every one.
    Whole,
    /// Who calls, for any key.
    Own,
    /// Whoever calls, without a key.
    Open,
    /// Links that are given to customers.
    Link,
    /// The platform's edge.
    Edge,
}

/// A call of an operation: its path, and what it is given.
struct Call {
    path: String,
    body: Option<Value>,
}

/// Every operation with its reach, and how it is called about some subjects. One that is not here
/// fails the test: whoever adds it says how far it reaches.
fn called(operation: &str, about: &Subjects) -> Option<(Reach, Call)> {
    let Subjects { account, site, host, hook, job, link, id } = about;
    let (method, path) = operation.split_once(' ')?;
    let of_account = format!("?account={account}");
    let domain = |rest: &str| format!("domains/{host}{rest}");

    let (reach, path, body) = match (method, path.strip_prefix("/api/v1/")?) {
        (
            "GET",
            "accounts" | "audit" | "certificates" | "counts" | "domains" | "handoffs" | "hooks" | "notices"
            | "recipients" | "sites",
        ) => (Reach::Account, format!("{}{of_account}", &path[8..]), None),
        ("GET", "accounts/{name}") => (Reach::Account, format!("accounts/{account}"), None),
        ("GET", "sites/{name}") => (Reach::Account, format!("sites/{site}"), None),
        ("GET", "certificates/days" | "events" | "jobs") => (Reach::Account, path[8..].into(), None),
        ("GET", "jobs/{id}") | ("DELETE", "jobs/{id}") => (Reach::Account, format!("jobs/{job}"), None),
        ("GET", "jobs/{id}/domains") => (Reach::Account, format!("jobs/{job}/domains"), None),
        ("DELETE", "handoffs/{id}") => (Reach::Account, format!("handoffs/{link}"), None),
        ("DELETE", "hooks/{id}") => (Reach::Account, format!("hooks/{hook}"), None),
        ("POST", "hooks/{id}/rotation") => (Reach::Account, format!("hooks/{hook}/rotation"), None),
        ("DELETE", "recipients/{id}") => (Reach::Account, format!("recipients/{hook}"), None),
        ("POST", "notices/{id}/redelivery") => (Reach::Account, format!("notices/{id}/redelivery"), None),
        ("POST", "publications/{id}/undo") => (Reach::Account, format!("publications/{id}/undo"), None),

        ("GET" | "DELETE", "domains/{host}") => (Reach::Account, domain(""), None),
        ("PATCH", "domains/{host}") => (Reach::Account, domain(""), Some(json!({ "entry_path": "/" }))),
        ("PUT", "domains/{host}/certificate") => {
            (Reach::Account, domain("/certificate"), Some(json!({ "chain_pem": "x", "key_pem": "x" })))
        }
        ("POST", "domains/{host}/certificate/revocation") => {
            (Reach::Account, domain("/certificate/revocation"), Some(json!({ "reason": "superseded" })))
        }
        ("PUT", "domains/{host}/zone-key") => (
            Reach::Account,
            domain("/zone-key"),
            Some(json!({ "key": "hmac-sha256:a:bWFkZS11cC1zZWNyZXQ=" })),
        ),
        ("POST", "domains/{host}/handoffs") => (Reach::Account, domain("/handoffs"), Some(json!({}))),
        ("POST", "domains/{host}/publications") => (Reach::Account, domain("/publications"), Some(json!({}))),
        ("POST", "domains/{host}/rehearsal") => {
            (Reach::Account, domain("/rehearsal"), Some(json!("$ORIGIN x.example.")))
        }
        (_, rest) if rest.starts_with("domains/{host}/") => {
            (Reach::Account, domain(rest.trim_start_matches("domains/{host}")), None)
        }
        ("POST", "domains") => {
            (Reach::Account, "domains".into(), Some(json!({ "host": "new.scope.example", "site": site })))
        }
        ("POST", "hooks") => {
            let new = json!({ "url": "https://127.0.0.1:9/told", "account": account });
            (Reach::Account, "hooks".into(), Some(new))
        }
        ("POST", "recipients") => {
            let new = json!({ "address": "someone@quaymark.example", "account": account });
            (Reach::Account, "recipients".into(), Some(new))
        }
        ("POST", "notices/redelivery") => {
            (Reach::Account, "notices/redelivery".into(), Some(json!({ "receiver": hook })))
        }
        ("POST", "jobs" | "jobs/preview") => {
            let new = json!({ "act": { "do": "look" }, "domains": { "account": account } });
            (Reach::Account, path[8..].into(), Some(new))
        }
        ("POST", "intake") => {
            (Reach::Account, "intake".into(), Some(json!(format!("host,site\nx.scope.example,{site}\n"))))
        }

        ("GET", "findings" | "operators" | "ingresses") => (Reach::Shared, path[8..].into(), None),
        ("GET", "notices/preview") => (Reach::Shared, "notices/preview?kind=live".into(), None),
        ("GET", "operators/{name}") => (Reach::Shared, "operators/none.example".into(), None),
        ("GET", "ingresses/{name}" | "ingresses/{name}/one-click") => {
            (Reach::Shared, path[8..].replace("{name}", "none"), None)
        }

        ("GET", "certificates/account" | "certificates/issuers" | "contests" | "keys" | "sessions") => {
            (Reach::Whole, path[8..].into(), None)
        }
        ("POST", "certificates/account/key") => (Reach::Whole, path[8..].into(), None),
        ("POST", "accounts") => (Reach::Whole, "accounts".into(), Some(json!({ "name": "another" }))),
        ("PATCH", "accounts/{name}") => {
            (Reach::Whole, format!("accounts/{account}"), Some(json!({ "title": "x" })))
        }
        (_, "accounts/{name}/suspension") => (Reach::Whole, format!("accounts/{account}/suspension"), None),
        ("POST", "sites") => (
            Reach::Whole,
            "sites".into(),
            Some(json!({ "name": "x", "account": account, "ingress": "harbour" })),
        ),
        ("PATCH", "sites/{name}") => {
            (Reach::Whole, format!("sites/{site}"), Some(json!({ "entry_path": "/" })))
        }
        ("POST", "ingresses") => (
            Reach::Whole,
            "ingresses".into(),
            Some(json!({ "name": "x", "ipv4": ["192.0.2.1"], "canonical": "x.example" })),
        ),
        ("PUT", "ingresses/{name}") => (
            Reach::Whole,
            "ingresses/none".into(),
            Some(json!({ "ipv4": ["192.0.2.1"], "canonical": "x.example" })),
        ),
        ("POST", "keys") => (Reach::Whole, "keys".into(), Some(json!({ "name": "x", "role": "viewer" }))),
        (_, "keys/{id}" | "sessions/{id}" | "contests/{id}") => {
            (Reach::Whole, path[8..].replace("{id}", id), None)
        }
        ("POST", "contests/{id}/ruling") => {
            (Reach::Whole, format!("contests/{id}/ruling"), Some(json!({ "side": "holder", "because": "x" })))
        }

        ("GET", "session") => (Reach::Own, "session".into(), None),
        ("POST", "session") => (Reach::Open, "session".into(), Some(json!({ "key": "nmt_nothing" }))),
        ("DELETE", "session") => (Reach::Open, "session".into(), None),
        (_, "handoff" | "handoff/look" | "handoff/one-click") => (Reach::Link, path[8..].into(), None),
        ("GET", "edge/feed" | "edge/changes") => (Reach::Edge, path[8..].into(), None),
        ("GET", "edge/challenges/{token}") => (Reach::Edge, "edge/challenges/none".into(), None),
        _ => return None,
    };
    Some((reach, Call { path, body }))
}

/// Operations whose answer has no end.
const ENDLESS: [&str; 2] = ["GET /api/v1/events", "GET /api/v1/edge/changes"];
const MINE: &str = "saltmarsh";

/// Operations of the document, each with the form of what it is given.
fn operations(document: &Value) -> Vec<(String, Option<String>)> {
    let mut all = Vec::new();
    for (path, item) in document["paths"].as_object().expect("paths") {
        for method in ["get", "put", "post", "patch", "delete"] {
            let Some(operation) = item.get(method) else { continue };
            let forms = operation.pointer("/requestBody/content").and_then(Value::as_object);
            let form = forms.and_then(|forms| forms.keys().next().cloned());
            all.push((format!("{} {path}", method.to_uppercase()), form));
        }
    }
    all
}

/// What a call comes to: its status and its answer.
async fn made(
    service: &Service,
    operation: &str,
    form: Option<&str>,
    call: &Call,
    key: Option<&str>,
) -> (u16, String) {
    let method = operation.split(' ').next().expect("a method");
    let mut request = service.request(method, &call.path, key.unwrap_or_default());
    match (&call.body, form) {
        (Some(Value::String(text)), Some(form)) => {
            request = request.header(CONTENT_TYPE, form).body(text.clone());
        }
        (Some(body), _) => request = request.json(body),
        (None, _) => {}
    }
    let answer = request.send().await.expect("an answer");
    let status = answer.status().as_u16();
    // What has begun to flow is not waited for.
    let text =
        if ENDLESS.contains(&operation) && status == 200 { Ok(String::new()) } else { answer.text().await };
    (status, text.expect("a body"))
}

/// A key, of some accounts or of all.
async fn key(service: &Service, role: &str, accounts: &[&str]) -> Value {
    let (status, key) = service
        .post(
            "keys",
            &json!({ "name": format!("{role} of {accounts:?}"), "role": role, "accounts": accounts }),
        )
        .await;
    assert_eq!(status, 201, "{key}");
    key
}

fn secret(key: &Value) -> String {
    key["secret"].as_str().expect("a secret").to_owned()
}

/// Two accounts: one that has something of everything, and one of whoever calls.
async fn theirs(service: &Service) -> Subjects {
    let zone = fresh_zone("scope");
    service.post("accounts", &json!({ "name": MINE, "title": "Saltmarsh Buses" })).await;
    service.post("sites", &json!({ "name": MINE, "account": MINE, "ingress": "harbour" })).await;

    let host = format!("rides.{zone}");
    let id =
        |answer: &(u16, Value)| answer.1["id"].as_str().unwrap_or_else(|| panic!("{answer:?}")).to_owned();
    service.post("domains", &json!({ "host": host, "site": "onswick" })).await;
    let hook =
        service.post("hooks", &json!({ "url": "https://127.0.0.1:9/told", "account": "onswick" })).await;
    let job = json!({ "act": { "do": "look" }, "domains": { "account": "onswick" } });
    let job = service.post("jobs", &job).await;
    let link = service.post(&format!("domains/{host}/handoffs"), &json!({})).await;
    Subjects {
        account: "onswick".into(),
        site: "onswick".into(),
        host,
        hook: id(&hook),
        job: id(&job),
        link: id(&link),
        id: uuid::Uuid::max().to_string(),
    }
}

#[test]
fn what_another_account_has_is_answered_for_as_what_there_is_not() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(126, "scope").await;
        let (theirs, absent) = (theirs(&service).await, Subjects::absent());
        let mut narrow = Vec::new();
        for role in ["viewer", "operator", "admin", "edge"] {
            narrow.push((role, secret(&key(&service, role, &[MINE]).await)));
        }
        let revoked = key(&service, "admin", &[]).await;
        let (status, _) =
            made_by_admin(&service, "DELETE", &format!("keys/{}", revoked["id"].as_str().expect("an id")))
                .await;
        assert_eq!(status, 204);
        let closed = [None, Some(secret(&revoked)), Some("nmt_nothing".to_owned())];

        let document = service.get("openapi.json").await.1;
        for (operation, form) in operations(&document) {
            let about = |subjects: &Subjects| {
                called(&operation, subjects).unwrap_or_else(|| {
                    panic!("{operation} is not in the table: say there how far it reaches")
                })
            };
            let ((reach, of_theirs), (_, of_none)) = (about(&theirs), about(&absent));
            let ask = |call: Call, key: Option<String>| {
                let (service, operation, form) = (&service, &operation, form.as_deref());
                async move { made(service, operation, form, &call, key.as_deref()).await }
            };

            for key in &closed {
                let (status, answer) = ask(about(&theirs).1, key.clone()).await;
                assert_eq!(status == 401, reach != Reach::Open, "{operation}: {status} {answer}");
            }
            for (role, key) in &narrow {
                let (status, answer) = ask(about(&theirs).1, Some(key.clone())).await;
                let (status_of_none, answer_of_none) = ask(about(&absent).1, Some(key.clone())).await;
                let what = format!("{operation} by {role}");
                assert_eq!(status, status_of_none, "{what}: {answer}\n{answer_of_none}");
                // What belongs to no account has examples in it that look like theirs.
                let is_shared = reach == Reach::Shared;
                let is_alike = theirs.blanked(&answer) == absent.blanked(&answer_of_none);
                assert!(
                    is_alike || is_shared && answer == answer_of_none,
                    "{what}: {answer}\n{answer_of_none}"
                );
                for canary in [&theirs.host, &theirs.hook, &theirs.job, &theirs.link] {
                    assert!(!answer_of_none.contains(canary.as_str()), "{what}: {answer_of_none}");
                }
                let is_edge = *role == "edge";
                match reach {
                    Reach::Whole => assert_eq!(status, 403, "{what}: {answer}"),
                    Reach::Link => assert_eq!(status, 401, "{what}: {answer}"),
                    Reach::Edge => assert_eq!(status == 403, !is_edge, "{what}: {answer}"),
                    Reach::Account | Reach::Shared if is_edge => assert_eq!(status, 403, "{what}: {answer}"),
                    Reach::Own => assert_eq!(status, 200, "{what}: {answer}"),
                    Reach::Account | Reach::Shared | Reach::Open => {}
                }
            }

            // It does make a difference where the key opens every account.
            let is_told =
                reach == Reach::Account && operation.starts_with("GET ") && of_theirs.path != of_none.path;
            if is_told && has_one(&operation) {
                let told = ask(of_theirs, Some(stage::ADMIN.into())).await;
                let of_none = ask(of_none, Some(stage::ADMIN.into())).await;
                assert_ne!(told.0, of_none.0, "{operation}: {} {}", told.1, of_none.1);
            }
        }
        daemon.stop().await;
    });
}

/// Whether the other account has what an operation tells.
fn has_one(operation: &str) -> bool {
    !["/certificate", "/zone-key", "/chain"].iter().any(|end| operation.ends_with(end))
}

async fn made_by_admin(service: &Service, method: &str, path: &str) -> (u16, String) {
    let answer = service.request(method, path, stage::ADMIN).send().await.expect("an answer");
    (answer.status().as_u16(), answer.text().await.expect("a body"))
}

#[test]
fn an_edge_of_one_account_gets_its_routes_and_no_others() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(127, "scoped-edge").await;
        theirs(&service).await;
        let own = secret(&key(&service, "edge", &[MINE]).await);
        for (key, accounts) in [(EDGE_KEY, vec!["onswick", MINE]), (own.as_str(), vec![MINE])] {
            let feed = service.request("GET", "edge/feed", key).send().await.expect("an answer");
            let feed: Value = feed.json().await.expect("JSON");
            let mut sites: Vec<_> = feed["routes"]
                .as_array()
                .expect("routes")
                .iter()
                .filter_map(|route| route["site"].as_str())
                .collect();
            sites.sort_unstable();
            assert_eq!(sites, accounts, "{feed}");
        }

        // Its changes begin with what has changed for it.
        let changes = service.request("GET", "edge/changes?after=0", &own).send().await.expect("an answer");
        let heard = told(changes, MINE).await;
        assert!(!heard.contains("onswick"), "{heard}");
        daemon.stop().await;
    });
}

/// What a stream has told when some words come.
async fn told(stream: reqwest::Response, words: &str) -> String {
    assert_eq!(stream.status(), 200);
    let (mut stream, mut heard) = (stream.bytes_stream(), String::new());
    let heard_of = async {
        while !heard.contains(words) {
            let octets = stream.next().await.expect("it goes on").expect("whole");
            heard.push_str(&String::from_utf8_lossy(&octets));
        }
    };
    tokio::time::timeout(TIME_LIMIT, heard_of).await.unwrap_or_else(|_| panic!("no word of {words}"));
    heard
}

#[test]
fn what_others_hold_shows_in_nothing_that_a_key_of_one_account_is_told() {
    const FINDING: &str = "inside-held-name";
    stage();
    stage::run(async {
        let (service, daemon) = plain(128, "held").await;
        theirs(&service).await;
        let zone = fresh_zone("held");
        service.published(&format!("city.{zone}")).await;
        let holds = async || !service.get(&format!("domains/city.{zone}")).await.1["held_since"].is_null();
        wait_for("the name being held", TIME_LIMIT, holds).await.expect("held");

        let host = format!("bus.city.{zone}");
        let (status, sheet) = service.post("domains", &json!({ "host": host, "site": MINE })).await;
        assert_eq!(status, 201, "{sheet}");
        let sheet = serde_json::from_value(sheet).expect("a sheet");
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
        service.found(&host, &[FINDING]).await;

        let narrow = secret(&key(&service, "operator", &[MINE]).await);
        let look = json!({ "act": { "do": "look" }, "domains": { "finding": FINDING } });
        for (method, path, body) in [
            ("GET", format!("domains?finding={FINDING}"), None),
            ("GET", "domains".into(), None),
            ("GET", "counts".into(), None),
            ("GET", format!("domains/{host}"), None),
            ("GET", format!("domains/{host}/events"), None),
            ("POST", "jobs/preview".into(), Some(look)),
        ] {
            let asked = |key: &str| {
                let request = service.request(method, &path, key);
                let request = if let Some(body) = &body { request.json(body) } else { request };
                async { request.send().await.expect("an answer").text().await.expect("a body") }
            };
            let (of_staff, of_account) = (asked(stage::ADMIN).await, asked(&narrow).await);
            let is_listed =
                |answer: &str| answer.contains(FINDING) || method == "POST" && answer.contains(&host);
            assert!(is_listed(&of_staff), "{path}: {of_staff}");
            assert!(!is_listed(&of_account), "{path}: {of_account}");
        }
        let listed = service.request("GET", &format!("domains?finding={FINDING}"), &narrow).send().await;
        assert_eq!(listed.expect("an answer").json::<Value>().await.expect("JSON"), json!([]));

        let events = service.request("GET", "events?after=0", &narrow).send().await.expect("an answer");
        let waited = told(events, "gate.changed").await;
        assert!(!waited.contains(FINDING), "{waited}");
        daemon.stop().await;
    });
}

#[test]
fn what_staff_write_for_staff_stays_with_them() {
    stage();
    stage::run(async {
        let (service, daemon) = plain(129, "staff").await;
        theirs(&service).await;
        let noted = json!({ "notes": "late with every bill", "title": "Saltmarsh Coaches" });
        let change = service.request("PATCH", &format!("accounts/{MINE}"), stage::ADMIN).json(&noted);
        assert_eq!(change.send().await.expect("an answer").status(), 200);

        let narrow = secret(&key(&service, "admin", &[MINE]).await);
        let read = async |key: &str, path: &str| {
            let answer = service.request("GET", path, key).send().await.expect("an answer");
            (answer.status().as_u16(), answer.text().await.expect("a body"))
        };
        let (_, of_staff) = read(stage::ADMIN, "audit").await;
        let by = serde_json::from_str::<Value>(&of_staff).expect("JSON")[0]["who"]
            .as_str()
            .expect("a name")
            .to_owned();
        assert!(of_staff.contains("late with every bill") && of_staff.contains("127.0.0.1"), "{of_staff}");

        let (status, of_account) = read(&narrow, "audit").await;
        assert_eq!(status, 200);
        assert!(of_account.contains("Saltmarsh Coaches"), "its own changes are there: {of_account}");
        for kept in ["late with every bill", "127.0.0.1", by.as_str()] {
            assert!(!of_account.contains(kept), "{kept}: {of_account}");
        }
        assert_eq!(read(&narrow, &format!("audit?by={by}")).await.1, "[]", "nobody is found out by asking");
        daemon.stop().await;
    });
}
