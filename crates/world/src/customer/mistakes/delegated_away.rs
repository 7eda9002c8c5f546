//! Has the name cut away into a zone of its own elsewhere.

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving };

/// Nothing is left in the zone above.
fn records(_right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok(Vec::new())
}

fn serving(_zone: &str) -> Serving {
    Serving::CutAway
}
