//! What the customers of the demo do.

use nomenta_core::name::hostname::Hostname;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::Purpose;

use crate::Zones;
use crate::cast::{Act, Part};
use crate::customer::{self, Mistake};

/// What must be so before the domain is taken in: a name that nobody has
/// registered must not be seen registered first.
pub(crate) async fn set_stage(zones: &Zones, host: &Hostname, act: Act) -> anyhow::Result<()> {
    let zone = host.registered();
    match act {
        Act::Wrong(Mistake::NameUnregistered) => return Ok(()),
        Act::Wrong(Mistake::Unreachable) => {
            zones.register(zone).await?;
            return customer::abandon(zones, zone).await;
        }
        _ => zones.register(zone).await?,
    }

    match act {
        Act::Wrong(Mistake::MailLost) => customer::have_mail(zones, zone).await,
        Act::Right if zone == host.as_str() => customer::have_mail(zones, zone).await,
        Act::Moving(ttl) => {
            customer::stand_elsewhere(zones, host.as_str(), zone, ttl).await?;
            zones.prime(host.as_str(), 2).await
        }
        _ => Ok(()),
    }
}

/// What the customer does with the sheet.
pub(crate) async fn act(zones: &Zones, sheet: &Sheet, part: &Part) -> anyhow::Result<()> {
    match part.act {
        Act::Right
        | Act::HalfPair
        | Act::Pair
        | Act::Brought(_)
        | Act::EdgeBehind
        | Act::OldSheet
        | Act::BeyondPlan
        | Act::Staged
        | Act::Suspended
        | Act::Moving(_) => {
            customer::publish(zones, sheet, None).await?;
        }
        Act::Nothing | Act::Wrong(Mistake::NameUnregistered) => {}
        Act::TokenOnly => customer::publish_only(zones, sheet, Purpose::Ownership).await?,
        Act::Wrong(mistake) | Act::Mended(mistake, _) => {
            customer::publish(zones, sheet, Some(mistake)).await?;
        }
    }

    if part.act == Act::Right && sheet.apex {
        customer::have_mail(zones, sheet.host.registered()).await?;
    }

    Ok(())
}
