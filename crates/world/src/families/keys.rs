//! Keys of zones: made, told to the zone above, and signed with.

use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, ensure};

use super::{Signing, Vouching};
use crate::daemon;

/// A folder of keys.
pub(super) struct Keys {
    folder: PathBuf,
}

impl Keys {
    pub(super) fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    /// Makes a zone's one key, which signs everything.
    pub(super) fn make(&self, apex: &str) -> anyhow::Result<()> {
        let folder = self.folder_of(apex);
        std::fs::create_dir_all(&folder)?;
        let folder = folder.display().to_string();
        run("dnssec-keygen", &["-q", "-K", &folder, "-a", "ECDSAP256SHA256", "-f", "KSK", apex]).map(drop)
    }

    /// A file of the zone's key: `key` or `private`.
    pub(super) fn file(&self, apex: &str, extension: &str) -> anyhow::Result<PathBuf> {
        let files = std::fs::read_dir(self.folder_of(apex))?.flatten().map(|entry| entry.path());
        let mut files = files.filter(|path| path.extension().is_some_and(|found| found == extension));
        files.next().with_context(|| format!("{apex} has no key"))
    }

    /// The tag of a zone's key, as its files are named for it.
    pub(super) fn tag(&self, apex: &str) -> anyhow::Result<String> {
        let file = self.file(apex, "key")?;
        let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let tag = name.rsplit('+').next().unwrap_or_default().trim_start_matches('0').to_owned();
        Ok(tag)
    }

    /// The zone's DNSKEY record, as a trust anchor.
    pub(super) fn anchor(&self, apex: &str) -> anyhow::Result<String> {
        let text = std::fs::read_to_string(self.file(apex, "key")?)?;
        let line = text.lines().find(|line| !line.starts_with(';'));
        line.map(str::to_owned).context("a key file without a key")
    }

    /// The DS record of a zone, right or in some way wrong.
    pub(super) fn vouch(&self, apex: &str, vouching: Vouching) -> anyhow::Result<String> {
        let file = self.file(apex, "key")?.display().to_string();
        let told = run("dnssec-dsfromkey", &["-2", &file])?;
        let words: Vec<&str> = told.split_whitespace().collect();
        let [owner, _, _, tag, algorithm, digest_type, digest] = words[..] else {
            anyhow::bail!("an unreadable DS record: {told}")
        };

        // Another digest of the same length.
        let turned: String = digest.chars().rev().collect();
        let other_tag = format!("{}", tag.parse::<u16>()?.wrapping_add(1));
        let rdata = match vouching {
            Vouching::None | Vouching::Right => [tag, algorithm, digest_type, digest],
            Vouching::WrongDigest => [tag, algorithm, digest_type, &turned],
            Vouching::WrongKey => [&other_tag, algorithm, digest_type, &turned],
            Vouching::UnknownAlgorithm => [tag, "200", digest_type, digest],
            Vouching::UnknownDigest => [tag, algorithm, "99", digest],
        };
        Ok(format!("{owner} DS {}", rdata.join(" ")))
    }

    /// The signed text of a master file.
    pub(super) fn sign(&self, apex: &str, unsigned: &Path, signing: Signing) -> anyhow::Result<String> {
        let signed = unsigned.with_extension("signed");
        let folder = self.folder_of(apex).display().to_string();
        let key = self.file(apex, "private")?.display().to_string();
        let (from, to) = (unsigned.display().to_string(), signed.display().to_string());

        let mut words = vec!["-q", "-z", "-o", apex, "-K", &folder, "-f", &to];
        match signing {
            Signing::Nsec | Signing::ByServer => {}
            Signing::Nsec3 => words.extend(["-3", "ab", "-H", "0"]),
            Signing::OptOut => words.extend(["-3", "-", "-H", "0", "-A"]),
            Signing::Expired => words.extend(["-s", "20200101000000", "-e", "20200201000000", "-P"]),
        }
        let with_key = format!("{unsigned}.with-key", unsigned = from);
        let text = std::fs::read_to_string(unsigned)? + &self.anchor(apex)? + "\n";
        std::fs::write(&with_key, text)?;
        words.extend([with_key.as_str(), key.as_str()]);
        // It leaves files in the folder that it runs in.
        run_in(&self.folder_of(apex), "dnssec-signzone", &words)?;
        std::fs::read_to_string(&signed).with_context(|| format!("{apex} was not signed"))
    }

    fn folder_of(&self, apex: &str) -> PathBuf {
        self.folder.join(if apex == "." { "root" } else { apex })
    }
}

/// What a program prints, once it has succeeded.
pub(super) fn run(name: &str, words: &[&str]) -> anyhow::Result<String> {
    run_in(Path::new("/"), name, words)
}

fn run_in(folder: &Path, name: &str, words: &[&str]) -> anyhow::Result<String> {
    let program = daemon::program(name).with_context(|| format!("{name} is not installed."))?;
    let output = Command::new(program).args(words).current_dir(folder).output()?;
    let said = String::from_utf8_lossy(&output.stderr);
    ensure!(output.status.success(), "{name} {} failed: {said}", words.join(" "));
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}
