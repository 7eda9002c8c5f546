//! Every mistake is named with its record, and mended domains go live by
//! themselves.

use std::sync::Mutex;

use futures::future::join_all;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::wait_for;
use serde_json::Value;

use crate::stage::{self, TIME_LIMIT, fresh_zone, stage};

/// The mistake, whether it is made at an apex, and words of the remedy.
const CASES: [(Mistake, bool, &str); 27] = [
    (Mistake::HostDoubled, false, "Add the CNAME record onswick.edge.quaymark.example at timetable."),
    (Mistake::ValueDoubled, false, "Change the CNAME record at timetable to onswick.edge.quaymark.example."),
    (
        Mistake::TokenAltered,
        true,
        "Change the TXT record at _quaymark-challenge to (the token, see the sheet).",
    ),
    (
        Mistake::TokenMisplaced,
        false,
        "at quaymark-challenge.timetable. Add the TXT record (the token, see the sheet)",
    ),
    (Mistake::WrongType, false, "Delete the TXT record \"onswick.edge.quaymark.example\" at timetable. Add"),
    (
        Mistake::ForwardingElsewhere,
        true,
        "off in the DNS editor; it leads to https://sites.formerhost.example/.",
    ),
    (Mistake::AddressForeign, true, "Delete the A record 192.0.2.7 at @. Add the A record 127.77.0.10 at @."),
    (Mistake::AddressSurplus, true, "Delete the A record 192.0.2.7 at @. Keep the A record 127.77.0.10"),
    (Mistake::AddressPartial, true, "Add the A record 127.77.0.10 at @."),
    (Mistake::Ipv6Stray, true, "Delete the AAAA record 2001:db8::7 at @."),
    (Mistake::CnameForeign, false, "Change the CNAME record at timetable to onswick.edge.quaymark.example."),
    (Mistake::CnameBesideOthers, false, "Delete the TXT record \"checked-by=former-host\" at timetable. Add"),
    (Mistake::CnameAtApex, true, "Delete the CNAME record sites.formerhost.example at @. Add the A record"),
    (Mistake::CnameChainBroken, false, "leads to old-sites.formerhost.example, which does not exist"),
    (Mistake::ChoicesMixed, true, "delete ns1.quaymark.example and keep the records"),
    (Mistake::WildcardAnswers, false, "Keep the A record 192.0.2.7 at *."),
    (Mistake::DelegatedAway, false, "They hand timetable."),
    (Mistake::HttpsRecordStray, true, "Browsers follow it to the former host"),
    (Mistake::MailAtRisk, false, "Keep the MX record 10 mx."),
    (Mistake::MailLost, true, "Add the MX record 10 mx."),
    (Mistake::CaaForbids, true, "Add the CAA record 0 issue \"stampworks-ca.example\" at @."),
    (Mistake::NameUnregistered, true, "is not registered"),
    (Mistake::Unreachable, true, "None of the name servers of"),
    (Mistake::ServerLame, true, "Take lame.slackwater.test off the name servers"),
    (Mistake::ServersDisagree, true, "behind.slackwater.test (127.53.66.3) has not."),
    (Mistake::DelegationMismatch, true, "Make both lists of name servers the same."),
    (Mistake::DnssecBroken, true, "Delete the DS record of"),
];

async fn named_and_mended(mistake: Mistake, apex: bool, remedy: &str) {
    let stage = stage();
    let code = mistake.to_string();
    let zone = fresh_zone(&code);
    let host = if apex { zone.clone() } else { format!("timetable.{zone}") };
    if mistake == Mistake::MailLost {
        stage.world.zones.register(&zone).await.expect("registered");
        customer::have_mail(&stage.world.zones, &zone).await.expect("mail");
    }
    let sheet = stage.service.enrol(&stage.world, &host).await;
    stage.service.looked_at(&host).await;
    customer::publish(&stage.world.zones, &sheet, Some(mistake)).await.expect("published wrongly");
    // While publishing was under way a look may have seen the half of it, so
    // what counts is that this one finding comes to stand alone.
    stage.service.found(&host, &[&code]).await;
    let explained = || async {
        let output = stage.service.cli(&["explain", &host]).await;
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    // A look at which a vantage does not answer may see less for once.
    let told = wait_for(remedy, TIME_LIMIT, || async { explained().await.contains(remedy) }).await;
    if told.is_err() {
        panic!("{host} does not say {remedy:?}:\n{}", explained().await);
    }
    customer::publish(&stage.world.zones, &sheet, None).await.expect("mended");
    if mistake == Mistake::MailLost {
        customer::have_mail(&stage.world.zones, &zone).await.expect("mail again");
    }
    stage.service.live(&host).await;
    stage.service.found(&host, &[]).await;
}

#[test]
fn each_mistake_gives_its_one_finding_and_mending_it_is_enough() {
    stage();
    stage::run(async {
        let played = CASES.map(|(mistake, apex, remedy)| {
            let play = tokio::spawn(named_and_mended(mistake, apex, remedy));
            async move { play.await.err().map(|_| mistake.to_string()) }
        });
        let failed: Vec<_> = join_all(played).await.into_iter().flatten().collect();
        assert_eq!(failed, [""; 0]);
    });
}

/// The answer that shows the refusal: between two of them the next order is on its
/// way, and no finding stands.
async fn refused(host: &str) -> Value {
    let service = &stage().service;
    let seen = Mutex::new(Value::Null);
    let shows = || async {
        let detail = service.cli_json(&["explain", host]).await;
        let is_shown =
            detail["findings"][0]["code"] == "issuer-refused" && detail["gates"][2]["state"] == "blocked";
        *seen.lock().expect("no panic") = detail;
        is_shown
    };
    wait_for("the refusal", TIME_LIMIT, shows).await.expect("refused");
    seen.into_inner().expect("no panic")
}

#[test]
fn a_refusal_of_the_issuer_is_shown_in_its_own_words() {
    stage();
    stage::run(async {
        let stage = stage();
        let id = uuid::Uuid::new_v4().simple().to_string();
        let host = format!("l{}.embargo.test", &id[..8]);
        let sheet = stage.service.enrol(&stage.world, &host).await;
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        let detail = refused(&host).await;
        assert_eq!(detail["refusal"]["type"], "urn:ietf:params:acme:error:rejectedIdentifier");
        assert!(detail["findings"][0]["remedy"].as_str().expect("text").contains("forbidden by policy"));
    });
}
