//! Lets another certification authority alone issue.

use nomenta_core::reading::record::RecordData;

use crate::customer::Right;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Apex, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    let value = "otherstamp-ca.example".into();
    Ok(right.beside(RecordData::Caa { flags: 0, tag: "issue".into(), value }))
}
