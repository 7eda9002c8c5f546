//! Debian packages: installed when they may be, else named.

use std::env;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::{bail, ensure};

use crate::say;

/// Something a package brings, and the package.
const WANTED: [(&str, &str); 9] = [
    ("initdb", "postgresql"),
    ("knotd", "knot"),
    ("unbound", "unbound"),
    ("pebble", "pebble"),
    ("chromium", "chromium"),
    ("chromedriver", "chromium-driver"),
    ("/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf", "fonts-dejavu-core"),
    ("setpriv", "util-linux"),
    // The allocator is built by it.
    ("make", "make"),
];

/// What the tests need beside that: worlds of other servers.
const FOR_TESTS: [(&str, &str); 10] = [
    ("named", "bind9"),
    ("dnssec-signzone", "bind9-utils"),
    ("nsd", "nsd"),
    ("pdns_recursor", "pdns-recursor"),
    ("pdns_server", "pdns-server"),
    ("/usr/share/doc/pdns-backend-bind", "pdns-backend-bind"),
    ("dnsdist", "dnsdist"),
    ("dnsmasq", "dnsmasq-base"),
    ("gdnsd", "gdnsd"),
    ("tinydns", "tinydns"),
];

/// What the tests of the core alone need: vectors, and programs that read zone
/// files as the standards say.
const FOR_CORE: [(&str, &str); 4] = [
    ("/usr/share/doc/publicsuffix/examples/test_psl.txt", "publicsuffix"),
    ("named-compilezone", "bind9-utils"),
    ("ldns-read-zone", "ldnsutils"),
    ("make", "make"),
];

/// Installs what is missing for the tests.
///
/// # Errors
/// As for [`ensure()`].
pub(crate) fn ensure_for_tests() -> anyhow::Result<()> {
    ensure()?;
    install(&[missing(&FOR_TESTS), missing(&FOR_CORE)].concat())
}

/// Installs what is missing for the tests of the core.
///
/// # Errors
/// As for [`ensure()`].
pub(crate) fn ensure_for_core() -> anyhow::Result<()> {
    install(&missing(&FOR_CORE))
}

/// Installs what is missing.
///
/// # Errors
/// If something is missing and may not be installed; the message has the
/// command that would.
pub(crate) fn ensure() -> anyhow::Result<()> {
    install(&missing(&WANTED))
}

/// Installs one more package, unless what it brings is there.
///
/// # Errors
/// As for [`ensure()`].
pub(crate) fn ensure_one(thing: &str, package: &'static str) -> anyhow::Result<()> {
    if present(thing) { Ok(()) } else { install(&[package]) }
}

/// Installs packages.
///
/// # Errors
/// As for [`ensure()`].
pub(crate) fn install(missing: &[&str]) -> anyhow::Result<()> {
    if missing.is_empty() {
        return Ok(());
    }

    let list = missing.join(" ");
    let Some(prefix) = privileged() else {
        bail!(
            "These Debian packages are missing: {list}\nInstall them with: apt-get install --no-install-recommends {list}"
        );
    };

    say(&format!("Installing {list}"));
    apt(prefix, &["update", "-qq"])?;
    let install = ["install", "-qq", "-y", "--no-install-recommends"];
    apt(prefix, &[&install[..], missing].concat())
}

fn apt(prefix: &[&str], args: &[&str]) -> anyhow::Result<()> {
    let words = [prefix, &["apt-get"], args].concat();
    let status = Command::new(words[0])
        .args(&words[1..])
        .env("DEBIAN_FRONTEND", "noninteractive")
        .stdout(Stdio::null())
        .status()?;
    ensure!(status.success(), "{} failed. Run it by hand to see why", words.join(" "));
    Ok(())
}

fn missing(wanted: &[(&str, &'static str)]) -> Vec<&'static str> {
    let absent = wanted.iter().filter(|(thing, _)| !present(thing));
    absent.map(|(_, package)| *package).collect()
}

fn present(thing: &str) -> bool {
    if thing.starts_with('/') {
        return Path::new(thing).exists();
    }
    folders().iter().any(|folder| folder.join(thing).is_file())
}

/// Where programs are: the path, the system folders, PostgreSQL's versions.
pub(crate) fn folders() -> Vec<PathBuf> {
    let path = env::var_os("PATH").unwrap_or_default();
    let mut folders: Vec<_> = env::split_paths(&path).collect();
    folders.extend(["/usr/sbin", "/usr/bin"].map(PathBuf::from));
    let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    folders.extend(versions.map(|version| version.path().join("bin")));

    folders
}

/// How to run apt-get, if at all.
fn privileged() -> Option<&'static [&'static str]> {
    if quietly("id", &["-u"]).is_some_and(|id| id.trim() == "0") {
        return Some(&[]);
    }

    quietly("sudo", &["-n", "true"]).map(|_| &["sudo", "-n"][..])
}

/// What a program says, if it succeeds.
fn quietly(program: &str, args: &[&str]) -> Option<String> {
    let output = Command::new(program).args(args).stderr(Stdio::null()).output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
}
