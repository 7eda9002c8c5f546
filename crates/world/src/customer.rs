//! Customers who edit their zones: rightly, or wrongly in a chosen way.

use std::fmt;
use std::str::FromStr;

use anyhow::{bail, ensure};
use nomenta_core::name::dns;
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::sheet::{Line, Purpose, Sheet, Way};

use crate::forwarder::FORWARDER;
use crate::front::FRONT;
use crate::layout::{FORMER, FORMER_HOST, HARROW, Operator, PLATFORM, SILENT, TIDEWELL};
use crate::odd::{self, Manner};
use crate::zones::{Change, Zones, servers};

/// Short, so that a mended mistake is soon forgotten.
const TTL: u32 = 5;

/// A way to get it wrong, named like the finding that it leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the catalogue of findings describes each")]
pub enum Mistake {
    HostDoubled,
    ValueDoubled,
    TokenAltered,
    TokenMisplaced,
    WrongType,
    ForwardingElsewhere,
    Fronted,
    AddressForeign,
    AddressSurplus,
    AddressPartial,
    Ipv6Stray,
    CnameForeign,
    CnameBesideOthers,
    CnameAtApex,
    CnameChainBroken,
    ChoicesMixed,
    WildcardAnswers,
    DelegatedAway,
    HttpsRecordStray,
    MailAtRisk,
    MailLost,
    CaaForbids,
    NameUnregistered,
    Unreachable,
    ServerLame,
    ServersDisagree,
    DelegationMismatch,
    DnssecBroken,
}

impl Mistake {
    /// Every mistake, with the word for it.
    pub const ALL: [(&'static str, Self); 28] = [
        ("host-doubled", Self::HostDoubled),
        ("value-doubled", Self::ValueDoubled),
        ("token-altered", Self::TokenAltered),
        ("token-misplaced", Self::TokenMisplaced),
        ("wrong-type", Self::WrongType),
        ("forwarding-elsewhere", Self::ForwardingElsewhere),
        ("fronted", Self::Fronted),
        ("address-foreign", Self::AddressForeign),
        ("address-surplus", Self::AddressSurplus),
        ("address-partial", Self::AddressPartial),
        ("ipv6-stray", Self::Ipv6Stray),
        ("cname-foreign", Self::CnameForeign),
        ("cname-beside-others", Self::CnameBesideOthers),
        ("cname-at-apex", Self::CnameAtApex),
        ("cname-chain-broken", Self::CnameChainBroken),
        ("choices-mixed", Self::ChoicesMixed),
        ("wildcard-answers", Self::WildcardAnswers),
        ("delegated-away", Self::DelegatedAway),
        ("https-record-stray", Self::HttpsRecordStray),
        ("mail-at-risk", Self::MailAtRisk),
        ("mail-lost", Self::MailLost),
        ("caa-forbids", Self::CaaForbids),
        ("name-unregistered", Self::NameUnregistered),
        ("unreachable", Self::Unreachable),
        ("server-lame", Self::ServerLame),
        ("servers-disagree", Self::ServersDisagree),
        ("delegation-mismatch", Self::DelegationMismatch),
        ("dnssec-broken", Self::DnssecBroken),
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
    let wanted = records(sheet, mistake)?;
    let (host, zone) = (sheet.host.as_str(), sheet.host.registered());
    if !sheet.apex || sheet.zone != zone {
        zones.uncut(host, zone).await?;
    }
    let mut changes = cleared(sheet);
    changes.extend(wanted);
    zones.update(zone, &changes).await?;
    let right = servers(Operator::of(zone));
    match mistake {
        Some(Mistake::NameUnregistered) => return zones.delegate(zone, &[]).await,
        Some(Mistake::Unreachable) => return abandon(zones, zone).await,
        Some(Mistake::DelegatedAway) => zones.cut(host, zone).await?,
        Some(Mistake::DelegationMismatch) => {
            let other = if Operator::of(zone) == HARROW { TIDEWELL } else { HARROW };
            let listed = vec![right[0].clone(), servers(other)[0].clone()];
            zones.serve_at(zone, &right).await?;
            return zones.delegate(zone, &listed).await;
        }
        Some(Mistake::ChoicesMixed) => {
            let half = vec![right[0].clone(), servers(PLATFORM)[0].clone()];
            return zones.serve_at(zone, &half).await;
        }
        _ => {}
    }
    let with = |manner| vec![right[0].clone(), odd::server(manner)];
    match mistake {
        Some(Mistake::ServerLame) => zones.serve_at(zone, &with(Manner::Lame)).await?,
        Some(Mistake::ServersDisagree) => zones.serve_at(zone, &with(Manner::Behind)).await?,
        Some(Mistake::CnameAtApex) => zones.serve_at(zone, &[odd::server(Manner::Alias)]).await?,
        _ => zones.serve_at(zone, &right).await?,
    }
    if mistake == Some(Mistake::DnssecBroken) {
        let data = RecordData::Ds(4711);
        let signer = Change::Add { owner: zone.to_owned(), ttl: TTL, data };
        zones.update(dns::parent(zone), &[signer]).await?;
    }
    Ok(())
}

/// Publishes a further sheet in a zone, and takes nothing away.
///
/// # Errors
/// If the name server refuses.
pub async fn publish_also(zones: &Zones, sheet: &Sheet) -> anyhow::Result<()> {
    zones.update(sheet.host.registered(), &records(sheet, None)?).await
}

/// Lets a host stand at the former host, with a TTL in seconds.
///
/// # Errors
/// If the name server refuses.
pub async fn stand_elsewhere(zones: &Zones, host: &str, zone: &str, ttl: u32) -> anyhow::Result<()> {
    zones.update(zone, &[Change::Add { owner: host.to_owned(), ttl, data: RecordData::A(FORMER) }]).await
}

/// Gives a zone mail, as it has before its owner comes to the platform.
///
/// # Errors
/// If the name server refuses.
pub async fn have_mail(zones: &Zones, zone: &str) -> anyhow::Result<()> {
    zones.update(zone, &[Change::Add { owner: zone.to_owned(), ttl: TTL, data: mail(zone) }]).await
}

fn mail(zone: &str) -> RecordData {
    RecordData::Mx { preference: 10, exchange: format!("mx.{zone}") }
}

/// Leaves a zone delegated to a server that is gone.
///
/// # Errors
/// If the registry refuses.
pub async fn abandon(zones: &Zones, zone: &str) -> anyhow::Result<()> {
    let dead = format!("ns1.gone-{}", zone.replace('.', "-"));
    let parent = dns::parent(zone);
    zones.delegate(zone, &[(format!("{dead}.{parent}"), SILENT)]).await
}

/// Publishes the lines of one purpose alone.
///
/// # Errors
/// If the name server refuses.
pub async fn publish_only(zones: &Zones, sheet: &Sheet, purpose: Purpose) -> anyhow::Result<()> {
    let mut changes = cleared(sheet);
    for line in chosen(sheet, purpose) {
        changes.push(add(line)?);
    }
    zones.update(sheet.host.registered(), &changes).await
}

/// Takes everything on the sheet back.
///
/// # Errors
/// If the name server refuses.
pub async fn take_back(zones: &Zones, sheet: &Sheet) -> anyhow::Result<()> {
    zones.update(sheet.host.registered(), &cleared(sheet)).await
}

/// Deletes at every name that a sheet or a mistake may have used. At an apex
/// this leaves SOA and NS alone (RFC 2136, section 3.4.2.3).
fn cleared(sheet: &Sheet) -> Vec<Change> {
    let (host, zone) = (sheet.host.as_str(), sheet.host.registered());
    let doubled = |name: &str| format!("{name}.{zone}");
    [
        host.to_owned(),
        sheet.routed.clone(),
        format!("_acme-challenge.{host}"),
        sheet.challenge.clone(),
        doubled(host),
        doubled(&sheet.challenge),
        misplaced(sheet),
        format!("*.{}", dns::parent(host)),
    ]
    .into_iter()
    .filter(|owner| dns::is_within(owner, zone))
    .map(|owner| Change::Clear { owner })
    .collect()
}

/// The challenge label without its underscore, which some editors refuse.
fn misplaced(sheet: &Sheet) -> String {
    sheet.challenge.trim_start_matches('_').to_owned()
}

/// The lines that a customer publishes: those of the preferred choices, and the
/// addresses that an editor makes of an alias.
fn chosen(sheet: &Sheet, purpose: Purpose) -> Vec<&Line> {
    match sheet.ways(purpose).first() {
        Some(Way::Alias) | None => sheet.by(Way::Addresses).collect(),
        Some(way) => sheet.by(*way).collect(),
    }
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
    let ownership: Vec<_> =
        chosen(sheet, Purpose::Ownership).into_iter().map(add).collect::<Result<_, _>>()?;
    let routing: Vec<_> = chosen(sheet, Purpose::Routing).into_iter().map(add).collect::<Result<_, _>>()?;
    let certificate: Vec<_> = sheet.of(Purpose::Certificate).map(add).collect::<Result<_, _>>()?;
    let right = || [ownership.clone(), routing.clone(), certificate.clone()].concat();
    let with = |extra: Vec<Change>| [ownership.clone(), extra].concat();
    let only_v4 =
        || chosen(sheet, Purpose::Routing).into_iter().filter(|l| l.rtype == RecordType::A).map(add);
    let sub = |what: &str| -> anyhow::Result<()> {
        ensure!(!sheet.apex, "{what} can be published at a subdomain only");
        Ok(())
    };
    let apex = |what: &str| -> anyhow::Result<()> {
        ensure!(sheet.apex, "{what} can be published at an apex only");
        Ok(())
    };
    let alias = |target: String| at_host(RecordData::Cname(target));
    Ok(match mistake {
        None
        | Some(
            Mistake::NameUnregistered
            | Mistake::Unreachable
            | Mistake::ServerLame
            | Mistake::ServersDisagree
            | Mistake::DelegationMismatch
            | Mistake::DnssecBroken
            | Mistake::ChoicesMixed
            | Mistake::MailLost,
        ) => right(),
        Some(Mistake::CnameAtApex) => {
            apex("A CNAME in the zone's own place")?;
            right()
        }
        Some(Mistake::DelegatedAway) => {
            sub("A name cut away")?;
            Vec::new()
        }
        Some(Mistake::HostDoubled) => {
            let doubled = |line: &Line| add_at(&format!("{}.{}", line.owner, sheet.zone), line);
            [Purpose::Ownership, Purpose::Routing]
                .into_iter()
                .flat_map(|purpose| chosen(sheet, purpose))
                .map(doubled)
                .collect::<Result<_, _>>()?
        }
        Some(Mistake::TokenAltered) => {
            let cut =
                |line: &Line| Line { value: line.value[..line.value.len() - 6].to_owned(), ..line.clone() };
            let altered = chosen(sheet, Purpose::Ownership)
                .into_iter()
                .map(|l| add(&cut(l)))
                .collect::<Result<Vec<_>, _>>()?;
            [altered, routing].concat()
        }
        Some(Mistake::TokenMisplaced) => {
            let place = misplaced(sheet);
            let token = chosen(sheet, Purpose::Ownership).into_iter().map(|line| add_at(&place, line));
            [token.collect::<Result<Vec<_>, _>>()?, routing].concat()
        }
        Some(Mistake::WrongType) => {
            sub("A target as text")?;
            with(vec![at_host(RecordData::Txt(sheet.canonical.clone()))])
        }
        Some(Mistake::ValueDoubled) => {
            sub("An alias")?;
            with(vec![alias(format!("{}.{}", sheet.canonical, sheet.zone))])
        }
        Some(Mistake::CnameBesideOthers) => {
            sub("Text in the place of an alias")?;
            with(vec![at_host(RecordData::Txt("checked-by=former-host".into()))])
        }
        Some(Mistake::CnameForeign) => {
            sub("An alias")?;
            with(vec![alias(format!("sites.{FORMER_HOST}"))])
        }
        Some(Mistake::CnameChainBroken) => {
            sub("An alias")?;
            with(vec![alias(format!("old-sites.{FORMER_HOST}"))])
        }
        Some(Mistake::MailAtRisk) => {
            sub("Mail beside the site")?;
            with(vec![at_host(mail(&sheet.zone))])
        }
        Some(Mistake::WildcardAnswers) => {
            sub("A wildcard in its place")?;
            let owner = format!("*.{}", dns::parent(host));
            vec![Change::Add { owner, ttl: TTL, data: RecordData::A(FORMER) }]
        }
        Some(Mistake::HttpsRecordStray) => {
            apex("An HTTPS record beside addresses")?;
            let hints = vec![FORMER.into()];
            let data = RecordData::Https { priority: 1, target: String::new(), hints };
            [right(), vec![at_host(data)]].concat()
        }
        Some(Mistake::ForwardingElsewhere) => with(vec![at_host(RecordData::A(FORWARDER))]),
        Some(Mistake::Fronted) => with(vec![at_host(RecordData::A(FRONT))]),
        Some(Mistake::AddressForeign) => with(vec![at_host(RecordData::A(FORMER))]),
        Some(Mistake::AddressSurplus) => {
            apex("Surplus addresses")?;
            [right(), vec![at_host(RecordData::A(FORMER))]].concat()
        }
        Some(Mistake::AddressPartial) => {
            apex("Some of the addresses")?;
            with(routing[1..].to_vec())
        }
        Some(Mistake::Ipv6Stray) => {
            apex("A stray IPv6 address")?;
            let stray = at_host(RecordData::Aaaa("2001:db8::7".parse()?));
            [with(only_v4().collect::<Result<_, _>>()?), vec![stray]].concat()
        }
        Some(Mistake::CaaForbids) => {
            apex("CAA records beside addresses")?;
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
        let line = |purpose, way, rtype, owner: &str, value: &str| Line {
            purpose,
            way,
            rtype,
            owner: owner.into(),
            host_field: String::new(),
            value: value.into(),
            value_field: value.into(),
            ttl: 300,
            required: true,
        };
        let challenge = format!("_c.{host}");
        let apex = host == "onswick.example";
        let (token, ownership) = ("token=abcdefghijkl", Purpose::Ownership);
        let mut lines = vec![line(ownership, Way::ChallengeTxt, RecordType::Txt, &challenge, token)];
        let mut routing = |way, rtype, value| lines.push(line(Purpose::Routing, way, rtype, host, value));
        if !apex {
            routing(Way::Cname, RecordType::Cname, "edge.quaymark.example");
        }
        routing(Way::Addresses, RecordType::A, "127.77.0.10");
        routing(Way::Addresses, RecordType::A, "127.77.0.11");
        routing(Way::Addresses, RecordType::Aaaa, "::1");
        Sheet {
            host: host.parse().expect("valid"),
            zone: "onswick.example".into(),
            apex,
            routed: host.into(),
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
                Change::Remove { owner, .. } => format!("{owner} removed"),
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
                Change::Add { owner, .. } | Change::Remove { owner, .. } => panic!("{owner} is no clearing"),
            })
            .collect();
        assert_eq!(
            names,
            [
                "www.onswick.example",
                "www.onswick.example",
                "_acme-challenge.www.onswick.example",
                "_c.www.onswick.example",
                "www.onswick.example.onswick.example",
                "_c.www.onswick.example.onswick.example",
                "c.www.onswick.example",
                "*.onswick.example",
            ]
        );
    }
}
