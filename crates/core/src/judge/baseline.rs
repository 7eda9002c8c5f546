//! The baseline: a customer's records as they were before anything was changed.

use std::cmp::Ordering;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::target::Target;
use crate::zonefile::text;

/// The records of a zone that onboarding may touch, read at one moment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Baseline {
    /// When it was read.
    pub at: DateTime<Utc>,
    /// The zone's apex.
    pub zone: DnsName,
    /// The server that was asked.
    pub server: String,
    /// What it answered, by name and type.
    pub records: Vec<Record>,
}

crate::spelled! {
    /// How a record of the baseline stands now.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Since: "state of a record" {
        /// It is there now as it was then.
        Same = "same",
        /// It was there then, and is not now.
        Gone = "gone",
        /// It is there now, and was not then.
        New = "new",
    }
}

/// A record of then or now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Compared {
    /// How it stands.
    pub since: Since,
    /// The record; as it is now, where it is there.
    pub record: Record,
}

impl Baseline {
    /// What to ask: the host, the apex, `www`, mail and its policies, name
    /// servers, CAA and SOA.
    pub fn questions(target: &Target, apex: &DnsName) -> Vec<(DnsName, RecordType)> {
        use RecordType::{A, Aaaa, Caa, Mx, Ns, Soa, Txt};

        let parts: [(DnsName, &[RecordType]); 4] = [
            (apex.clone(), &[Soa, Ns, A, Aaaa, Mx, Txt, Caa]),
            (apex.child("_dmarc"), &[Txt]),
            (apex.child("www"), &[A, Aaaa]),
            (target.routed.clone(), &[A, Aaaa, Mx, Txt, Caa]),
        ];

        let mut list = Vec::new();
        for (name, types) in parts {
            for rtype in types {
                let question = (name.clone(), *rtype);
                if name.is_within(apex) && !list.contains(&question) {
                    list.push(question);
                }
            }
        }
        list
    }

    /// The mail exchanges among them, and who may send mail (RFC 7208) and how
    /// that is judged (RFC 7489).
    pub fn mail(&self) -> Vec<Record> {
        let mail = self.records.iter().filter(|record| match record.data {
            RecordData::Mx { .. } => true,
            _ => policy(&record.data).is_some(),
        });
        mail.cloned().collect()
    }

    /// As lines of a master file (RFC 1035, section 5).
    pub fn zone_lines(&self) -> String {
        text::lines(&self.zone, &self.records)
    }

    /// Then beside now. TTLs count down, so they are not compared; nor is the
    /// serial, which every edit moves.
    pub fn compare(&self, now: &Self) -> Vec<Compared> {
        let gone = self.records.iter().filter(|record| !is_soa(record) && !now.has(record));
        let mut rows: Vec<_> =
            gone.map(|record| Compared { since: Since::Gone, record: record.clone() }).collect();

        for record in &now.records {
            let is_same = is_soa(record) || self.has(record);
            let since = if is_same { Since::Same } else { Since::New };
            rows.push(Compared { since, record: record.clone() });
        }

        rows.sort_by(|a, b| in_zone_order(&a.record, &b.record));
        rows
    }

    fn has(&self, record: &Record) -> bool {
        self.records.iter().any(|known| known.owner == record.owner && known.data == record.data)
    }
}

fn is_soa(record: &Record) -> bool {
    matches!(record.data, RecordData::Soa(_))
}

/// By name from the top of the tree down, then by type and value.
fn in_zone_order(a: &Record, b: &Record) -> Ordering {
    let by_name = a.owner.split('.').rev().cmp(b.owner.split('.').rev());
    by_name.then_with(|| a.data.cmp(&b.data))
}

/// Which policy about mail a text is.
pub fn policy(data: &RecordData) -> Option<&'static str> {
    let RecordData::Txt(text) = data else { return None };

    ["v=spf1", "v=DMARC1"].into_iter().find(|tag| {
        text.as_bytes().get(..tag.len()).is_some_and(|start| start.eq_ignore_ascii_case(tag.as_bytes()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    fn baseline(lines: &[&str]) -> Baseline {
        let records = lines.iter().map(|l| test::record(l)).collect();
        let (zone, server) = ("onswick.example".into(), "ns1.harrowdns.example".into());
        Baseline { at: test::now(), zone, server, records }
    }

    #[test]
    fn what_is_asked_covers_site_and_mail_once_each() {
        let target = test::domain("www.onswick.example").target(&test::platform());
        let asked = Baseline::questions(&target, &"onswick.example".into());
        let shown: Vec<_> = asked.iter().map(|(n, t)| format!("{n} {t}")).collect();
        assert!(shown.contains(&"_dmarc.onswick.example TXT".to_owned()));
        let www = shown.iter().filter(|s| s.starts_with("www.onswick.example A")).count();
        assert_eq!(www, 2, "A and AAAA, once");
    }

    #[test]
    fn then_and_now_are_compared_by_record_and_not_by_time_or_serial() {
        let mail =
            ["@ MX 10 mx.onswick.example", "@ TXT V=SPF1 mx -all", "_dmarc TXT v=DMARC1; p=none", "@ TXT x"];
        assert_eq!(baseline(&mail).mail().len(), 3);
        let then = baseline(&["@ SOA 7", "@ A 192.0.2.7", "@ MX 10 mx.onswick.example"]);
        let mut now = baseline(&["@ SOA 9", "@ A 127.77.0.10", "@ MX 10 mx.onswick.example"]);
        now.records.iter_mut().for_each(|r| r.ttl = 1);
        let shown: Vec<_> = then
            .compare(&now)
            .iter()
            .map(|c| format!("{:?} {}", c.since, c.record.data.type_name()))
            .collect();
        assert_eq!(shown, ["New A", "Gone A", "Same SOA", "Same MX"]);
        assert_eq!(then.mail().len(), 1);
    }

    #[test]
    fn zone_lines_can_be_put_back() {
        let text =
            baseline(&["@ A 192.0.2.7", "www CNAME shop.harrowhost.example", "@ MX 10 mx.onswick.example"])
                .zone_lines();
        assert!(text.starts_with("$ORIGIN onswick.example.\n"), "{text}");
        assert!(text.contains("www 300 IN CNAME shop.harrowhost.example.\n"), "{text}");
        assert!(text.contains("@ 300 IN MX 10 mx.onswick.example.\n"), "{text}");
    }
}
