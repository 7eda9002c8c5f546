//! The addresses that a domain leads to, sorted by whose they are.

use std::collections::BTreeSet;
use std::net::IpAddr;

use crate::judge::behind::Foreign;
use crate::judge::domain::Domain;
use crate::judge::variation::Variation;
use crate::judge::verdict::{Expected, Verdict};
use crate::name::platform::Platform;
use crate::reading::survey::Survey;

/// Where a visitor is led: the addresses that the first matching vantage gives,
/// IPv6 first, as certification authorities try them. Empty until one matches.
pub fn addresses_to_probe(domain: &Domain, platform: &Platform, survey: &Survey) -> Vec<IpAddr> {
    let sheet = domain.sheet(platform, survey.apex().unwrap_or(&domain.zone), None);
    let expected = Expected::new(&sheet, &domain.ingress, survey);

    let variation = Variation::of(survey);
    let mut views = survey.vantages().filter_map(|source| survey.host_view(source));
    let found = views.find_map(|view| match expected.routing(Some(&view)) {
        Verdict::Match => Some(view),
        // By turns any of them may be what a visitor gets.
        _ if variation.grants(&view, &domain.ingress) => Some(variation.whole(&view, &domain.ingress)),
        _ => None,
    });
    let Some(view) = found else { return Vec::new() };

    let six = view.ipv6.into_iter().map(IpAddr::from);
    six.chain(view.ipv4.into_iter().map(IpAddr::from)).collect()
}

/// The addresses that visitors are led to and that are somebody else's, IPv6
/// first: those in the zone, and those that the vantages find behind an alias. At most
/// `most` are visited, whoever they are.
pub fn foreign_addresses(domain: &Domain, survey: &Survey, most: usize) -> Foreign {
    let mut six = BTreeSet::new();
    let mut four = BTreeSet::new();
    for view in survey.sources().into_iter().filter_map(|source| survey.host_view(source)) {
        six.extend(view.ipv6.difference(&domain.ingress.ipv6).copied());
        four.extend(view.ipv4.difference(&domain.ingress.ipv4).copied());
    }

    let six = six.into_iter().map(IpAddr::from);
    let mut addresses: Vec<_> = six.chain(four.into_iter().map(IpAddr::from)).collect();
    let are_all = addresses.len() <= most;
    addresses.truncate(most);
    Foreign { addresses, are_all }
}
