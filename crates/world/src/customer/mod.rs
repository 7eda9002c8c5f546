//! Customers who edit their zones: rightly, or wrongly in a chosen way.

pub mod mistakes;

use std::net::Ipv4Addr;

use anyhow::bail;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::{Choice, Line, Purpose};

pub use self::mistakes::Mistake;

use self::mistakes::Serving;
use crate::layout::{FORMER, Operator, SILENT};
use crate::zones::{Change, Zones, servers};

/// Short, so that a mended mistake is soon forgotten.
const TTL: u32 = 5;

/// Publishes a sheet in the customer's zone, taking away what stood at its
/// names before.
///
/// # Errors
/// If the mistake cannot be made with this sheet, or the name server refuses.
pub async fn publish(zones: &Zones, sheet: &Sheet, mistake: Option<Mistake>) -> anyhow::Result<()> {
    let wanted = records(sheet, mistake)?;
    let host = sheet.host.as_str();
    let zone = sheet.host.registered();

    if !sheet.apex || sheet.zone != zone {
        zones.uncut(host, zone).await?;
    }

    let mut changes = cleared(sheet);
    changes.extend(wanted);
    zones.update(zone, &changes).await?;

    let own = servers(Operator::of(zone));
    match mistake.map_or(Serving::Own, |mistake| (mistake.slip().serving)(zone)) {
        Serving::Own => zones.serve_at(zone, &own).await,
        Serving::At(servers) => zones.serve_at(zone, &servers).await,
        Serving::Delegated(servers) => zones.delegate(zone, &servers).await,
        Serving::Otherwise(servers) => {
            zones.serve_at(zone, &own).await?;
            zones.delegate(zone, &servers).await
        }
        Serving::CutAway => {
            zones.cut(host, zone).await?;
            zones.serve_at(zone, &own).await
        }
        Serving::Signed => {
            zones.serve_at(zone, &own).await?;
            let data = RecordData::Ds(4711);
            let signer = Change::Add { owner: zone.to_owned(), ttl: TTL, data };
            zones.update(dns::parent(zone), &[signer]).await
        }
    }
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
    let data = mail(&zone.into());
    zones.update(zone, &[Change::Add { owner: zone.to_owned(), ttl: TTL, data }]).await
}

fn mail(zone: &DnsName) -> RecordData {
    RecordData::Mx { preference: 10, exchange: zone.child("mx") }
}

/// Leaves a zone delegated to a server that is gone.
///
/// # Errors
/// If the registry refuses.
pub async fn abandon(zones: &Zones, zone: &str) -> anyhow::Result<()> {
    zones.delegate(zone, &[gone(zone)]).await
}

/// A server that is gone.
fn gone(zone: &str) -> (String, Ipv4Addr) {
    (format!("ns1.gone-{}.{}", zone.replace('.', "-"), dns::parent(zone)), SILENT)
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

/// Publishes the lines of one purpose, and takes nothing away.
///
/// # Errors
/// If the name server refuses.
pub async fn publish_only_also(zones: &Zones, sheet: &Sheet, purpose: Purpose) -> anyhow::Result<()> {
    let changes = chosen(sheet, purpose).into_iter().map(add).collect::<Result<Vec<_>, _>>()?;
    zones.update(sheet.host.registered(), &changes).await
}

/// Takes the lines of one purpose back, and leaves what stands beside them.
///
/// # Errors
/// If the name server refuses.
pub async fn withdraw(zones: &Zones, sheet: &Sheet, purpose: Purpose) -> anyhow::Result<()> {
    let mut changes = Vec::new();
    for line in chosen(sheet, purpose) {
        if let Change::Add { owner, data, .. } = add(line)? {
            changes.push(Change::Remove { owner, data });
        }
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
    let zone = sheet.host.registered();
    let host = DnsName::from(&sheet.host);
    let names = [
        host.clone(),
        sheet.routed.clone(),
        host.child("_acme-challenge"),
        sheet.challenge.clone(),
        doubled(&host, zone),
        doubled(&sheet.challenge, zone),
        misplaced(sheet),
        DnsName::from(dns::parent(&host)).child("*"),
    ];

    let within = names.into_iter().filter(|owner| owner.is_within(zone));
    within.map(|owner| Change::Clear { owner: owner.to_string() }).collect()
}

/// A name with its zone after it once more.
fn doubled(name: &DnsName, zone: &str) -> DnsName {
    DnsName::from(zone).child(name)
}

/// The challenge label without its underscore, which some editors refuse.
fn misplaced(sheet: &Sheet) -> DnsName {
    sheet.challenge.trim_start_matches('_').into()
}

/// The lines that a customer publishes: those of the preferred choices, and the
/// addresses that an editor makes of an alias.
fn chosen(sheet: &Sheet, purpose: Purpose) -> Vec<&Line> {
    match sheet.choices(purpose).first() {
        Some(Choice::Alias) | None => sheet.by(Choice::Addresses).collect(),
        Some(choice) => sheet.by(*choice).collect(),
    }
}

fn add(line: &Line) -> anyhow::Result<Change> {
    add_at(&line.owner, line)
}

fn add_at(owner: &DnsName, line: &Line) -> anyhow::Result<Change> {
    let data = match line.rtype {
        RecordType::A => RecordData::A(line.value.parse()?),
        RecordType::Aaaa => RecordData::Aaaa(line.value.parse()?),
        RecordType::Cname => RecordData::Cname(line.value.as_str().into()),
        RecordType::Txt => RecordData::Txt(line.value.as_str().into()),
        other => bail!("A sheet has no {other} lines"),
    };
    Ok(Change::Add { owner: owner.to_string(), ttl: TTL, data })
}

fn records(sheet: &Sheet, mistake: Option<Mistake>) -> anyhow::Result<Vec<Change>> {
    let right = Right::of(sheet)?;
    match mistake {
        None => as_on_the_sheet(&right),
        Some(mistake) => {
            let slip = mistake.slip();
            slip.place.admit(mistake, sheet.apex)?;
            (slip.records)(&right)
        }
    }
}

/// Everything, rightly.
fn as_on_the_sheet(right: &Right<'_>) -> anyhow::Result<Vec<Change>> {
    Ok([&right.ownership[..], &right.routing, &right.certificate].concat())
}

/// What the sheet asks for, from which a mistake departs.
struct Right<'a> {
    sheet: &'a Sheet,
    ownership: Vec<Change>,
    routing: Vec<Change>,
    certificate: Vec<Change>,
}

impl<'a> Right<'a> {
    fn of(sheet: &'a Sheet) -> anyhow::Result<Self> {
        Ok(Self {
            sheet,
            ownership: chosen(sheet, Purpose::Ownership).into_iter().map(add).collect::<Result<_, _>>()?,
            routing: chosen(sheet, Purpose::Routing).into_iter().map(add).collect::<Result<_, _>>()?,
            certificate: sheet.of(Purpose::Certificate).map(add).collect::<Result<_, _>>()?,
        })
    }

    /// Everything, and one record more at the host.
    fn beside(&self, data: RecordData) -> Vec<Change> {
        [&self.ownership[..], &self.routing, &self.certificate, &[self.at_host(data)]].concat()
    }

    /// The token, and one record at the host instead of what leads here.
    fn instead_of_routing(&self, data: RecordData) -> Vec<Change> {
        [&self.ownership[..], &[self.at_host(data)]].concat()
    }

    fn at_host(&self, data: RecordData) -> Change {
        Change::Add { owner: self.sheet.host.to_string(), ttl: TTL, data }
    }

    /// The lines of token and routing.
    fn lines(&self) -> impl Iterator<Item = &'a Line> {
        [Purpose::Ownership, Purpose::Routing].into_iter().flat_map(|purpose| chosen(self.sheet, purpose))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(host: &str) -> Sheet {
        let apex = host == "onswick.example";
        let challenge = format!("_c.{host}");
        let line = |purpose, choice, rtype, owner: &str, value: &str| Line {
            purpose,
            choice,
            rtype,
            owner: owner.into(),
            host_field: String::new(),
            value: value.into(),
            value_field: value.into(),
            ttl: 300,
            required: true,
        };

        let mut lines = vec![line(
            Purpose::Ownership,
            Choice::ChallengeTxt,
            RecordType::Txt,
            &challenge,
            "token=abcdefghijkl",
        )];

        let mut routing =
            |choice, rtype, value| lines.push(line(Purpose::Routing, choice, rtype, host, value));
        if !apex {
            routing(Choice::Cname, RecordType::Cname, "edge.quaymark.example");
        }

        routing(Choice::Addresses, RecordType::A, "127.77.0.10");
        routing(Choice::Addresses, RecordType::A, "127.77.0.11");
        routing(Choice::Addresses, RecordType::Aaaa, "::1");

        Sheet {
            host: host.parse().expect("valid"),
            zone: "onswick.example".into(),
            apex,
            routed: host.into(),
            challenge: challenge.as_str().into(),
            canonical: "edge.quaymark.example".into(),
            form: None,
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
