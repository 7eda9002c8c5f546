//! Who plays in the demo: accounts, their sites and domains, and what each
//! customer does with the sheet. All of them are made up.

use crate::customer::Mistake;

/// A customer of the platform.
pub struct Account {
    /// Short name.
    pub name: &'static str,
    /// Name for people.
    pub title: &'static str,
    /// Its sites.
    pub sites: &'static [&'static str],
}

/// What a customer does after getting the sheet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Act {
    /// Publishes it rightly.
    Right,
    /// Has not begun.
    Nothing,
    /// Publishes the token, and nothing else yet.
    TokenOnly,
    /// Gets it wrong.
    Wrong(Mistake),
    /// Gets it wrong, and mends it so many seconds after the demo serves.
    Mended(Mistake, u64),
    /// Publishes it rightly, but one edge server is out of date.
    EdgeBehind,
    /// Has two sheets, for the name with and without www, and publishes one.
    HalfPair,
    /// Has two sheets, and publishes both.
    Pair,
    /// Publishes it rightly, and brings a certificate that is good for so many
    /// days.
    Brought(i64),
    /// Publishes it rightly, for an account whose plan grants no domain any more.
    BeyondPlan,
    /// Publishes it rightly, to be shown from tomorrow on.
    Staged,
    /// Publishes it rightly, and then the account is suspended.
    Suspended,
    /// Publishes it rightly, from a sheet that has since been replaced.
    OldSheet,
    /// Changes over from a former host whose records resolvers keep for as
    /// many seconds.
    Moving(u32),
}

/// A domain in the demo.
pub struct Part {
    /// The domain as the customer typed it.
    pub host: &'static str,
    /// The site it will show.
    pub site: &'static str,
    /// What the customer does.
    pub act: Act,
}

/// The accounts.
pub const ACCOUNTS: [Account; 18] = [
    Account { name: "onswick", title: "Onswick Ferries", sites: &["onswick"] },
    Account { name: "tarrabank", title: "Tarrabank Tramways", sites: &["tarrabank", "tarrabank-works"] },
    Account { name: "lowmere", title: "Lowmere Night Buses", sites: &["lowmere"] },
    Account { name: "selkhaven", title: "Selkhaven Harbour Line", sites: &["selkhaven"] },
    Account { name: "brackwater", title: "Brackwater Launches", sites: &["brackwater"] },
    Account { name: "fennick", title: "Fennick Isles Ferry Trust", sites: &["fennick"] },
    Account { name: "oxmoor", title: "Oxmoor Late Lines", sites: &["oxmoor"] },
    Account { name: "pellgate", title: "Pellgate Funicular", sites: &["pellgate"] },
    Account { name: "dunvarra", title: "Dunvarra Lake Steamers", sites: &["dunvarra"] },
    Account { name: "hestholm", title: "Hestholm Stadsbane", sites: &["hestholm"] },
    Account { name: "skerrow", title: "Skerrow Island Boats", sites: &["skerrow"] },
    Account { name: "marbeck", title: "Marbeck Trolleybuses", sites: &["marbeck"] },
    Account { name: "wexholm", title: "Wexholm Water Bus", sites: &["wexholm"] },
    Account { name: "kittering", title: "Kittering Night Tram", sites: &["kittering"] },
    Account { name: "gorsefield", title: "Gorsefield Cableway", sites: &["gorsefield"] },
    Account { name: "thrale", title: "Thrale Ferry Co-operative", sites: &["thrale"] },
    Account { name: "corriemoor", title: "Corriemoor Night Bus", sites: &["corriemoor"] },
    Account { name: "haldane", title: "Haldane Pier Railway", sites: &["haldane"] },
];

const fn part(host: &'static str, site: &'static str, act: Act) -> Part {
    Part { host, site, act }
}

/// A second claim of a name that another account has.
pub struct RivalPart {
    /// The name.
    pub host: &'static str,
    /// Whose it is.
    pub holder: &'static str,
    /// Who claims it too, for its only site.
    pub challenger: &'static str,
}

/// Second claims, whose tokens stand beside the first ones.
pub const RIVALS: [RivalPart; 2] = [
    RivalPart { host: "reise.hestholm.example", holder: "hestholm", challenger: "thrale" },
    RivalPart { host: "trams.tarrabank.example", holder: "tarrabank", challenger: "skerrow" },
];

/// The domains.
pub const PARTS: [Part; 55] = [
    part("timetable.onswick.example", "onswick", Act::Right),
    part("onswick.example", "onswick", Act::Right),
    part("https://Trams.Tarrabank.example/lines", "tarrabank", Act::Right),
    part("lowmere.test", "lowmere", Act::Right),
    part("fahrplan.fähre-selk.example", "selkhaven", Act::Right),
    part("reise.hestholm.example", "hestholm", Act::Right),
    part("www.selkhaven.example", "selkhaven", Act::Nothing),
    part("departures.brackwater.test", "brackwater", Act::TokenOnly),
    part("night.oxmoor.test", "oxmoor", Act::EdgeBehind),
    part("crossings.fennickisles.example", "fennick", Act::Wrong(Mistake::HostDoubled)),
    part("brackwater.test", "brackwater", Act::Wrong(Mistake::TokenAltered)),
    part("fellbeck.example", "pellgate", Act::Wrong(Mistake::ForwardingElsewhere)),
    part("pellgate.example", "pellgate", Act::Wrong(Mistake::AddressForeign)),
    part("dunvarra.example", "dunvarra", Act::Wrong(Mistake::AddressSurplus)),
    part("tarrabank.example", "tarrabank-works", Act::Wrong(Mistake::AddressPartial)),
    part("oxmoor.test", "oxmoor", Act::Wrong(Mistake::Ipv6Stray)),
    part("rides.pellgate.example", "pellgate", Act::Wrong(Mistake::CnameForeign)),
    part("veerstrand.example", "hestholm", Act::Wrong(Mistake::CaaForbids)),
    part("lines.embargo.test", "lowmere", Act::Right),
    part("steamers.dunvara.example", "dunvarra", Act::Wrong(Mistake::NameUnregistered)),
    part("info.oldquay.test", "onswick", Act::Wrong(Mistake::Unreachable)),
    part("tickets.skerrow.example", "skerrow", Act::Wrong(Mistake::ValueDoubled)),
    part("skerrow.example", "skerrow", Act::Wrong(Mistake::TokenMisplaced)),
    part("board.marbeck.test", "marbeck", Act::Wrong(Mistake::WrongType)),
    part("stops.marbeck.test", "marbeck", Act::Wrong(Mistake::CnameBesideOthers)),
    part("hollinferry.example", "thrale", Act::Wrong(Mistake::CnameAtApex)),
    part("fares.tollan.test", "gorsefield", Act::Wrong(Mistake::CnameChainBroken)),
    part("corriecraft.example", "gorsefield", Act::Wrong(Mistake::ChoicesMixed)),
    part("trips.ashlarquay.example", "thrale", Act::Wrong(Mistake::WildcardAnswers)),
    part("night.kittering.example", "kittering", Act::Wrong(Mistake::DelegatedAway)),
    part("wexholm.example", "wexholm", Act::Wrong(Mistake::HttpsRecordStray)),
    part("post.wexholm.example", "wexholm", Act::Wrong(Mistake::MailAtRisk)),
    part("brindleford.test", "marbeck", Act::Wrong(Mistake::MailLost)),
    part("gorsefield.example", "gorsefield", Act::Wrong(Mistake::ServerLame)),
    part("stanmoor.example", "kittering", Act::Wrong(Mistake::ServersDisagree)),
    part("ellerby.test", "kittering", Act::Wrong(Mistake::DelegationMismatch)),
    part("thrale.example", "thrale", Act::Wrong(Mistake::DnssecBroken)),
    part("garrowby.example", "wexholm", Act::HalfPair),
    part("varleyquay.example", "fennick", Act::Pair),
    part("*.stops.varleyquay.example", "fennick", Act::Right),
    part("tours.fennickisles.example", "fennick", Act::Wrong(Mistake::Fronted)),
    part("moorings.tollan.test", "gorsefield", Act::Brought(6)),
    part("berths.ashlarquay.example", "thrale", Act::Brought(26)),
    part("alerts.lowmere.test", "lowmere", Act::OldSheet),
    part("piers.tarrabank.example", "tarrabank", Act::Moving(600)),
    part("live.dunvarra.example", "dunvarra", Act::Mended(Mistake::HostDoubled, 25)),
    part("map.lowmere.test", "lowmere", Act::Mended(Mistake::CnameForeign, 50)),
    part("hestholm.example", "hestholm", Act::Mended(Mistake::AddressSurplus, 75)),
    part("selkhaven.example", "selkhaven", Act::Mended(Mistake::TokenAltered, 100)),
    part("boats.skerrow.example", "skerrow", Act::Mended(Mistake::HostDoubled, 120)),
    part("quays.wexholm.example", "wexholm", Act::Mended(Mistake::HostDoubled, 140)),
    part("lines.tollan.test", "gorsefield", Act::Mended(Mistake::TokenAltered, 160)),
    part("night.corriemoor.example", "corriemoor", Act::BeyondPlan),
    part("summer.fennickisles.example", "fennick", Act::Staged),
    part("pier.haldane.example", "haldane", Act::Suspended),
];

/// Zones whose operator sets domains up in one click.
pub const ONE_CLICK: [&str; 3] = ["ashlarquay.example", "dunvarra.example", "pellgate.example"];

/// A domain whose customer gave the key of their zone, and the zone.
pub const KEYED: (&str, &str) = ("stops.marbeck.test", "marbeck.test");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_mistake_is_on_stage_and_every_site_has_an_owner() {
        for mistake in Mistake::ALL {
            let is_on_stage = PARTS.iter().any(|part| part.act == Act::Wrong(*mistake));
            assert!(is_on_stage, "{mistake} is missing");
        }

        for part in &PARTS {
            assert!(
                ACCOUNTS.iter().any(|account| account.sites.contains(&part.site)),
                "{} has no account",
                part.site
            );
        }
    }
}
