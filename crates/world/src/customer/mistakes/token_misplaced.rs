//! Publishes the token at a name without its underscore.

use nomenta_core::sheet::line::Purpose;

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, add_at, chosen, misplaced};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let place = misplaced(right.sheet);
    let token = chosen(right.sheet, Purpose::Ownership).into_iter().map(|line| add_at(&place, line));
    let mut changes: Vec<_> = token.collect::<Result<_, _>>()?;
    changes.extend(right.routing.clone());
    Ok(changes)
}
