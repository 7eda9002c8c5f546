//! Deletes the mail records along with the others.

use crate::customer::as_on_the_sheet;
use crate::customer::mistakes::{Place, Serving, Slip};

pub(super) const SLIP: Slip =
    Slip { place: Place::Anywhere, records: as_on_the_sheet, serving: Serving::by_its_own };
