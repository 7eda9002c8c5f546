//! Types the zone into the name box, which the editor appends anyway.

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, add_at};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let zone = &right.sheet.zone;
    right.lines().map(|line| add_at(&zone.child(&line.owner), line)).collect()
}
