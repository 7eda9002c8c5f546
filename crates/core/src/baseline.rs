//! The baseline: a customer's records as they were before anything was changed.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::names;
use crate::reading::{Record, RecordData, RecordType};
use crate::survey::Target;
use crate::zonetext;

/// The records of a zone that onboarding may touch, read at one moment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Baseline {
    /// When it was read.
    pub at: DateTime<Utc>,
    /// The zone's apex.
    pub zone: String,
    /// The server that was asked.
    pub server: String,
    /// What it answered, by name and type.
    pub records: Vec<Record>,
}

/// How a record of the baseline stands now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Since {
    /// It is there now as it was then.
    Same,
    /// It was there then, and is not now.
    Gone,
    /// It is there now, and was not then.
    New,
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
    pub fn questions(target: &Target, apex: &str) -> Vec<(String, RecordType)> {
        use RecordType::{A, Aaaa, Caa, Mx, Ns, Soa, Txt};
        let mut list: Vec<(String, RecordType)> =
            [Soa, Ns, A, Aaaa, Mx, Txt, Caa].map(|rtype| (apex.to_owned(), rtype)).into();
        list.push((format!("_dmarc.{apex}"), Txt));
        let mut more = |name: String, types: &[RecordType]| {
            if names::is_within(&name, apex) && !list.iter().any(|(known, _)| *known == name) {
                list.extend(types.iter().map(|rtype| (name.clone(), *rtype)));
            }
        };
        more(format!("www.{apex}"), &[A, Aaaa]);
        more(target.routed.clone(), &[A, Aaaa, Mx, Txt, Caa]);
        list
    }

    /// The mail exchanges among them, and who may send mail (RFC 7208) and how
    /// that is judged (RFC 7489).
    pub fn mail(&self) -> Vec<Record> {
        let is_mail = |r: &&Record| matches!(r.data, RecordData::Mx { .. }) || policy(&r.data).is_some();
        self.records.iter().filter(is_mail).cloned().collect()
    }

    /// As lines of a master file (RFC 1035, section 5).
    pub fn zone_lines(&self) -> String {
        zonetext::lines(&self.zone, &self.records)
    }

    /// Then beside now. TTLs count down, so they are not compared; nor is the
    /// serial, which every edit moves.
    pub fn compare(&self, now: &Self) -> Vec<Compared> {
        let is_soa = |r: &&Record| matches!(r.data, RecordData::Soa(_));
        let among =
            |records: &[Record], r: &Record| records.iter().any(|x| x.owner == r.owner && x.data == r.data);
        let row = |since, record: &Record| Compared { since, record: record.clone() };
        let then = self.records.iter().filter(|r| !is_soa(r) && !among(&now.records, r));
        let mut rows: Vec<_> = then.map(|r| row(Since::Gone, r)).collect();
        rows.extend(now.records.iter().map(|r| {
            let same = is_soa(&r) || among(&self.records, r);
            row(if same { Since::Same } else { Since::New }, r)
        }));
        rows.sort_by(|a, b| {
            let key = |c: &Compared| {
                (
                    c.record.owner.split('.').rev().map(str::to_owned).collect::<Vec<_>>(),
                    c.record.data.clone(),
                )
            };
            key(a).cmp(&key(b))
        });
        rows
    }
}

/// Which policy about mail a text is.
pub fn policy(data: &RecordData) -> Option<&'static str> {
    let RecordData::Txt(text) = data else { return None };
    let begins = |tag: &&str| text.get(..tag.len()).is_some_and(|start| start.eq_ignore_ascii_case(tag));
    ["v=spf1", "v=DMARC1"].into_iter().find(begins)
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
        let asked = Baseline::questions(&target, "onswick.example");
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
