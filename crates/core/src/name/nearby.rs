//! Names that somebody may have meant: one slip of the finger away.

use std::collections::BTreeSet;

use crate::name::dns::{DnsName, LONGEST_LABEL};
use crate::name::international::ACE_PREFIX;

/// Names that are told at most.
const MOST: usize = 60;

/// Registered domains that differ from one by a letter too many, one too few where it should
/// stand twice, or two that have changed places.
pub fn nearby(registered: &str) -> Vec<DnsName> {
    let Some((label, suffix)) = registered.split_once('.') else { return Vec::new() };
    // Nobody's finger slips in what another script is written as (RFC 3492).
    if label.starts_with(ACE_PREFIX) || !label.is_ascii() {
        return Vec::new();
    }

    let letters: Vec<char> = label.chars().collect();
    let mut found = BTreeSet::new();
    for place in 0..letters.len() {
        let mut doubled = letters.clone();
        doubled.insert(place, letters[place]);
        let mut left_out = letters.clone();
        left_out.remove(place);
        found.extend([doubled, left_out]);
        if place + 1 < letters.len() {
            let mut swapped = letters.clone();
            swapped.swap(place, place + 1);
            found.insert(swapped);
        }
    }
    found.remove(&letters);

    let labels = found.into_iter().map(String::from_iter).filter(|label| is_label(label));
    labels.take(MOST).map(|label| DnsName::new(format!("{label}.{suffix}"))).collect()
}

fn is_label(label: &str) -> bool {
    !label.is_empty() && label.len() <= LONGEST_LABEL && !label.starts_with('-') && !label.ends_with('-')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slips_of_the_finger_are_told_and_the_name_itself_is_not() {
        let found = nearby("dunvara.example");
        for meant in ["dunvarra.example", "dunvar.example", "dnuvara.example"] {
            assert!(found.contains(&meant.into()), "{meant}: {found:?}");
        }
        assert!(!found.contains(&"dunvara.example".into()) && found.len() <= MOST);
        assert!(nearby("xn--fhre-loa.example").is_empty());
        assert!(nearby(&format!("{}.example", "a".repeat(63))).iter().all(|name| name.len() < 80));
    }
}
