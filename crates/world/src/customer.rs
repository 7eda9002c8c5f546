//! Customers who edit their zones: rightly, or wrongly in a chosen way.

use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

use anyhow::{bail, ensure};
use nomenta_core::reading::{RecordData, RecordType};
use nomenta_core::sheet::{Line, Purpose, Sheet};

use crate::layout::{Operator, SILENT};
use crate::zones::{Change, Zones, servers};

/// Short, so that a mended mistake is soon forgotten.
const TTL: u32 = 5;
/// The former host of every customer; nothing is ever sent there.
const FORMER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 7);

/// A way to get it wrong, named like the finding that it leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the catalogue of findings describes each")]
pub enum Mistake {
    HostDoubled,
    TokenAltered,
    AddressForeign,
    AddressSurplus,
    AddressPartial,
    Ipv6Stray,
    CnameForeign,
    CaaForbids,
    NameUnregistered,
    Unreachable,
}

impl Mistake {
    /// Every mistake, with the word for it.
    pub const ALL: [(&'static str, Self); 10] = [
        ("host-doubled", Self::HostDoubled),
        ("token-altered", Self::TokenAltered),
        ("address-foreign", Self::AddressForeign),
        ("address-surplus", Self::AddressSurplus),
        ("address-partial", Self::AddressPartial),
        ("ipv6-stray", Self::Ipv6Stray),
        ("cname-foreign", Self::CnameForeign),
        ("caa-forbids", Self::CaaForbids),
        ("name-unregistered", Self::NameUnregistered),
        ("unreachable", Self::Unreachable),
    ];
}

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(Self::ALL.iter().find(|(_, m)| m == self).map_or("", |(word, _)| word))
    }
}

impl FromStr for Mistake {
    type Err = String;
    fn from_str(word: &str) -> Result<Self, Self::Err> {
        let words: Vec<_> = Self::ALL.iter().map(|(w, _)| *w).collect();
        let found = Self::ALL.iter().find(|(w, _)| *w == word).map(|(_, m)| *m);
        found.ok_or_else(|| format!("{word} is not a mistake. Use one of: {}.", words.join(", ")))
    }
}

/// Publishes a sheet in the customer's zone, taking away what stood at its
/// names before.
///
/// # Errors
/// If the mistake cannot be made with this sheet, or the name server refuses.
pub async fn publish(zones: &Zones, sheet: &Sheet, mistake: Option<Mistake>) -> anyhow::Result<()> {
    let mut changes = cleared(sheet);
    changes.extend(records(sheet, mistake)?);
    zones.update(&sheet.zone, &changes).await?;
    match mistake {
        Some(Mistake::NameUnregistered) => zones.delegate(&sheet.zone, &[]).await,
        Some(Mistake::Unreachable) => abandon(zones, &sheet.zone).await,
        _ => zones.delegate(&sheet.zone, &servers(Operator::of(&sheet.zone))).await,
    }
}

/// Leaves a zone delegated to a server that is gone.
///
/// # Errors
/// If the registry refuses.
pub async fn abandon(zones: &Zones, zone: &str) -> anyhow::Result<()> {
    let dead = format!("ns1.gone-{}", zone.replace('.', "-"));
    let parent = nomenta_core::names::parent(zone);
    zones.delegate(zone, &[(format!("{dead}.{parent}"), SILENT)]).await
}

/// Publishes the lines of one purpose alone.
///
/// # Errors
/// If the name server refuses.
pub async fn publish_only(zones: &Zones, sheet: &Sheet, purpose: Purpose) -> anyhow::Result<()> {
    let mut changes = cleared(sheet);
    for line in sheet.preferred(purpose) {
        changes.push(add(line)?);
    }
    zones.update(&sheet.zone, &changes).await
}

/// Takes everything on the sheet back.
///
/// # Errors
/// If the name server refuses.
pub async fn take_back(zones: &Zones, sheet: &Sheet) -> anyhow::Result<()> {
    zones.update(&sheet.zone, &cleared(sheet)).await
}

/// Deletes at every name that a sheet or a mistake may have used. At an apex
/// this leaves SOA and NS alone (RFC 2136, section 3.4.2.3).
fn cleared(sheet: &Sheet) -> Vec<Change> {
    let (host, zone) = (sheet.host.as_str(), &sheet.zone);
    let doubled = |name: &str| format!("{name}.{zone}");
    [host.to_owned(), sheet.challenge.clone(), doubled(host), doubled(&sheet.challenge)]
        .map(|owner| Change::Clear { owner })
        .into()
}

/// The lines of the preferred choices.
fn chosen(sheet: &Sheet) -> impl Iterator<Item = &Line> {
    sheet.preferred(Purpose::Ownership).chain(sheet.preferred(Purpose::Routing))
}

fn add(line: &Line) -> anyhow::Result<Change> {
    add_at(&line.owner, line)
}

fn add_at(owner: &str, line: &Line) -> anyhow::Result<Change> {
    let data = match line.rtype {
        RecordType::A => RecordData::A(line.value.parse()?),
        RecordType::Aaaa => RecordData::Aaaa(line.value.parse()?),
        RecordType::Cname => RecordData::Cname(line.value.clone()),
        RecordType::Txt => RecordData::Txt(line.value.clone()),
        other => bail!("A sheet has no {other} lines"),
    };
    Ok(Change::Add { owner: owner.to_owned(), ttl: TTL, data })
}

fn records(sheet: &Sheet, mistake: Option<Mistake>) -> anyhow::Result<Vec<Change>> {
    let host = sheet.host.as_str();
    let at_host = |data| Change::Add { owner: host.to_owned(), ttl: TTL, data };
    let ownership: Vec<_> = sheet.preferred(Purpose::Ownership).map(add).collect::<Result<_, _>>()?;
    let routing: Vec<_> = sheet.preferred(Purpose::Routing).map(add).collect::<Result<_, _>>()?;
    let right = || [ownership.clone(), routing.clone()].concat();
    let with = |extra: Vec<Change>| [ownership.clone(), extra].concat();
    let only_v4 = || sheet.preferred(Purpose::Routing).filter(|l| l.rtype == RecordType::A).map(add);
    Ok(match mistake {
        None | Some(Mistake::NameUnregistered | Mistake::Unreachable) => right(),
        Some(Mistake::HostDoubled) => {
            let doubled = |line: &Line| add_at(&format!("{}.{}", line.owner, sheet.zone), line);
            chosen(sheet).map(doubled).collect::<Result<_, _>>()?
        }
        Some(Mistake::TokenAltered) => {
            let cut =
                |line: &Line| Line { value: line.value[..line.value.len() - 6].to_owned(), ..line.clone() };
            let altered =
                sheet.preferred(Purpose::Ownership).map(|l| add(&cut(l))).collect::<Result<Vec<_>, _>>()?;
            [altered, routing].concat()
        }
        Some(Mistake::AddressForeign) => with(vec![at_host(RecordData::A(FORMER))]),
        Some(Mistake::AddressSurplus) => {
            ensure!(sheet.apex, "Surplus addresses can be published at an apex only");
            [right(), vec![at_host(RecordData::A(FORMER))]].concat()
        }
        Some(Mistake::AddressPartial) => {
            ensure!(sheet.apex, "Some of the addresses can be published at an apex only");
            with(routing[1..].to_vec())
        }
        Some(Mistake::Ipv6Stray) => {
            ensure!(sheet.apex, "A stray IPv6 address can be published at an apex only");
            let stray = at_host(RecordData::Aaaa("2001:db8::7".parse()?));
            [with(only_v4().collect::<Result<_, _>>()?), vec![stray]].concat()
        }
        Some(Mistake::CnameForeign) => {
            ensure!(!sheet.apex, "An alias can be published at a subdomain only");
            with(vec![at_host(RecordData::Cname("sites.formerhost.example".into()))])
        }
        Some(Mistake::CaaForbids) => {
            ensure!(sheet.apex, "CAA records can be published beside addresses, at an apex only");
            let tag = "issue".to_owned();
            let caa = RecordData::Caa { flags: 0, tag, value: "otherstamp-ca.example".into() };
            [right(), vec![at_host(caa)]].concat()
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mistakes_are_read_as_they_are_written() {
        for (word, mistake) in Mistake::ALL {
            assert_eq!(word.parse(), Ok(mistake));
            assert_eq!(mistake.to_string(), word);
        }
        assert!("typo".parse::<Mistake>().expect_err("unknown").contains("host-doubled"));
    }

    fn sheet(host: &str) -> Sheet {
        let line = |purpose, rtype, owner: &str, value: &str| Line {
            purpose,
            rtype,
            owner: owner.into(),
            host_field: String::new(),
            value: value.into(),
            ttl: 300,
        };
        let challenge = format!("_c.{host}");
        let apex = host == "onswick.example";
        let mut lines = vec![line(Purpose::Ownership, RecordType::Txt, &challenge, "token=abcdefghijkl")];
        if apex {
            lines.push(line(Purpose::Routing, RecordType::A, host, "127.77.0.10"));
            lines.push(line(Purpose::Routing, RecordType::A, host, "127.77.0.11"));
            lines.push(line(Purpose::Routing, RecordType::Aaaa, host, "::1"));
        } else {
            lines.push(line(Purpose::Routing, RecordType::Cname, host, "edge.quaymark.example"));
        }
        Sheet {
            host: host.parse().expect("valid"),
            zone: "onswick.example".into(),
            apex,
            challenge,
            canonical: "edge.quaymark.example".into(),
            lines,
        }
    }

    fn shown(host: &str, mistake: Option<Mistake>) -> Vec<String> {
        let changes = records(&sheet(host), mistake).expect("possible");
        changes
            .into_iter()
            .map(|change| match change {
                Change::Add { owner, data, .. } => format!("{owner} {} {data}", data.type_name()),
                Change::Clear { owner } => format!("{owner} cleared"),
            })
            .collect()
    }

    #[test]
    fn each_mistake_publishes_what_it_is_named_for() {
        let apex = "onswick.example";
        let right = [
            "_c.onswick.example TXT \"token=abcdefghijkl\"",
            "onswick.example A 127.77.0.10",
            "onswick.example A 127.77.0.11",
            "onswick.example AAAA ::1",
        ];
        assert_eq!(shown(apex, None), right);
        assert_eq!(shown(apex, Some(Mistake::Unreachable)), right);
        assert_eq!(shown(apex, Some(Mistake::TokenAltered))[0], "_c.onswick.example TXT \"token=abcdef\"");
        assert_eq!(shown(apex, Some(Mistake::AddressForeign))[1..], ["onswick.example A 192.0.2.7"]);
        assert_eq!(shown(apex, Some(Mistake::AddressSurplus))[4], "onswick.example A 192.0.2.7");
        assert_eq!(shown(apex, Some(Mistake::AddressPartial))[1..], right[2..]);
        assert_eq!(shown(apex, Some(Mistake::Ipv6Stray))[3], "onswick.example AAAA 2001:db8::7");
        assert_eq!(
            shown(apex, Some(Mistake::CaaForbids))[4],
            "onswick.example CAA 0 issue \"otherstamp-ca.example\""
        );
        let sub = "www.onswick.example";
        assert_eq!(
            shown(sub, Some(Mistake::CnameForeign))[1],
            "www.onswick.example CNAME sites.formerhost.example"
        );
        assert_eq!(
            shown(sub, Some(Mistake::HostDoubled))[1],
            "www.onswick.example.onswick.example CNAME edge.quaymark.example"
        );
    }

    #[test]
    fn a_mistake_that_the_sheet_has_no_place_for_is_refused() {
        for mistake in
            [Mistake::AddressSurplus, Mistake::AddressPartial, Mistake::Ipv6Stray, Mistake::CaaForbids]
        {
            assert!(records(&sheet("www.onswick.example"), Some(mistake)).is_err(), "{mistake}");
        }
        assert!(records(&sheet("onswick.example"), Some(Mistake::CnameForeign)).is_err());
    }

    #[test]
    fn publishing_clears_every_name_that_was_used_before() {
        let names: Vec<_> = cleared(&sheet("www.onswick.example"))
            .into_iter()
            .map(|change| match change {
                Change::Clear { owner } => owner,
                Change::Add { owner, .. } => panic!("{owner} is added"),
            })
            .collect();
        assert_eq!(
            names,
            [
                "www.onswick.example",
                "_c.www.onswick.example",
                "www.onswick.example.onswick.example",
                "_c.www.onswick.example.onswick.example",
            ]
        );
    }
}
