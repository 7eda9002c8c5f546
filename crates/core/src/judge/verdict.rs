//! A sheet line against what one source reads.

use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::{Record, RecordType};
use crate::reading::survey::Survey;
use crate::reading::view::HostView;
use crate::sheet::Sheet;
use crate::sheet::ingress::Ingress;
use crate::sheet::line::{Choice, Line, Purpose};

crate::spelled! {
    /// How a reading compares with what is expected.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Verdict: "verdict" {
        /// Exactly what is expected.
        Match = "match",
        /// Nothing is there.
        Absent = "absent",
        /// Some of what is expected, or more than that.
        Partial = "partial",
        /// Something else is there.
        Differs = "differs",
        /// No usable answer.
        Unreadable = "unreadable",
    }
}

/// One cell of the table "expected beside read".
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cell {
    /// Who was asked.
    pub source: Source,
    /// How it compares.
    pub verdict: Verdict,
    /// What was read, as zone files write values; or why nothing was.
    pub read: Vec<String>,
    /// The shortest TTL left among them, in seconds.
    pub ttl: Option<u32>,
}

/// Judges `line` at every source that was asked for its name and type.
///
/// A CNAME shows in answers about other types, so those are what it is held
/// against. An alias at the apex leaves no record of its own to be judged.
pub fn judge(sheet: &Sheet, line: &Line, survey: &Survey) -> Vec<Cell> {
    let asked = match (line.choice, line.rtype) {
        (Choice::Alias | Choice::Delegation, _) => return Vec::new(),
        (Choice::ChallengeCname | Choice::AcmeCname, _) => RecordType::Txt,
        (_, RecordType::Cname) => RecordType::A,
        (_, other) => other,
    };
    survey.of(&line.owner, asked).map(|reading| judge_one(sheet, line, reading)).collect()
}

fn judge_one(sheet: &Sheet, line: &Line, reading: &Reading) -> Cell {
    let source = reading.source.clone();
    let Some(answer) = reading.answer() else {
        let read = reading.failure().into_iter().collect();
        return Cell { source, verdict: Verdict::Unreadable, read, ttl: None };
    };

    // A vantage's chain ends in addresses of the canonical host; only what the
    // customer published at the owner counts here.
    let own: Vec<_> = answer.iter().filter(|r| r.owner == line.owner).collect();
    let read = own.iter().map(|record| record.data.typed()).collect();
    let ttl = own.iter().map(|record| record.ttl).min();
    Cell { source, verdict: compare(sheet, line, &own), read, ttl }
}

fn compare(sheet: &Sheet, line: &Line, own: &[&Record]) -> Verdict {
    let is_met = own.iter().any(|record| line.is_met_by(&record.data));
    let has_strangers = own.iter().any(|r| !sheet.of(line.purpose).any(|l| l.is_met_by(&r.data)));

    if is_met {
        let is_enough = !has_strangers || line.purpose == Purpose::Ownership;
        return if is_enough { Verdict::Match } else { Verdict::Partial };
    }
    // Other TXT records at the host are its own business.
    if has_strangers && line.choice != Choice::HostTxt { Verdict::Differs } else { Verdict::Absent }
}

/// What routing is held against.
#[derive(Clone, Debug)]
pub struct Expected<'a> {
    apex: bool,
    canonical: DnsName,
    ingress: &'a Ingress,
    alias: (BTreeSet<Ipv4Addr>, BTreeSet<Ipv6Addr>),
    delegated: bool,
}

impl<'a> Expected<'a> {
    /// What `sheet` asks for, with the addresses that the canonical host has
    /// at the time of `survey`.
    pub fn new(sheet: &Sheet, ingress: &'a Ingress, survey: &Survey) -> Self {
        let delegated = survey.delegation().is_some_and(|delegation| {
            !delegation.servers.is_empty() && delegation.servers == ingress.name_servers
        });
        Self {
            apex: sheet.apex,
            canonical: sheet.canonical.clone(),
            ingress,
            alias: survey.addresses_of(&sheet.canonical),
            delegated: sheet.apex && delegated,
        }
    }

    /// Judges one source's view of the host against one choice met exactly: a
    /// CNAME; all addresses and no others; at an apex, an alias that resolves
    /// to what the canonical host does, or a delegation.
    pub fn routing(&self, view: Option<&HostView>) -> Verdict {
        let Some(view) = view else { return Verdict::Unreadable };
        if self.delegated {
            return Verdict::Match;
        }
        if view.cname().is_some() {
            return self.by_alias(view);
        }
        if view.has_no_address() {
            return Verdict::Absent;
        }
        self.by_address(view)
    }

    fn by_alias(&self, view: &HostView) -> Verdict {
        // An alias of a name with all of our addresses is as good as they are.
        let leads_here = view.chain.contains(&self.canonical)
            || (self.ingress.subdomain_addresses && self.has_all_addresses(view));
        if self.apex || !leads_here {
            return Verdict::Differs;
        }
        if view.beside { Verdict::Partial } else { Verdict::Match }
    }

    fn by_address(&self, view: &HostView) -> Verdict {
        let may_have = self.apex || self.ingress.subdomain_addresses;
        if (may_have && self.has_all_addresses(view)) || self.is_flattened(view) {
            return Verdict::Match;
        }

        let shares_any =
            !view.ipv4.is_disjoint(&self.ingress.ipv4) || !view.ipv6.is_disjoint(&self.ingress.ipv6);
        if may_have && shares_any { Verdict::Partial } else { Verdict::Differs }
    }

    /// Whether the view has every address of the ingress, and no other.
    pub fn has_all_addresses(&self, view: &HostView) -> bool {
        view.ipv4 == self.ingress.ipv4 && view.ipv6 == self.ingress.ipv6
    }

    /// Whether visitors arrive by an alias that was turned into addresses, which are not those
    /// of the ingress.
    pub fn is_by_alias(&self, view: &HostView) -> bool {
        let is_alone = !self.delegated && view.cname().is_none() && !view.has_no_address();
        is_alone && self.is_flattened(view) && !self.has_all_addresses(view)
    }

    /// Whether the addresses are those that an alias would come to.
    fn is_flattened(&self, view: &HostView) -> bool {
        let (ipv4, ipv6) = &self.alias;
        self.apex && view.ipv4 == *ipv4 && view.ipv6 == *ipv6
    }
}

/// Whether one source's answers hold the token, in any of the three ways.
pub fn ownership(sheet: &Sheet, survey: &Survey, source: &Source) -> Verdict {
    let mut answered = false;

    for line in sheet.of(Purpose::Ownership) {
        // Where an alias leads counts: whoever published it chose who may answer.
        let Some(texts) = survey.texts(source, &line.owner) else { continue };

        answered |= line.owner == sheet.challenge;
        if texts.iter().any(|record| line.is_met_by(&record.data)) {
            return Verdict::Match;
        }
    }

    if answered { Verdict::Absent } else { Verdict::Unreadable }
}

/// Whether a vantage has checked the signature of the answer that holds the token (RFC 4035,
/// section 3.2.3). What else it finds in the zone does not matter: a host that is an alias of the
/// platform's unsigned zone never has its answers authenticated.
///
/// Where the token is behind an alias that leads into an unsigned zone, the alias itself is what
/// the customer signed, and an answer about it alone is what has to be checked.
pub fn is_proof_checked(sheet: &Sheet, survey: &Survey, vantage: &Source) -> bool {
    sheet.of(Purpose::Ownership).any(|line| {
        let texts = survey.texts(vantage, &line.owner).unwrap_or_default();
        let is_met = texts.iter().any(|record| line.is_met_by(&record.data));
        is_met
            && [RecordType::Txt, RecordType::Cname].iter().any(|rtype| {
                let mut readings =
                    survey.of(&line.owner, *rtype).filter(|reading| reading.source == *vantage);
                readings.any(|reading| reading.authentic && holds_any_at(reading, &line.owner))
            })
    })
}

/// Whether an answer has a record at the name itself.
fn holds_any_at(reading: &Reading, name: &DnsName) -> bool {
    reading.answer().unwrap_or_default().iter().any(|record| record.owner == *name)
}

/// The addresses of a host view sorted by whose they are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AddressSplit {
    /// Ours, published.
    pub ours_v4: BTreeSet<Ipv4Addr>,
    /// Not ours.
    pub foreign_v4: BTreeSet<Ipv4Addr>,
    /// Ours, not published.
    pub missing_v4: BTreeSet<Ipv4Addr>,
    /// Ours, published.
    pub ours_v6: BTreeSet<Ipv6Addr>,
    /// Not ours.
    pub foreign_v6: BTreeSet<Ipv6Addr>,
    /// Ours, not published.
    pub missing_v6: BTreeSet<Ipv6Addr>,
}

impl AddressSplit {
    /// Sorts what `view` holds.
    pub fn of(view: &HostView, ingress: &Ingress) -> Self {
        Self {
            ours_v4: &view.ipv4 & &ingress.ipv4,
            foreign_v4: &view.ipv4 - &ingress.ipv4,
            missing_v4: &ingress.ipv4 - &view.ipv4,
            ours_v6: &view.ipv6 & &ingress.ipv6,
            foreign_v6: &view.ipv6 - &ingress.ipv6,
            missing_v6: &ingress.ipv6 - &view.ipv6,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::record::RecordData;
    use crate::test;

    fn held_against(host: &str, view: &HostView) -> Verdict {
        let (sheet, ingress, survey) = (test::sheet(host), test::ingress(), test::survey(host, &[]));
        Expected::new(&sheet, &ingress, &survey).routing(Some(view))
    }

    #[test]
    fn addresses_are_met_by_all_of_them_and_no_others() {
        for (v4, v6, want) in [
            (&["127.77.0.10", "127.77.0.11"][..], &["::1"][..], Verdict::Match),
            (&["127.77.0.11", "127.77.0.10"], &["0:0:0:0:0:0:0:1"], Verdict::Match),
            (&["127.77.0.10"], &["::1"], Verdict::Partial),
            (&["127.77.0.10", "127.77.0.11", "192.0.2.7"], &["::1"], Verdict::Partial),
            (&["192.0.2.7"], &[], Verdict::Differs),
            (&[], &[], Verdict::Absent),
        ] {
            assert_eq!(held_against("onswick.example", &test::view(v4, v6)), want, "{v4:?} {v6:?}");
        }
        let (sheet, ingress) = (test::sheet("onswick.example"), test::ingress());
        let survey = test::survey("onswick.example", &[]);
        assert_eq!(Expected::new(&sheet, &ingress, &survey).routing(None), Verdict::Unreadable);
    }

    #[test]
    fn a_cname_may_lead_here_over_another_name_but_not_at_an_apex() {
        let chain = |targets: &[&str]| HostView {
            chain: targets.iter().map(DnsName::new).collect(),
            ..HostView::default()
        };
        let ours = "onswick.edge.quaymark.example";
        let host = "timetable.onswick.example";
        assert_eq!(held_against(host, &chain(&[ours])), Verdict::Match);
        assert_eq!(held_against(host, &chain(&["www.onswick.example", ours])), Verdict::Match);
        assert_eq!(held_against(host, &chain(&["shop.harrowhost.example"])), Verdict::Differs);
        assert_eq!(held_against("onswick.example", &chain(&[ours])), Verdict::Differs);
    }

    #[test]
    fn an_alias_is_met_by_what_the_canonical_host_has_at_the_time() {
        let (sheet, ingress) = (test::sheet("onswick.example"), test::ingress());
        let mut survey = test::survey("onswick.example", &[]);
        let a = RecordData::A([127, 77, 0, 99].into());
        survey.readings.push(test::seen("north", &sheet.canonical, RecordType::A, &[a]));
        let expected = Expected::new(&sheet, &ingress, &survey);
        assert_eq!(expected.routing(Some(&test::view(&["127.77.0.99"], &[]))), Verdict::Match);
        assert_eq!(expected.routing(Some(&test::view(&["127.77.0.98"], &[]))), Verdict::Differs);
    }

    #[test]
    fn a_zone_at_our_name_servers_is_routed_whatever_it_holds() {
        let (sheet, ingress) = (test::sheet("onswick.example"), test::ingress());
        let mut survey = test::survey("onswick.example", &[]);
        for (servers, want) in [
            (&["ns1.quaymark.example", "ns2.quaymark.example"][..], Verdict::Match),
            (&["ns1.quaymark.example"], Verdict::Absent),
        ] {
            survey.zone = test::delegated("onswick.example", "example", servers);
            let expected = Expected::new(&sheet, &ingress, &survey);
            assert_eq!(expected.routing(Some(&HostView::default())), want);
        }
    }

    #[test]
    fn any_of_the_three_ways_proves_ownership() {
        let (host, token) = ("onswick.example", test::token());
        for (line, want) in [
            (format!("_quaymark-challenge TXT {}", token.txt_value()), Verdict::Match),
            (format!("_quaymark-challenge CNAME {}.proof.quaymark.example", token.as_str()), Verdict::Match),
            (format!("@ TXT {}", token.txt_value()), Verdict::Match),
            ("@ TXT v=spf1 -all".into(), Verdict::Absent),
        ] {
            let survey = test::survey(host, &[&line]);
            let source = survey.sources().into_iter().next().expect("one").clone();
            assert_eq!(ownership(&test::sheet(host), &survey, &source), want, "{line}");
        }
    }

    #[test]
    fn each_line_is_judged_at_each_source() {
        let survey = test::survey("onswick.example", &["@ A 127.77.0.10", "@ A 192.0.2.7"]);
        let sheet = test::sheet("onswick.example");
        let verdicts: Vec<_> = sheet
            .lines
            .iter()
            .map(|line| judge(&sheet, line, &survey).first().map(|cell| cell.verdict))
            .collect();
        use Verdict::{Absent, Differs, Partial};
        let want = [Absent, Absent, Absent, Partial, Differs, Absent].map(Some);
        assert_eq!(verdicts[..6], want);
        assert_eq!(verdicts[6..], [None; 3], "an alias and a delegation leave no record to judge");
    }
}
