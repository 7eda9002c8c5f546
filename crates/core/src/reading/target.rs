//! What a survey asks, and how much.

use std::collections::BTreeSet;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::name::platform::{ACME_LABEL, Platform};
use crate::name::subject::Subject;
use crate::name::token::Token;
use crate::reading::record::RecordType;

/// How much a survey asks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Depth {
    /// What tells whether anything has changed.
    Quick,
    /// Everything that a finding may need.
    #[default]
    Full,
}

/// The names and targets that a survey is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// The domain.
    pub host: Hostname,
    /// Where routing records stand.
    pub routed: DnsName,
    /// Where the token stands.
    pub challenge: DnsName,
    /// The word in the challenge label.
    pub brand: String,
    /// What a CNAME is to point at.
    pub canonical: DnsName,
    /// Where the CA asks for a TXT record, if it is to be led to the platform.
    pub acme: Option<DnsName>,
    /// The token as it is to be published, for where it ends up as a name.
    pub token: Option<String>,
    /// Whether the token is still to prove anything.
    pub is_unproved: bool,
    /// Whether visitors are still to be led here, or it is in doubt that they are: then one answer
    /// about the host is not enough, since the next may be another.
    pub is_unrouted: bool,
    /// The addresses of the ingress.
    pub addresses: BTreeSet<IpAddr>,
}

/// One thing to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// The name.
    pub name: DnsName,
    /// The type.
    pub rtype: RecordType,
    /// Whether the vantages are asked too, beside the authoritative servers.
    pub vantages: bool,
}

impl Question {
    /// Of the zone's own servers alone.
    fn of_authority(name: impl Into<DnsName>, rtype: RecordType) -> Self {
        Self { name: name.into(), rtype, vantages: false }
    }

    /// Of the vantages too.
    fn everywhere(name: impl Into<DnsName>, rtype: RecordType) -> Self {
        Self { name: name.into(), rtype, vantages: true }
    }
}

impl Target {
    /// What a survey of `subject` is about.
    pub fn new(subject: &Subject, platform: &Platform, canonical: DnsName) -> Self {
        let by_dns = platform.acme_zone.is_some() && (subject.wildcard || platform.dns_for_all);
        let host = DnsName::from(&subject.host);
        Self {
            host: subject.host.clone(),
            routed: subject.routed(),
            challenge: platform.challenge_name(&host),
            brand: platform.brand.clone(),
            canonical,
            acme: by_dns.then(|| host.child(ACME_LABEL)),
            token: None,
            is_unproved: true,
            is_unrouted: true,
            addresses: BTreeSet::new(),
        }
    }

    /// Names at which the token may stand.
    pub fn proofs(&self) -> impl Iterator<Item = DnsName> {
        [self.challenge.clone(), DnsName::from(&self.host)].into_iter()
    }

    /// The same, with the token at another label.
    #[must_use]
    pub fn proved_at(self, challenge: DnsName) -> Self {
        Self { challenge, ..self }
    }

    /// The same, with the token that is to be found.
    pub fn with_token(self, token: &Token) -> Self {
        Self { token: Some(token.txt_value()), ..self }
    }

    /// Names and types of what must be there for the first two gates to pass.
    pub fn must_be_there(&self) -> [(&DnsName, RecordType); 3] {
        [(&self.challenge, RecordType::Txt), (&self.routed, RecordType::A), (&self.routed, RecordType::Aaaa)]
    }

    /// What to ask, once the zone is known.
    pub fn questions(&self, apex: &str, depth: Depth) -> Vec<Question> {
        let everywhere = depth == Depth::Full;
        let mut list = Vec::from(self.must_be_there().map(|(name, rtype)| Question {
            name: name.clone(),
            rtype,
            vantages: everywhere,
        }));

        if depth == Depth::Full {
            self.ask_beside(apex, &mut list);
            self.ask_neighbours(apex, &mut list);
            let climb = dns::climb(self.host.as_str());
            list.extend(climb.map(|name| Question::everywhere(name, RecordType::Caa)));
            self.ask_for_wildcards(apex, &mut list);
        }

        let mut asked = BTreeSet::new();
        list.retain(|question| asked.insert((question.name.clone(), question.rtype)));
        list
    }

    /// What stands beside the lines, and in their way.
    fn ask_beside(&self, apex: &str, list: &mut Vec<Question>) {
        list.extend([
            Question::of_authority(apex, RecordType::Soa),
            Question::of_authority(apex, RecordType::Ns),
            // The token may stand there too, and a vantage has to see it.
            Question::everywhere(self.routed.clone(), RecordType::Txt),
            Question::of_authority(self.routed.clone(), RecordType::Mx),
            Question::of_authority(self.routed.clone(), RecordType::Https),
            Question::everywhere(self.canonical.clone(), RecordType::A),
            Question::everywhere(self.canonical.clone(), RecordType::Aaaa),
        ]);
        list.extend(self.acme.iter().map(|name| Question::everywhere(name.clone(), RecordType::Txt)));

        // Under an asterisk, the token may stand at the host all the same.
        if self.host.as_str() != self.routed.as_str() {
            list.push(Question::everywhere(self.host.as_str(), RecordType::Txt));
        }
        if self.routed != apex {
            list.push(Question::of_authority(apex, RecordType::Mx));
            list.push(Question::of_authority(apex, RecordType::Txt));
        }
        list.push(Question::of_authority(format!("_dmarc.{apex}"), RecordType::Txt));
    }

    /// Names at which records end up that were meant for the right ones, and
    /// names that only a wildcard answers for.
    fn ask_neighbours(&self, apex: &str, list: &mut Vec<Question>) {
        // A full name typed into a box that adds the zone by itself.
        list.push(Question::of_authority(format!("{}.{apex}", self.challenge), RecordType::Txt));
        list.push(Question::of_authority(format!("{}.{apex}", self.routed), RecordType::A));

        let misplaced = self.misplaced(apex).into_iter();
        list.extend(misplaced.map(|name| Question::of_authority(name, RecordType::Txt)));
    }

    /// Where else people put the token: without the underscore, at the label of
    /// a name above the host or of the other one of a pair, at the names
    /// themselves, and in the box for the host.
    pub fn misplaced(&self, apex: &str) -> Vec<DnsName> {
        let host = self.host.as_str();
        let apex = DnsName::new(apex);
        let label = format!("_{}-challenge", self.brand);

        let mut names = vec![DnsName::new(format!("{}-challenge.{host}", self.brand)), self.routed.clone()];
        for above in dns::climb(host).skip(1).take_while(|name| dns::is_within(name, &apex)) {
            names.push(DnsName::new(above).child(&label));
            names.push(DnsName::new(above));
        }

        // The other one of the pair stands there, whether it was taken in or not.
        let www = apex.child("www");
        names.extend([www.child(&label), www]);
        names.extend(self.token.iter().map(|token| apex.child(token)));

        names.retain(|name| *name != self.challenge);
        names
    }

    /// A name beside `name` that nobody publishes: only a wildcard answers for it
    /// (RFC 4592), and then for `name` too, if nothing stands there.
    pub fn beside(&self, name: &str) -> DnsName {
        DnsName::new(format!("_{}-probe.{}", self.brand, dns::parent(name)))
    }

    /// Another such name: a wildcard may choose what it answers by the name.
    pub fn beside_again(&self, name: &str) -> DnsName {
        DnsName::new(format!("_{}-probe-again.{}", self.brand, dns::parent(name)))
    }

    /// Whether a name is one that nobody publishes, asked for to see whether a wildcard answers.
    pub fn is_probe(&self, name: &DnsName) -> bool {
        self.beside(name) == *name || self.beside_again(name) == *name
    }

    /// Asks beside every name of the zone that is asked for.
    fn ask_for_wildcards(&self, apex: &str, list: &mut Vec<Question>) {
        let below = list.iter().filter(|question| {
            let is_below = question.name != apex && question.name.is_within(apex);
            is_below && !question.name.starts_with("*.") && MAY_BE_WILD.contains(&question.rtype)
        });

        let beside: Vec<_> = below
            .map(|question| Question::of_authority(self.beside(&question.name), question.rtype))
            .collect();
        list.extend(beside);
    }
}

/// Types that wildcards are made of, of those that are asked for.
const MAY_BE_WILD: [RecordType; 5] =
    [RecordType::A, RecordType::Aaaa, RecordType::Txt, RecordType::Mx, RecordType::Https];

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::domain::{Domain, Ties};
    use crate::sheet::ProofAt;
    use crate::sheet::line::Purpose;
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn every_choice_of_ownership_on_a_sheet_is_one_that_is_read() {
        let zone = "onswick.example".into();
        for host in ["onswick.example", HOST] {
            for (wildcard, proof_at) in
                [(false, ProofAt::Host), (true, ProofAt::Host), (false, ProofAt::Zone)]
            {
                let ties = Ties { proof_at, ..Ties::default() };
                let domain = Domain { wildcard, ties, ..test::domain(host) };
                let sheet = domain.sheet(&test::platform(), &zone, None);
                let asked = domain.target(&test::platform()).questions(&zone, Depth::Full);
                for line in sheet.of(Purpose::Ownership) {
                    let is_read = asked.iter().any(|q| q.name == line.owner && q.rtype == RecordType::Txt);
                    assert!(is_read, "{host}, wildcard {wildcard}: {}", line.owner);
                }
            }
        }
    }

    #[test]
    fn a_full_survey_covers_the_names_and_everything_that_goes_wrong_around_them() {
        let target = test::domain(HOST).target(&test::platform());
        let list = target.questions("onswick.example", Depth::Full);
        let shown: Vec<_> = list
            .iter()
            .map(|q| format!("{} {}{}", q.name, q.rtype, if q.vantages { " everywhere" } else { "" }))
            .collect();
        assert_eq!(
            shown,
            [
                "_quaymark-challenge.timetable.onswick.example TXT everywhere",
                "timetable.onswick.example A everywhere",
                "timetable.onswick.example AAAA everywhere",
                "onswick.example SOA",
                "onswick.example NS",
                "timetable.onswick.example TXT everywhere",
                "timetable.onswick.example MX",
                "timetable.onswick.example HTTPS",
                "onswick.edge.quaymark.example A everywhere",
                "onswick.edge.quaymark.example AAAA everywhere",
                "onswick.example MX",
                "onswick.example TXT",
                "_dmarc.onswick.example TXT",
                "_quaymark-challenge.timetable.onswick.example.onswick.example TXT",
                "timetable.onswick.example.onswick.example A",
                "quaymark-challenge.timetable.onswick.example TXT",
                "_quaymark-challenge.onswick.example TXT",
                "_quaymark-challenge.www.onswick.example TXT",
                "www.onswick.example TXT",
                "token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h.onswick.example TXT",
                "timetable.onswick.example CAA everywhere",
                "onswick.example CAA everywhere",
                "example CAA everywhere",
                "_quaymark-probe.timetable.onswick.example TXT",
                "_quaymark-probe.onswick.example A",
                "_quaymark-probe.onswick.example AAAA",
                "_quaymark-probe.onswick.example TXT",
                "_quaymark-probe.onswick.example MX",
                "_quaymark-probe.onswick.example HTTPS",
                "_quaymark-probe.timetable.onswick.example.onswick.example TXT",
                "_quaymark-probe.onswick.example.onswick.example A",
                "_quaymark-probe.www.onswick.example TXT",
            ]
        );
        let quick = target.questions("onswick.example", Depth::Quick);
        let names = |list: &[Question]| list.iter().map(|q| (q.name.clone(), q.rtype)).collect::<Vec<_>>();
        assert_eq!(names(&quick), names(&list[..3]), "a quick one asks for what must be there");
        assert!(quick.iter().all(|q| !q.vantages), "and nobody but the zone's servers");
    }
}
