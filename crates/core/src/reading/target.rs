//! What a survey asks, and how much.

use serde::{Deserialize, Serialize};

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::name::platform::{ACME_LABEL, Platform};
use crate::name::subject::Subject;
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
        }
    }

    /// What to ask, once the zone is known.
    pub fn questions(&self, apex: &str, depth: Depth) -> Vec<Question> {
        let everywhere = depth == Depth::Full;
        let must_be_there = [
            (&self.challenge, RecordType::Txt),
            (&self.routed, RecordType::A),
            (&self.routed, RecordType::Aaaa),
        ];
        let mut list = Vec::from(must_be_there.map(|(name, rtype)| Question {
            name: name.clone(),
            rtype,
            vantages: everywhere,
        }));

        if depth == Depth::Full {
            self.ask_beside(apex, &mut list);
            self.ask_neighbours(apex, &mut list);
            let climb = dns::climb(self.host.as_str());
            list.extend(climb.map(|name| Question::everywhere(name, RecordType::Caa)));
        }
        list
    }

    /// What stands beside the lines, and in their way.
    fn ask_beside(&self, apex: &str, list: &mut Vec<Question>) {
        list.extend([
            Question::of_authority(apex, RecordType::Soa),
            Question::of_authority(apex, RecordType::Ns),
            Question::of_authority(self.routed.clone(), RecordType::Txt),
            Question::of_authority(self.routed.clone(), RecordType::Mx),
            Question::of_authority(self.routed.clone(), RecordType::Https),
            Question::everywhere(self.canonical.clone(), RecordType::A),
            Question::everywhere(self.canonical.clone(), RecordType::Aaaa),
        ]);
        list.extend(self.acme.iter().map(|name| Question::everywhere(name.clone(), RecordType::Txt)));

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

        list.push(Question::of_authority(self.token_probe(), RecordType::Txt));
        if self.routed != apex && !self.routed.starts_with("*.") {
            list.push(Question::of_authority(self.host_probe(), RecordType::A));
        }
    }

    /// Where else people put the token: without the underscore, or at the
    /// label of a name above the host.
    pub fn misplaced(&self, apex: &str) -> Vec<DnsName> {
        let host = self.host.as_str();
        let bare = DnsName::new(format!("{}-challenge.{host}", self.brand));

        let above = dns::climb(host).skip(1).take_while(|name| dns::is_within(name, apex));
        let at_labels = above.map(|name| DnsName::new(format!("_{}-challenge.{name}", self.brand)));
        std::iter::once(bare).chain(at_labels).collect()
    }

    /// Beside the challenge: answered by a wildcard alone.
    pub fn token_probe(&self) -> DnsName {
        DnsName::new(format!("_{}-probe.{}", self.brand, self.host))
    }

    /// Beside the host: answered by a wildcard alone.
    pub fn host_probe(&self) -> DnsName {
        DnsName::new(format!("_{}-probe.{}", self.brand, dns::parent(self.host.as_str())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

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
                "timetable.onswick.example TXT",
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
                "_quaymark-probe.timetable.onswick.example TXT",
                "_quaymark-probe.onswick.example A",
                "timetable.onswick.example CAA everywhere",
                "onswick.example CAA everywhere",
                "example CAA everywhere",
            ]
        );
        let quick = target.questions("onswick.example", Depth::Quick);
        let names = |list: &[Question]| list.iter().map(|q| (q.name.clone(), q.rtype)).collect::<Vec<_>>();
        assert_eq!(names(&quick), names(&list[..3]), "a quick one asks for what must be there");
        assert!(quick.iter().all(|q| !q.vantages), "and nobody but the zone's servers");
    }
}
