//! Changes one of the two name servers and keeps the other.

use crate::customer::as_on_the_sheet;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::layout::{Operator, PLATFORM};
use crate::zones::servers;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records: as_on_the_sheet, serving };

fn serving(zone: &str) -> Serving {
    let own = servers(Operator::of(zone))[0].clone();
    Serving::At(vec![own, servers(PLATFORM)[0].clone()])
}
