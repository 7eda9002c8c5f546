//! Publishes some of the addresses only.

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Apex, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok([&right.ownership[..], &right.routing[1..]].concat())
}
