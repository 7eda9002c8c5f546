//! Has mail at the host, which a CNAME would take away.

use crate::customer::mistakes::{Place, Serving, Slip};
use crate::customer::{Right, mail};
use crate::zones::Change;

pub(super) const SLIP: Slip = Slip { place: Place::Subdomain, records, serving: Serving::by_its_own };

fn records(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok(right.instead_of_routing(mail(&right.sheet.zone)))
}
