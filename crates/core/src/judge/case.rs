//! The case: everything that detectors and gates look at, with what all of them
//! ask for told from the survey once.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::{BTreeSet, HashSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::{DateTime, Utc};

use crate::judge::certificate::Held;
use crate::judge::domain::Domain;
use crate::judge::edit::{Edit, EditKind};
use crate::judge::evidence::{Evidence, KnownToken};
use crate::judge::policy::Policy;
use crate::judge::sighting::Sighting;
use crate::judge::variation::Variation;
use crate::judge::verdict::{self, AddressSplit, Expected, Verdict};
use crate::name::dns::{self, DnsName};
use crate::name::mask;
use crate::name::platform::Platform;
use crate::name::token::Token;
use crate::reading::answer::{Reading, Source};
use crate::reading::climb::CaaView;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::survey::Survey;
use crate::reading::target::Target;
use crate::reading::view::HostView;
use crate::sheet::Sheet;
use crate::sheet::line::{Choice, EditorType, Line, Purpose};

/// How many authoritative servers return the token, of those that answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owners {
    /// Return it.
    pub with: usize,
    /// Answer at all.
    pub all: usize,
    /// Whether a vantage sees it too, so that an answer forged on one path proves nothing; `None`
    /// where none answers.
    pub is_seen: Option<bool>,
    /// Whether one sees it that has checked the signature of that very answer.
    pub is_checked: bool,
}

/// Everything a detector may look at.
pub struct Case<'a> {
    /// The domain.
    pub domain: &'a Domain,
    /// The platform's own names.
    pub platform: &'a Platform,
    /// Its sheet, relative to the zone that was found.
    pub sheet: Sheet,
    /// What DNS says.
    pub survey: &'a Survey,
    /// What else was learned.
    pub evidence: &'a Evidence,
    /// The operator's settings.
    pub policy: &'a Policy,
    /// The moment of judging.
    pub now: DateTime<Utc>,
    /// What is asked about.
    pub target: Target,
    /// What routing is held against.
    pub expected: Expected<'a>,
    /// Each authoritative server that was asked, once.
    pub servers: Vec<&'a Source>,
    /// Each vantage that was asked, once.
    pub vantages: Vec<&'a Source>,
    /// How the answers about the host vary.
    pub variation: Variation,
    /// What each authoritative server that answered says about the host, by turns as a whole.
    pub views: Vec<(&'a Source, HostView)>,
    /// A name beside the host that nobody publishes.
    beside: DnsName,
    choice: OnceCell<Choice>,
    caa: OnceCell<CaaView<'a>>,
    /// How many of them return the token.
    pub owners: Owners,
    /// What the authoritative servers as a whole say about routing: the worst of
    /// their verdicts, unreadable without any.
    pub verdict: Verdict,
}

impl<'a> Case<'a> {
    /// Draws the sheet for the zone that was found, and tells from the survey
    /// what every judgement starts from.
    pub fn new(
        domain: &'a Domain,
        platform: &'a Platform,
        survey: &'a Survey,
        evidence: &'a Evidence,
        policy: &'a Policy,
        now: DateTime<Utc>,
    ) -> Self {
        let sheet = domain.sheet(platform, survey.apex().unwrap_or(&domain.zone), evidence.form.as_ref());
        let expected = Expected::new(&sheet, &domain.ingress, survey);
        let (servers, vantages): (Vec<_>, Vec<_>) =
            survey.sources().into_iter().partition(|source| source.is_authority());
        let variation = Variation::of(survey);
        let mut views = survey.views_of(servers.iter().copied());
        if variation.is_any() {
            views.iter_mut().for_each(|(_, view)| *view = variation.whole(view, &domain.ingress));
        }
        let owners = owners(&sheet, survey, &servers, &vantages);
        let verdict = worst(&expected, &views);
        let target = domain.target(platform);

        Self {
            domain,
            platform,
            survey,
            evidence,
            policy,
            now,
            beside: target.beside(&sheet.routed),
            choice: OnceCell::new(),
            caa: OnceCell::new(),
            target,
            expected,
            servers,
            vantages,
            variation,
            views,
            sheet,
            owners,
            verdict,
        }
    }

    /// The certificate that is held, covers the host and has not run out.
    pub fn held(&self) -> Option<&Held> {
        self.evidence.certificate.as_ref().filter(|held| held.covers(&self.sheet.routed, self.now))
    }

    /// Whether foreign addresses stand in the zone, and the canary arrives
    /// through every one of them: a proxy passes visitors on.
    pub fn is_fronted(&self) -> bool {
        self.evidence.behind.passes_on() && !matches!(self.verdict, Verdict::Match | Verdict::Unreadable)
    }

    /// Whether every authoritative server leads visitors here.
    pub fn is_routed(&self) -> bool {
        self.verdict == Verdict::Match
    }

    /// Whether every authoritative server that answers returns the token.
    pub fn is_owned(&self) -> bool {
        self.owners.all > 0 && self.owners.with == self.owners.all
    }

    /// What a server says about the host, if it answered.
    pub fn view_of(&self, server: &Source) -> Option<&HostView> {
        self.views.iter().find(|(source, _)| *source == server).map(|(_, view)| view)
    }

    /// Whether any authoritative server has an alias at the host.
    pub fn has_alias(&self) -> bool {
        self.views.iter().any(|(_, view)| view.cname().is_some())
    }

    /// The DNAME record above a name that makes whatever is read there (RFC 6672,
    /// section 2.2), and who said so.
    pub fn redirected(&self, name: &str) -> Option<(&Source, &Record)> {
        let readings = self.survey.readings.iter().filter(|r| r.source.is_authority() && r.name == name);
        readings.filter(|reading| !reading.is_lame()).find_map(|reading| {
            let records = reading.answer()?.iter();
            let mut above = records.filter(|record| dns::is_below(name, &record.owner));
            Some((&reading.source, above.find(|record| matches!(record.data, RecordData::Dname(_)))?))
        })
    }

    /// Where an authoritative server's alias at the host leads, if not here.
    pub fn foreign_alias(&self) -> Option<&DnsName> {
        self.views.iter().find_map(|(_, view)| {
            let target = view.cname()?;
            let leads_here = self.expected.routing(Some(view)) == Verdict::Match;
            (!leads_here && !view.chain.contains(&self.sheet.canonical)).then_some(target)
        })
    }

    /// The choice of routing that fits what the zone holds: the one begun, one
    /// that leaves mail alone, else the preferred one.
    pub fn choice(&self) -> Choice {
        *self.choice.get_or_init(|| self.fitting_choice())
    }

    fn fitting_choice(&self) -> Choice {
        let choices = self.sheet.choices(Purpose::Routing);
        let has_begun = self
            .address_views()
            .iter()
            .any(|(_, split)| !split.ours_v4.is_empty() || !split.ours_v6.is_empty());
        let fits = (has_begun && !self.has_alias()) || self.has_mail(&self.sheet.routed);

        if choices.contains(&Choice::Addresses) && fits {
            return Choice::Addresses;
        }
        choices.first().copied().unwrap_or(Choice::Cname)
    }

    /// The CAA set that counts for the host.
    pub fn caa(&self) -> &CaaView<'a> {
        self.caa.get_or_init(|| self.survey.caa())
    }

    /// Whether mail records of its own stand at a name.
    pub fn has_mail(&self, name: &str) -> bool {
        let mut held = self.survey.held(name, RecordType::Mx);
        let mut are_from_wildcard = self.are_from_wildcard(name, RecordType::Mx);
        held.any(|(source, record)| {
            matches!(record.data, RecordData::Mx { .. }) && !are_from_wildcard(source)
        })
    }

    /// Records that the authoritative servers hold at `name` itself, leaving out
    /// those that a wildcard stands in for.
    pub fn own<'b>(
        &'b self,
        name: &'b str,
        rtype: RecordType,
    ) -> impl Iterator<Item = (&'b Source, &'b Record)> {
        let mut are_from_wildcard = self.are_from_wildcard(name, rtype);
        self.survey.held(name, rtype).filter(move |(source, _)| !are_from_wildcard(source))
    }

    /// [`Self::is_from_wildcard`] of one source after another, found out once for each, however
    /// many records it has.
    pub fn are_from_wildcard<'b>(
        &'b self,
        name: &'b str,
        rtype: RecordType,
    ) -> impl FnMut(&'b Source) -> bool {
        let mut known: Vec<(&Source, bool)> = Vec::new();
        move |source| {
            if let Some((_, is_known)) = known.iter().find(|(one, _)| *one == source) {
                return *is_known;
            }
            let is_from_wildcard = self.is_from_wildcard(source, name, rtype);
            known.push((source, is_from_wildcard));
            is_from_wildcard
        }
    }

    /// Whether what `source` says about a name comes from a wildcard (RFC 4592):
    /// a name beside it, that nobody publishes, has it too. A wildcard may hand out its addresses
    /// by turns, or choose them by the name that is asked for.
    pub fn is_from_wildcard(&self, source: &Source, name: &str, rtype: RecordType) -> bool {
        if name.starts_with("*.") || self.sheet.zone == *name {
            return false;
        }
        let beside = self.beside(name);
        // Mostly nothing is there.
        let is_there = self.said_at(source, &beside, rtype).next().is_some();
        let said = |name| self.said_at(source, name, rtype).collect::<BTreeSet<_>>();
        if !is_there {
            return false;
        }

        let (here, there) = (said(name), said(&beside));
        let is_by_turns =
            || self.variation.by_turns && there.iter().all(|d| self.variation.handed_out.contains(*d));
        here == there
            || (self.sheet.routed == *name
                && (is_by_turns() || self.is_by_name(&here, &there, source, rtype)))
    }

    /// Whether a wildcard gives every name addresses of its own, from the same networks: two names
    /// that nobody publishes have different ones.
    fn is_by_name(
        &self,
        here: &BTreeSet<&RecordData>,
        there: &BTreeSet<&RecordData>,
        source: &Source,
        rtype: RecordType,
    ) -> bool {
        let other = self.target.beside_again(&self.sheet.routed);
        let elsewhere = self.said_at(source, &other, rtype).collect::<BTreeSet<_>>();
        let networks: HashSet<_> = there.iter().chain(&elsewhere).filter_map(|data| network(data)).collect();

        let is_chosen = !elsewhere.is_empty() && elsewhere != *there;
        is_chosen && here.iter().all(|data| network(data).is_some_and(|network| networks.contains(&network)))
    }

    /// A name beside another that nobody publishes. The host's is asked for most.
    pub fn beside(&self, name: &str) -> Cow<'_, DnsName> {
        if self.sheet.routed == *name {
            Cow::Borrowed(&self.beside)
        } else {
            Cow::Owned(self.target.beside(name))
        }
    }

    fn said_at<'b>(
        &'b self,
        source: &'b Source,
        name: &'b str,
        rtype: RecordType,
    ) -> impl Iterator<Item = &'b RecordData> {
        let readings = self.survey.of(name, rtype).filter(move |r| &r.source == source);
        let records = readings.filter_map(Reading::answer).flatten();
        records.filter(move |r| r.owner == name).map(|r| &r.data)
    }

    /// The token of another domain that a text holds.
    pub fn known_token(&self, text: &str) -> Option<&KnownToken> {
        let held = mask::candidates(text);
        self.evidence.known_tokens.iter().find(|known| held.iter().any(|one| one == known.token.as_str()))
    }

    /// Whether a record holds what may be the token of another claim: it is there
    /// for a reason, and to be left alone. One of the same account is known; of any
    /// other, its form has to be enough, so that nothing is told of who has which.
    pub fn is_of_others(&self, record: &Record) -> bool {
        let RecordData::Txt(text) = &record.data else { return false };
        let text = text.to_text();
        self.known_token(&text).is_some()
            || Token::of_txt(&text).is_some_and(|token| !self.domain.had(&token))
    }

    /// Whether an HTTPS record leads browsers somewhere else (RFC 9460).
    pub fn is_stray_binding(&self, record: &Record) -> bool {
        let RecordData::Https { target, hints, .. } = &record.data else { return false };
        let is_ours = target.is_root() || *target == self.sheet.routed || *target == self.sheet.canonical;
        !is_ours || !hints.iter().all(|hint| self.is_of_ingress(*hint))
    }

    /// Whether an address is one of the ingress.
    pub fn is_of_ingress(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(address) => self.domain.ingress.ipv4.contains(&address),
            IpAddr::V6(address) => self.domain.ingress.ipv6.contains(&address),
        }
    }

    /// The authoritative servers' views of the host, with the split of addresses,
    /// leaving out those that are an alias or come from a wildcard.
    pub fn address_views(&self) -> Vec<(&HostView, AddressSplit)> {
        let own = self.views.iter().filter(|(source, view)| {
            view.cname().is_none() && !self.is_from_wildcard(source, &self.sheet.routed, RecordType::A)
        });
        own.map(|(_, view)| (view, AddressSplit::of(view, &self.domain.ingress))).collect()
    }

    /// The first of those for which `wanted` holds, unless visitors arrive all
    /// the same, as by an alias at the apex.
    pub fn first_split(&self, wanted: impl Fn(&AddressSplit) -> bool) -> Option<AddressSplit> {
        let views = self.address_views().into_iter();
        let wrong = views.filter(|(view, _)| self.expected.routing(Some(view)) != Verdict::Match);
        wrong.map(|(_, split)| split).find(wanted)
    }

    /// Edits that add what the sheet asks for and one kind of address lacks.
    pub fn additions<T: ToString>(
        &self,
        rtype: RecordType,
        missing: impl IntoIterator<Item = T>,
    ) -> Vec<Edit> {
        self.edits_at_host(EditKind::Add, rtype, missing)
    }

    /// Edits that delete addresses.
    pub fn deletions<T: ToString>(
        &self,
        rtype: RecordType,
        foreign: impl IntoIterator<Item = T>,
    ) -> Vec<Edit> {
        self.edits_at_host(EditKind::Delete, rtype, foreign)
    }

    /// The same edit of several values at the host.
    pub fn edits_at_host<T: ToString>(
        &self,
        kind: EditKind,
        rtype: RecordType,
        values: impl IntoIterator<Item = T>,
    ) -> Vec<Edit> {
        let values = values.into_iter();
        values.map(|value| self.edit(kind, rtype.into(), &self.sheet.routed, value.to_string())).collect()
    }

    /// Edits that take somebody else's addresses away and publish the sheet's
    /// choice instead.
    pub fn replacements(&self, split: &AddressSplit) -> Vec<Edit> {
        let mut edits = self.deletions(RecordType::A, &split.foreign_v4);
        edits.extend(self.deletions(RecordType::Aaaa, &split.foreign_v6));
        edits.extend(self.sheet.by(self.choice()).map(|line| self.publish(line)));
        edits
    }

    /// The edit that points the host's CNAME, which leads to `was`, at the
    /// canonical host.
    pub fn change_cname(&self, was: &DnsName) -> Edit {
        let canonical = self.sheet.value_field(&RecordData::Cname(self.sheet.canonical.clone()));
        let was = self.sheet.value_field(&RecordData::Cname(was.clone()));
        let edit = self.edit(EditKind::Change, RecordType::Cname.into(), &self.sheet.routed, canonical);
        Edit { was: Some(was), ..edit }
    }

    /// An edit at any name of the zone; the value as the editor shows it.
    pub fn edit(&self, kind: EditKind, rtype: EditorType, owner: &DnsName, value: String) -> Edit {
        let host_field = self.sheet.host_field(owner);
        Edit { kind, rtype, host_field, owner: owner.clone(), value, was: None }
    }

    /// An edit of a record as it was read.
    pub fn edit_record(&self, kind: EditKind, record: &Record) -> Edit {
        let rtype = EditorType::of(&record.data);
        self.edit(kind, rtype, &record.owner, self.sheet.value_field(&record.data))
    }

    /// The same edit of several records.
    pub fn edit_records(&self, kind: EditKind, held: &[(&Source, &Record)]) -> Vec<Edit> {
        held.iter().map(|(_, record)| self.edit_record(kind, record)).collect()
    }

    /// The edit that publishes a line of the sheet.
    pub fn publish(&self, line: &Line) -> Edit {
        self.edit(EditKind::Add, line.editor_type(), &line.owner, line.value_field.clone())
    }

    /// The edit that gives a record the value of a line of the same type.
    pub fn change(&self, record: &Record, line: &Line) -> Edit {
        let now = self.edit_record(EditKind::Change, record);
        Edit { was: Some(now.value), value: line.value_field.clone(), ..now }
    }

    /// What the authoritative servers hold at the host, as evidence.
    pub fn host_sightings(&self, wanted: impl Fn(&RecordData) -> bool) -> Vec<Sighting> {
        let mut sightings = Vec::new();
        let mut known = HashSet::new();
        for rtype in [RecordType::A, RecordType::Aaaa] {
            for (source, records) in self.survey.authority(&self.sheet.routed, rtype) {
                for record in records.iter().filter(|record| wanted(&record.data)) {
                    // An alias shows in the answers to both questions.
                    if known.insert((source, &record.owner, &record.data)) {
                        sightings.push(Sighting::of(source, record));
                    }
                }
            }
        }
        sightings
    }
}

/// The network that an address is in, as one is mostly handed out (a /24 or a /48).
fn network(data: &RecordData) -> Option<IpAddr> {
    match data {
        RecordData::A(address) => {
            let [a, b, c, _] = address.octets();
            Some(Ipv4Addr::new(a, b, c, 0).into())
        }
        RecordData::Aaaa(address) => {
            let [a, b, c, ..] = address.segments();
            Some(Ipv6Addr::new(a, b, c, 0, 0, 0, 0, 0).into())
        }
        _ => None,
    }
}

fn owners(sheet: &Sheet, survey: &Survey, servers: &[&Source], vantages: &[&Source]) -> Owners {
    let answered = |sources: &[&Source]| -> Vec<Verdict> {
        let verdicts = sources.iter().map(|source| verdict::ownership(sheet, survey, source));
        verdicts.filter(|verdict| *verdict != Verdict::Unreadable).collect()
    };
    let (own, seen) = (answered(servers), answered(vantages));

    let with = own.iter().filter(|verdict| **verdict == Verdict::Match).count();
    let is_seen = (!seen.is_empty()).then(|| seen.contains(&Verdict::Match));
    let is_checked = vantages.iter().any(|vantage| verdict::is_proof_checked(sheet, survey, vantage));
    Owners { with, all: own.len(), is_seen, is_checked }
}

fn worst(expected: &Expected<'_>, views: &[(&Source, HostView)]) -> Verdict {
    let mut worst = if views.is_empty() { Verdict::Unreadable } else { Verdict::Match };
    for (_, view) in views {
        if worst == Verdict::Match {
            worst = expected.routing(Some(view));
        }
    }
    worst
}
