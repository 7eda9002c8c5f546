//! Folders of this crate are floors: a file uses its own floor and those below.

use std::fs;
use std::path::{Path, PathBuf};

/// From the bottom up.
const FLOORS: [&str; 12] = [
    "name",
    "reading",
    "zonefile",
    "sheet",
    "one_click",
    "judge",
    "learned",
    "claim",
    "rehearsal",
    "publish",
    "notice",
    "intake",
];

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            found.extend(sources(&path));
        } else {
            found.push(path);
        }
    }
    found
}

#[test]
fn no_floor_uses_one_above_it() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut seen = 0;

    for (height, floor) in FLOORS.iter().enumerate() {
        for path in sources(&root.join(floor)) {
            let text = fs::read_to_string(&path).expect("a source");
            // What tests stand on is not what the code stands on.
            let code = text.split("#[cfg(test)]").next().unwrap_or_default();
            for above in &FLOORS[height + 1..] {
                let named = code.lines().any(|line| line.starts_with(&format!("use crate::{above}")));
                assert!(!named, "{} uses the floor {above} above it", path.display());
            }
            seen += 1;
        }
    }
    assert!(seen > 70, "{seen} files");
}
