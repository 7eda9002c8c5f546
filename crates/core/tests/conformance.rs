//! The vectors that the standards publish, from where packages bring them.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::{env, fs};

use nomenta_core::name::hostname::{Hostname, HostnameCode};
use serde_json::Value;

/// The list's own tests, of the Debian package publicsuffix.
const SUFFIXES: &str = "/usr/share/doc/publicsuffix/examples/test_psl.txt";

/// UTS 46's own tests, which the crate that maps names brings.
fn mapping_vectors() -> PathBuf {
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("Cargo.toml");
    // The packages of other platforms are not on a machine that only built for its own.
    let output = Command::new(env::var_os("CARGO").unwrap_or_else(|| "cargo".into()))
        .args(["metadata", "--format-version=1", "--offline"])
        .args(["--filter-platform", "host-tuple", "--manifest-path"])
        .arg(manifest)
        .output()
        .expect("cargo runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));

    let metadata: Value = serde_json::from_slice(&output.stdout).expect("metadata");
    let packages = metadata["packages"].as_array().expect("packages");
    let idna = packages.iter().find(|package| package["name"] == "idna").expect("the crate");
    let manifest = Path::new(idna["manifest_path"].as_str().expect("a path"));
    manifest.with_file_name("tests").join("IdnaTestV2.txt")
}

/// Undoes `\uXXXX` and `\x{XXXX}`.
fn unescaped(text: &str) -> Option<String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('\\') {
        out.push_str(before);
        let (digits, behind) = match after.strip_prefix("x{") {
            Some(braced) => braced.split_once('}')?,
            None => (after.get(1..5)?, &after[5..]),
        };
        // Half of a surrogate is no text.
        out.push(char::from_u32(u32::from_str_radix(digits, 16).ok()?)?);
        rest = behind;
    }
    Some(out + rest)
}

/// Ideographs that Unicode has only since versions 17 and 18, which the mapping
/// knows and its vectors, of version 16, do not.
fn is_newer(c: char) -> bool {
    matches!(c, '\u{323b0}'..='\u{33479}' | '\u{3d000}'..='\u{3fc3f}')
}

/// A line of the vectors: what is given, and what becomes of it.
struct Vector {
    given: String,
    ascii: String,
    codes: Vec<String>,
}

impl Vector {
    fn read(line: &str) -> Option<Self> {
        let columns: Vec<_> = line.split('#').next()?.split(';').map(str::trim).collect();
        let [given, unicode, unicode_status, ascii, ascii_status, ..] = columns[..] else { return None };
        let first = |list: &[&str]| (*list.iter().find(|text| !text.is_empty()).unwrap_or(&"")).to_owned();

        let codes = first(&[ascii_status, unicode_status]);
        // The root's dot, which a name may have, is an empty label there.
        let others = codes.trim_matches(['[', ']']).split(", ").filter(|code| !matches!(*code, "" | "A4_2"));
        let codes: Vec<_> = others.map(str::to_owned).collect();
        let ascii = unescaped(&first(&[ascii, unicode, given]))?;
        let vector = Self { given: unescaped(given)?, ascii, codes };
        // Up to a question mark it is an address, which is another matter; and some
        // characters were no characters yet when the vectors were written.
        let is_other = vector.given.contains('?') || vector.unicode().chars().any(is_newer);
        (!is_other).then_some(vector)
    }

    fn unicode(&self) -> String {
        idna::domain_to_unicode(&self.given).0
    }

    /// Whether nothing is against it, or only two hyphens in an ASCII label: such
    /// names exist in DNS, and browsers open them.
    fn is_valid(&self) -> bool {
        let has_hyphens = |label: &str| label.chars().skip(2).take(2).eq("--".chars());
        self.codes.iter().all(|code| code == "V2")
            && self.given.split('.').all(|label| label.is_ascii() || !has_hyphens(label))
    }
}

/// Why a name that UTS 46 lets pass is refused all the same.
fn is_stricter(code: HostnameCode) -> bool {
    matches!(
        code,
        // No name under a suffix, an address, or nothing.
        HostnameCode::PublicSuffix | HostnameCode::Address | HostnameCode::Empty
        // RFC 1123 and RFC 1035.
        | HostnameCode::Forbidden | HostnameCode::EmptyLabel | HostnameCode::LabelTooLong | HostnameCode::NameTooLong
        // RFC 5892.
        | HostnameCode::Unregistrable
    )
}

#[test]
fn names_are_mapped_as_uts_46_says() {
    let text = fs::read_to_string(mapping_vectors()).expect("the vectors");
    let vectors: Vec<_> = text.lines().filter_map(Vector::read).collect();
    assert!(vectors.len() > 6_000, "{} vectors", vectors.len());

    let mut wrong = Vec::new();
    let (mut taken, mut refused) = (0, 0);
    for vector in &vectors {
        // With a name before and a suffix behind, a label alone is a name too,
        // and nothing is trimmed from its ends.
        let framed = format!("a.{}.b.example", vector.given.trim_end_matches('.'));
        let want = format!("a.{}.b.example", vector.ascii.trim_end_matches('.'));
        match Hostname::parse(&framed) {
            Ok(name) if vector.is_valid() && name.as_str() == want => taken += 1,
            Err(error) if !vector.is_valid() || is_stricter(error.code()) => refused += 1,
            other => wrong.push(format!("{:?} {:?}: {other:?}, wanted {want}", vector.given, vector.codes)),
        }
    }
    assert!(taken > 300 && refused > 500, "{taken} taken, {refused} refused");
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), vectors.len(), wrong.join("\n"));
}

#[test]
fn registered_names_are_as_the_public_suffix_list_says() {
    let text = fs::read_to_string(SUFFIXES).expect("the package publicsuffix");
    let mut count = 0;

    for line in text.lines().filter_map(|line| line.strip_prefix("checkPublicSuffix(")) {
        let (given, want) = line.trim_end_matches([';', ')']).split_once(", ").expect("two arguments");
        let given = given.trim_matches('\'');
        // No name, and names that begin with a dot, are refused for that.
        if given == "null" || given.starts_with('.') {
            continue;
        }

        let registered = Hostname::parse(given).ok().map(|name| name.registered().to_owned());
        let want = (want != "null").then(|| want.trim_matches('\''));
        let want = want.map(|want| Hostname::parse(want).expect("a name").to_string());
        assert_eq!(registered, want, "{given}");
        count += 1;
    }
    assert!(count > 60, "{count} vectors");
}
