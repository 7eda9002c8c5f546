//! `rehearse`.

use std::fs;
use std::io::Read;
use std::path::Path;

use anyhow::Context;
use nomenta_core::rehearsal::Rehearsal;

use super::domain::path;
use crate::Done;
use crate::args::{RehearseOptions, Shape};
use crate::client::Client;
use crate::render::{rehearsal, shown};

/// Judges a zone file, and writes it amended where told to.
pub(crate) async fn run(client: &Client, shape: Shape, options: RehearseOptions) -> anyhow::Result<Done> {
    let RehearseOptions { host, zone, amended } = options;
    let text = read(&zone)?;

    // The token is needed in the file, and masked on the screen.
    let call = path(&host, &format!("/rehearsal?reveal={}", amended.is_some()));
    let judged: Rehearsal = client.post_zone(&call, text).await?;
    if let Some(file) = &amended {
        fs::write(file, &judged.amended).with_context(|| format!("Cannot write {}", file.display()))?;
    }

    match shape {
        Shape::Zone => {
            print!("{}", judged.amended);
            Ok(Done::Yes)
        }
        other => shown(other, &judged, || rehearsal::print(&judged, &zone, amended.as_deref())),
    }
}

/// The file's octets: the service says what in them is no text.
fn read(file: &Path) -> anyhow::Result<Vec<u8>> {
    if file == Path::new("-") {
        let mut octets = Vec::new();
        std::io::stdin().read_to_end(&mut octets).context("Cannot read standard input")?;
        return Ok(octets);
    }
    fs::read(file).with_context(|| format!("Cannot read {}", file.display()))
}
