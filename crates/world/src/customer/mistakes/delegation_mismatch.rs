//! Has other servers at the registry than in the zone.

use crate::customer::as_on_the_sheet;
use crate::customer::mistakes::{Place, Serving, Slip};
use crate::layout::{HARROW, Operator, TIDEWELL};
use crate::zones::servers;

pub(super) const SLIP: Slip = Slip { place: Place::Anywhere, records: as_on_the_sheet, serving };

fn serving(zone: &str) -> Serving {
    let operator = Operator::of(zone);
    let other = if operator == HARROW { TIDEWELL } else { HARROW };
    Serving::Otherwise(vec![servers(operator)[0].clone(), servers(other)[0].clone()])
}
