//! Types the zone into the name box, which the editor appends anyway.

use nomenta_core::sheet::line::Line;

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, add_at};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let doubled = |line: &Line| add_at(&right.sheet.zone.child(&line.owner), line);
    right.lines().map(doubled).collect()
}
