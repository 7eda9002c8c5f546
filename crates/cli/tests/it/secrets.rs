//! Secrets are placed wherever one is typed, made or sent, and then looked for in everything that is
//! kept, written, sent or shown: each is found where the docs say, and nowhere else.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use nomenta_world::customer;
use nomenta_world::hook::{Hook, Manner};
use serde_json::{Value, json};
use tokio::time::timeout;

use crate::notices::told_page;
use crate::own::{Own, own, own_setup};
use crate::stage::{self, ADMIN, EDGE_KEY, fresh_zone, stage};

const SOON: Duration = Duration::from_secs(60);
/// How long nothing comes before a stream has told what there is to tell.
const QUIET: Duration = Duration::from_secs(3);
/// The database of this service.
const DATABASE: &str = "secrets";

/// A secret, and where it may be found.
struct Canary {
    what: &'static str,
    secret: String,
    places: &'static [&'static str],
}

impl Canary {
    fn new(what: &'static str, secret: impl Into<String>, places: &'static [&'static str]) -> Self {
        Self { what, secret: secret.into(), places }
    }

    /// Whether a text has it, as it is or as the database writes octets.
    fn is_in(&self, text: &str) -> bool {
        let octets = data_encoding::HEXLOWER.encode(self.secret.as_bytes());
        text.contains(&self.secret) || text.contains(&octets)
    }
}

fn text(value: &Value) -> String {
    value.as_str().expect("a text").to_owned()
}

/// A new word that nobody else writes.
fn word(of: &str) -> String {
    format!("canary-{of}-{}", uuid::Uuid::new_v4().simple())
}

/// What stands in every table, by its name.
async fn tables() -> BTreeMap<String, String> {
    let world = &stage().world;
    let listed = "SELECT tablename FROM pg_tables WHERE schemaname = 'public'";
    let listed = world.statement(DATABASE, listed).await.expect("tables");
    let mut tables = BTreeMap::new();
    for table in listed.lines().map(str::trim).filter(|table| !table.is_empty()) {
        let rows = world.statement(DATABASE, &format!("SELECT t::text FROM {table} t")).await.expect("rows");
        tables.insert(format!("table {table}"), rows);
    }
    assert!(tables.len() > 20, "{:?}", tables.keys());
    tables
}

/// What a page or a listing says to whoever has a key.
async fn read(own: &Own, path: &str, key: &str) -> String {
    let answer = own.request("GET", path, key).send().await.expect("an answer");
    answer.text().await.expect("text")
}

/// What has been told so far to whoever listens with a key.
async fn heard(own: &Own, key: &str) -> String {
    let mut told = own.request("GET", "events?after=0", key).send().await.expect("an answer");
    let mut text = String::new();
    while let Ok(Ok(Some(chunk))) = timeout(QUIET, told.chunk()).await {
        text.push_str(&String::from_utf8_lossy(&chunk));
    }
    assert!(text.contains("certificate.issued"), "{text}");
    text
}

#[test]
fn every_secret_is_where_the_docs_say_and_nowhere_else() {
    stage();
    stage::run(async {
        let stage = stage();
        let mut setup = own_setup(DATABASE, 136).await;
        setup.log = Some("trace");
        let (sealing_key, log) = (setup.sealing_key.clone(), stage.world.layout.state.join("secrets.log"));
        let own = own(setup, DATABASE, 136).await;
        let zone = fresh_zone("secrets");
        let host = format!("rides.{zone}");
        let id = &zone[zone.find('-').expect("its own") + 1..zone.len() - ".example".len()];
        let [staff, handed, asker] = ["staff", "handed", "asker"].map(|who| format!("{who}-{id}@mail.test"));

        // Whoever is told of everything.
        let (hook, _guard) = Hook::start(Manner::Takes).await.expect("a hook");
        let (status, made) = own.post("hooks", &json!({ "url": hook.url() })).await;
        assert_eq!(status, 201, "{made}");
        let hook_secret = text(&made["secret"]);
        let (status, told) = own.post("recipients", &json!({ "address": staff })).await;
        assert_eq!(status, 201, "{told}");

        // Staff, and a key of one account.
        let notes = word("notes");
        let patch = own.request("PATCH", "accounts/onswick", ADMIN).json(&json!({ "notes": notes }));
        assert!(patch.send().await.expect("an answer").status().is_success());
        let key = json!({ "name": "theirs", "role": "admin", "accounts": ["onswick"] });
        let narrow = text(&own.post("keys", &key).await.1["secret"]);
        let signed = own.request("POST", "session", "").json(&json!({ "key": narrow })).send().await;
        let cookie = signed.expect("an answer").headers()["set-cookie"].to_str().expect("text").to_owned();
        let session = cookie.split(['=', ';']).nth(1).expect("a value").to_owned();

        // A domain on its way, with everything that its customer has.
        let sheet = own.enrol(&stage.world, &host).await;
        let token =
            sheet.lines.iter().find_map(|line| line.value.strip_prefix("quaymark=")).map(str::to_owned);
        let token = token.unwrap_or_else(|| sheet.lines[0].value.rsplit('=').next().expect("one").to_owned());
        let (status, link) =
            own.post(&format!("domains/{host}/handoffs"), &json!({ "mail_to": handed })).await;
        assert_eq!(status, 201, "{link}");
        let (link_secret, page) = (text(&link["secret"]), text(&link["link"]));
        let client = reqwest::Client::new();
        let asked = client.post(format!("{page}/tell")).form(&[("address", &asker)]).send().await;
        assert_eq!(asked.expect("an answer").status(), 200);
        let mails = stage.world.mailbox.wait(&asker, 1, SOON).await.expect("a question");
        let reader = told_page(&mails[0]);
        let reader_secret = reader.rsplit('/').next().expect("a secret").to_owned();
        client.post(&reader).body("press=yes").send().await.expect("an answer");

        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        own.live(&host).await;
        let statement = stage.world.zones.give_key(&zone, &format!("{id}-key")).await.expect("a key");
        let given = own.request("PUT", &format!("domains/{host}/zone-key"), ADMIN);
        let given = given.json(&json!({ "key": statement })).send().await.expect("an answer");
        assert_eq!(given.status(), 200, "{}", given.text().await.unwrap_or_default());
        let tsig = statement.split('"').nth(3).expect("a secret").to_owned();
        let feed: Value = serde_json::from_str(&read(&own, "edge/feed", EDGE_KEY).await).expect("a feed");
        let pem = text(&feed["certificates"][0]["key_pem"]);
        let private_key = pem.lines().nth(1).expect("a line").to_owned();

        // What was typed in the wrong place, or by nobody.
        let [wrong_key, wrong_link, repeated, body] = ["key", "link", "repeated", "body"].map(word);
        read(&own, "domains", &wrong_key).await;
        client.get(page.replace(&link_secret, &format!("nmh_{wrong_link}"))).send().await.expect("an answer");
        let call = own.request("POST", "accounts", ADMIN).header("idempotency-key", &repeated);
        call.json(&json!({ "name": "another", "secret": body })).send().await.expect("an answer");
        let call = own.request("POST", "accounts", "").json(&json!({ "secret": body }));
        call.send().await.expect("an answer");

        let canaries = [
            Canary::new("an admin's key", ADMIN, &[]),
            Canary::new("an edge key", EDGE_KEY, &[]),
            Canary::new("a key of an account", narrow.clone(), &[]),
            Canary::new("a session", session, &[]),
            Canary::new("the sealing key", sealing_key, &[]),
            Canary::new("the password of the mail server", nomenta_world::mailbox::PASSWORD, &[]),
            Canary::new("the secret of a hook", hook_secret, &[]),
            Canary::new("a zone's key", tsig, &[]),
            Canary::new("a private key", private_key, &[]),
            Canary::new(
                "a handoff link",
                link_secret,
                &["handoff page", "mail to whom it is for", "mail to who asked"],
            ),
            Canary::new("a reader's page", reader_secret, &["mail to who asked"]),
            Canary::new(
                "a token",
                token,
                &["table domains", "table sightings", "handoff page", "mail to whom it is for"],
            ),
            Canary::new(
                "notes of staff",
                notes,
                &["table accounts", "table audit", "account as staff reads it", "audit as staff reads it"],
            ),
            Canary::new("a key of repeated calls", repeated, &["table answers"]),
            Canary::new("a key that opens nothing", wrong_key, &[]),
            Canary::new("a link that shows nothing", wrong_link, &[]),
            Canary::new("what is in a body that is refused", body, &[]),
        ];

        let mail_to = |address: &str| {
            let mails = stage.world.mailbox.to(address);
            mails.iter().map(crate::notices::body).collect::<Vec<_>>().concat()
        };
        stage.world.mailbox.wait(&staff, 1, SOON).await.expect("a mail");
        let calls = hook.calls().into_iter().map(|call| format!("{:?}{}", call.headers, call.body));
        let mut found = tables().await;
        found.extend([
            ("log".into(), std::fs::read_to_string(&log).expect("a log")),
            ("calls of a hook".into(), calls.collect::<Vec<_>>().concat()),
            ("metrics".into(), own.metrics().await),
            ("mail to staff".into(), mail_to(&staff)),
            ("mail to whom it is for".into(), mail_to(&handed)),
            ("mail to who asked".into(), mail_to(&asker)),
            ("handoff page".into(), reqwest::get(&page).await.expect("a page").text().await.expect("text")),
            ("account as staff reads it".into(), read(&own, "accounts/onswick", ADMIN).await),
        ]);
        for (who, key) in [("the account", narrow.as_str()), ("staff", ADMIN)] {
            found.insert(format!("stream as {who} reads it"), heard(&own, key).await);
        }
        for path in ["accounts/onswick", "audit", "domains", "hooks", "recipients", "keys", "handoffs"] {
            found.insert(format!("{path} as the account reads it"), read(&own, path, &narrow).await);
        }
        for path in ["", "/survey", "/baseline", "/events", "/zone-key", "/certificate", "/sheet"] {
            let path = format!("domains/{host}{path}");
            found.insert(format!("{path} as staff reads it"), read(&own, &path, ADMIN).await);
        }
        for path in ["audit", "notices", "hooks", "recipients", "handoffs", "sessions", "keys"] {
            found.insert(format!("{path} as staff reads it"), read(&own, path, ADMIN).await);
        }

        for canary in &canaries {
            let places: BTreeSet<_> = found
                .iter()
                .filter(|(_, text)| canary.is_in(text))
                .map(|(place, _)| place.as_str())
                .collect();
            let told: BTreeSet<_> = canary.places.iter().copied().collect();
            assert_eq!(places, told, "{}", canary.what);
        }
        own.daemon.stop().await;
    });
}
