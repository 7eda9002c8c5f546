//! Copies the token without its end.

use nomenta_core::sheet::line::{Line, Purpose};

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, add, chosen};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let mut changes = Vec::new();
    for line in chosen(right.sheet, Purpose::Ownership) {
        let value = line.value[..line.value.len() - 6].to_owned();
        changes.push(add(&Line { value, ..line.clone() })?);
    }
    changes.extend(right.routing.clone());
    Ok(changes)
}
