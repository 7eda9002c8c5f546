//! Zones after somebody has followed a list of changes to the letter.

use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::name::dns::DnsName;
use nomenta_core::sheet::line::EditorType;
use nomenta_world::families::{Family, Zone};

use super::filled_zone;

/// Words by which a server makes answers of its own; whoever is told to publish a record there, is
/// told to delete what makes them.
const GENERATORS: [&str; 4] = ["LUA", "ALIAS", "DYNA", "DYNC"];

/// A line of a zone, as far as it says where what stands.
struct Line {
    owner: DnsName,
    rtype: String,
    value: String,
}

impl Line {
    /// `None` for what is no record of the zone.
    fn read(line: &str, zone: &Zone) -> Option<Self> {
        if zone.family == Family::Tinydns {
            return Self::of_tinydns(line);
        }
        let mut words = line.split_whitespace().filter(|word| word.parse::<u32>().is_err());
        let (owner, rtype) = (words.next()?, words.next()?.to_owned());
        let owner = match owner.strip_suffix('.') {
            Some(whole) => whole.into(),
            None if owner == "@" => DnsName::from(zone.apex.as_str()),
            None => DnsName::from(zone.apex.as_str()).child(owner),
        };
        Some(Self { owner, rtype, value: words.collect::<Vec<_>>().join(" ") })
    }

    fn of_tinydns(line: &str) -> Option<Self> {
        let rtype = match line.chars().next()? {
            '+' => "A",
            'C' => "CNAME",
            '\'' => "TXT",
            _ => return None,
        };
        let mut parts = line[1..].split(':');
        Some(Self { owner: parts.next()?.into(), rtype: rtype.into(), value: parts.next()?.into() })
    }

    fn is_changed_by(&self, edit: &Edit) -> bool {
        let is_there = self.owner == edit.owner;
        match edit.kind {
            EditKind::Keep => false,
            EditKind::Add => is_there && GENERATORS.contains(&self.rtype.as_str()),
            EditKind::Change | EditKind::Delete => {
                let has_value = plain(&self.value).contains(&plain(edit.value_now()));
                is_there && self.rtype == edit.rtype.as_str() && has_value
            }
        }
    }
}

/// A value without what master files put round it.
fn plain(value: &str) -> String {
    value.trim_end_matches('.').replace(['"', '\''], "")
}

/// The zone after the changes of a list.
pub(super) fn followed(zone: &Zone, list: &[Edit]) -> Zone {
    let zone = filled_zone(zone.clone());
    let is_left = |line: &&String| {
        Line::read(line, &zone).is_none_or(|line| !list.iter().any(|edit| line.is_changed_by(edit)))
    };
    let left = zone.lines.iter().filter(is_left).cloned();
    let new = list.iter().filter(|edit| matches!(edit.kind, EditKind::Add | EditKind::Change));
    let lines = left.chain(new.map(|edit| written(edit, zone.family))).collect();
    Zone { lines, ..zone }
}

/// A record as its family has it written.
fn written(edit: &Edit, family: Family) -> String {
    let Edit { owner, value, .. } = edit;
    let EditorType::Of(rtype) = &edit.rtype else { panic!("no server has {}", edit.rtype.as_str()) };
    match (family, rtype.as_str()) {
        (Family::Tinydns, "A") => format!("+{owner}:{value}:5"),
        (Family::Tinydns, "CNAME") => format!("C{owner}:{value}:5"),
        (Family::Tinydns, "TXT") => format!("'{owner}:{value}:5"),
        (Family::Tinydns, "AAAA") => {
            let address: std::net::Ipv6Addr = value.parse().expect("an address");
            let octets: String = address.octets().iter().map(|octet| format!("\\{octet:03o}")).collect();
            format!(":{owner}:28:{octets}:5")
        }
        (_, "TXT") => format!("{owner}. TXT \"{}\"", value.trim_matches('"')),
        (_, "CNAME") => format!("{owner}. CNAME {}.", value.trim_end_matches('.')),
        (_, rtype) => format!("{owner}. {rtype} {value}"),
    }
}
