//! The demo as a newcomer meets it: alone on the machine, which has enough to do with it.

use std::fs;
use std::io::Read;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

const PROGRAM: &str = env!("CARGO_BIN_EXE_nomenta");
const BASE_PORT: u16 = 19_630;
const STATE: &str = "/var/tmp/nomenta-test-demo";
/// Long enough for a busy machine; nothing is expected to take it.
const TIME_LIMIT: Duration = Duration::from_secs(400);

fn demo(base_port: u16, words: &[&str]) -> Command {
    let mut command = Command::new(Path::new(PROGRAM).with_file_name("nomenta-demo"));
    command.args(["--base-port", &base_port.to_string(), "--state"]).arg(STATE);
    command.args(words).stdout(Stdio::piped()).stderr(Stdio::piped());
    command
}

/// Waits for the ready file; `None` if the demo ends first, or takes too long.
fn ready(child: &mut Child, file: &Path) -> Option<Value> {
    let deadline = Instant::now() + TIME_LIMIT;
    while Instant::now() < deadline {
        if let Ok(text) = fs::read_to_string(file) {
            return Some(serde_json::from_str(&text).expect("JSON"));
        }
        if child.try_wait().expect("status").is_some() {
            return None;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    None
}

/// A demo that ends with the test, however that ends.
struct Running(Child);

impl Running {
    fn start(words: &[&str]) -> Self {
        Self(demo(BASE_PORT, words).spawn().expect("the demo starts"))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn terminate(child: &mut Child) -> Option<i32> {
    let id = child.id().to_string();
    assert!(Command::new("kill").args(["-TERM", &id]).status().expect("kill").success());
    child.wait().expect("an end").code()
}

fn roster(ready: &Value) -> Vec<Value> {
    let word = |name: &str| ready[name].as_str().expect(name).to_owned();
    let output: Output = Command::new(PROGRAM)
        .args(["roster", "--as", "json"])
        .env("NOMENTA_URL", word("url"))
        .env("NOMENTA_KEY", word("admin_key"))
        .output()
        .expect("a roster");
    serde_json::from_slice(&output.stdout).expect("JSON")
}

/// Command lines of processes that have the state folder in them.
fn left_running() -> Vec<String> {
    let processes = fs::read_dir("/proc").expect("processes").flatten();
    let lines = processes.filter_map(|p| fs::read(p.path().join("cmdline")).ok());
    let lines = lines.map(|l| String::from_utf8_lossy(&l).replace('\0', " "));
    lines.filter(|l| l.contains(STATE)).collect()
}

#[test]
fn the_demo_serves_fills_itself_refuses_a_second_copy_and_leaves_nothing() {
    let file = Path::new(env!("CARGO_TARGET_TMPDIR")).join("ready.json");
    let file_word = file.to_str().expect("UTF-8").to_owned();
    let _ = fs::remove_file(&file);
    let mut child = Running::start(&["--fresh", "--ready-file", &file_word]);
    let Some(told) = ready(&mut child.0, &file) else {
        let _ = child.0.kill();
        let mut said = String::new();
        let _ = child.0.stderr.take().map(|mut stderr| stderr.read_to_string(&mut said));
        panic!("the demo is not ready: {said}");
    };
    for name in ["url", "admin_key", "edge_key", "edge_https", "ca_root_pem"] {
        assert!(!told[name].is_null(), "{name} is missing from {told}");
    }
    let served = Instant::now();
    let live = |lines: &[Value]| lines.iter().filter(|l| l["stage"] == "live").count();
    let mut lines = roster(&told);
    while live(&lines) < 4 {
        assert!(served.elapsed() < TIME_LIMIT, "fewer than four are live: {lines:?}");
        std::thread::sleep(Duration::from_millis(300));
        lines = roster(&told);
    }
    assert!(lines.len() >= 16, "{} domains", lines.len());

    let second = demo(BASE_PORT + 100, &[]).output().expect("a second copy");
    assert!(!second.status.success());
    let message = String::from_utf8_lossy(&second.stderr).into_owned();
    assert!(message.contains("Another copy runs on"), "{message}");

    assert_eq!(terminate(&mut child.0), Some(0));
    assert_eq!(left_running(), [""; 0]);
    assert!(TcpStream::connect(("127.0.0.1", BASE_PORT + 6)).is_err(), "something still listens");

    // On the same state again: the same domains, and no new ones.
    let _ = fs::remove_file(&file);
    let mut child = Running::start(&["--ready-file", &file_word]);
    let again = ready(&mut child.0, &file).expect("ready again");
    assert_eq!(again["admin_key"], told["admin_key"]);
    assert_eq!(roster(&again).len(), lines.len());
    assert_eq!(terminate(&mut child.0), Some(0));

    let taken = TcpListener::bind(("127.53.0.1", BASE_PORT)).expect("a port");
    let busy = demo(BASE_PORT, &[]).output().expect("a demo on a busy port");
    assert!(!busy.status.success());
    let message = String::from_utf8_lossy(&busy.stderr).into_owned();
    assert!(message.contains(&format!("127.53.0.1:{BASE_PORT} for a name server")), "{message}");
    drop(taken);

    let other = demo(BASE_PORT + 200, &[]).output().expect("a demo on other ports");
    let message = String::from_utf8_lossy(&other.stderr).into_owned();
    assert!(message.contains(&format!("was made with --base-port {BASE_PORT}")), "{message}");
}
