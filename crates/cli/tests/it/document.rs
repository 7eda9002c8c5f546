//! The API as a machine meets it that has read its document and nothing else: it makes
//! calls of every kind, sound and unsound, and holds each answer to what the document says.

use std::path::{Path, PathBuf};

use futures::{StreamExt, stream};
use serde_json::json;
use tokio::process::Command;

use crate::stage::{self, ADMIN, EDGE_KEY, PROGRAM, Service, heavy, setup, stage};
use crate::turns;

/// Where `cargo xtask test` puts the tester.
fn tester() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).expect("the repository");
    root.join("target/schemathesis/bin/schemathesis")
}

/// Calls whose answer has no end, or comes when something changes.
const ENDLESS: [&str; 3] = ["/api/v1/events", "/api/v1/edge/changes", "/api/v1/edge/feed"];

/// Fewest calls that each role makes.
const CASES: usize = 3000;
/// Domains that calls are made about; the tester's configuration names them.
const HOSTS: usize = 12;

/// A service of its own, since everything in it is changed.
async fn service() -> (Service, nomenta_world::Daemon) {
    let world = &stage().world;
    let setup = setup(stage::BASE_PORT + 17, world.database("document").await.expect("a database"));
    let log = world.layout.state.join("document.log");
    let daemon = setup.start(&world.layout, PROGRAM.as_ref(), &log).await.expect("started");
    let service = Service { setup };
    service.add_platform(&nomenta_world::layout::EDGE, "{site}.edge.quaymark.example").await;
    for n in 0..HOSTS {
        let host = format!("w{n}.onswick.example");
        let (status, answer) = service.post("domains", &json!({ "host": host, "site": "onswick" })).await;
        assert_eq!(status, 201, "{answer}");
    }
    (service, daemon)
}

/// Lets the tester make calls with a key; what it says if it finds a fault.
async fn tried(service: &Service, role: &str, key: &str, cases: usize) -> Result<String, String> {
    let mut command = Command::new(tester());
    let config = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/schemathesis.toml");
    command.arg("--config-file").arg(config);
    command.arg("run").arg(format!("{}/api/v1/openapi.json", service.setup.url()));
    command.args(["-H", &format!("Authorization: Bearer {key}"), "-n", &cases.to_string(), "--no-color"]);
    command.args([
        "--phases",
        "examples,coverage,fuzzing",
        "--continue-on-failure",
        "--request-timeout",
        "20",
    ]);
    for path in ENDLESS {
        command.args(["--exclude-path", path]);
    }
    command.current_dir(&stage().world.layout.state);

    let output = command
        .output()
        .await
        .map_err(|error| format!("{} cannot be run: {error}. Run: cargo xtask test", tester().display()))?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let report = stage().world.layout.state.join(format!("document-{role}.txt"));
    std::fs::write(report, &text).map_err(|error| error.to_string())?;
    if output.status.success() { Ok(text) } else { Err(format!("As {role}:\n{text}")) }
}

/// How many calls the tester made, as it says.
fn generated(told: &str) -> Option<usize> {
    let number = |line: &str| line.trim().split_once(" generated, ")?.0.replace(',', "").parse().ok();
    told.lines().find_map(number)
}

#[test]
fn what_the_document_promises_holds_for_any_call_that_a_machine_derives_from_it() {
    // Where every role makes its calls at once, nothing that goes by the clock runs beside them.
    let at_once = heavy(4, 1);
    let _turn = (at_once > 1).then(turns::to_fill_the_machine);
    stage();
    stage::run(async move {
        let (service, daemon) = service().await;
        let mut keys = vec![("admin", ADMIN.to_owned()), ("edge", EDGE_KEY.to_owned())];
        for role in ["viewer", "operator"] {
            let (_, key) = service.post("keys", &json!({ "name": role, "role": role })).await;
            keys.push((role, key["secret"].as_str().expect("a secret").to_owned()));
        }

        let each = heavy(30, 5);
        let tries: Vec<_> = keys.iter().map(|(role, key)| tried(&service, role, key, each)).collect();
        let told: Vec<_> = stream::iter(tries).buffered(at_once).collect().await;
        for told in told {
            let told = told.unwrap_or_else(|fault| panic!("{fault}"));
            let cases = generated(&told).unwrap_or_else(|| panic!("no number of cases in: {told}"));
            println!("{cases} cases");
            assert!(cases >= CASES, "{cases} cases");
        }
        assert_eq!(service.get("session").await.0, 200, "it is still there");
        daemon.stop().await;
    });
}
