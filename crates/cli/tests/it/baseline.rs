//! The baseline: the customer's records before anything was changed.

use nomenta_core::reading::record::RecordData;
use nomenta_core::zonefile::ZoneFile;
use nomenta_world::customer;
use nomenta_world::zones::Change;

use crate::stage::{self, fresh_zone, stage};

fn add(owner: &str, data: RecordData) -> Change {
    Change::Add { owner: owner.into(), ttl: 60, data }
}

#[test]
fn it_is_taken_at_enrolment_compared_with_now_and_exported() {
    stage();
    stage::run(async {
        let (service, zones, zone) = (&stage().service, &stage().world.zones, fresh_zone("before"));
        zones.register(&zone).await.expect("registered");
        let before = [
            add(&zone, RecordData::A([192, 0, 2, 7].into())),
            add(&zone, RecordData::Mx { preference: 10, exchange: format!("mx.{zone}").into() }),
            add(&zone, RecordData::Txt("v=spf1 mx -all".into())),
            add(&format!("_dmarc.{zone}"), RecordData::Txt("v=DMARC1; p=none".into())),
            add(&format!("www.{zone}"), RecordData::Cname(zone.as_str().into())),
        ];
        zones.update(&zone, &before).await.expect("published");
        let sheet = service.enrol(&stage().world, &zone).await;
        service.looked_at(&zone).await;
        customer::publish(zones, &sheet, None).await.expect("published over it");
        service.found(&zone, &["mail-lost"]).await;

        let output = service.cli(&["baseline", &zone]).await;
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        let rows: Vec<_> = told.lines().map(|l| l.split_whitespace().collect::<Vec<_>>().join(" ")).collect();
        for want in ["gone A @ 192.0.2.7", "gone MX @ 10", "new AAAA @ ::1", "same NS @", "same CNAME www"] {
            assert!(rows.iter().any(|row| row.starts_with(want)), "no {want:?} in:\n{told}");
        }
        let output = service.cli(&["baseline", &zone, "--as", "zone"]).await;
        let lines = String::from_utf8_lossy(&output.stdout).into_owned();
        let kept = ZoneFile::parse(&lines, &zone.as_str().into()).expect("a master file");
        let shown: Vec<_> = kept.records().map(|r| format!("{} {}", r.owner, r.data)).collect();
        for want in [
            format!("{zone} 10 mx.{zone}"),
            format!("{zone} \"v=spf1 mx -all\""),
            format!("_dmarc.{zone} \"v=DMARC1; p=none\""),
            format!("www.{zone} {zone}"),
        ] {
            assert!(shown.contains(&want), "no {want:?} in {shown:?}");
        }

        // What is put back is no longer missed, and the baseline stays as it was.
        zones.update(&zone, &before[1..3]).await.expect("put back");
        service.found(&zone, &[]).await;
        let view = service.cli_json(&["baseline", &zone]).await;
        let mx =
            view["compared"].as_array().expect("rows").iter().find(|c| c["record"]["data"]["type"] == "MX");
        assert_eq!(mx.expect("the exchange")["since"], "same");
    });
}

#[test]
fn without_a_zone_there_is_none_yet() {
    stage();
    stage::run(async {
        let host = fresh_zone("unborn");
        let enrolled = stage().service.cli(&["enrol", &host, "--site", "onswick"]).await;
        assert!(enrolled.status.success());
        stage().service.found(&host, &["name-unregistered"]).await;
        let told = stage().service.cli(&["baseline", &host]).await;
        let told = String::from_utf8_lossy(&told.stdout).into_owned();
        assert!(told.contains("Not taken yet: the zone has not been read"), "{told}");
    });
}
