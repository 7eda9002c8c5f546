//! The edge feed: whole, and as changes that can be resumed.

use std::time::Duration;

use chrono::Utc;
use eventsource_stream::Eventsource;
use futures::StreamExt;
use nomenta_core::claim::rules::Rules;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_store::{Enrolment, NewDomain, Store};
use nomenta_world::wait_for;
use serde_json::Value;

use crate::own::{own, own_setup};
use crate::stage::{self, ADMIN, EDGE_KEY, Service, TIME_LIMIT, fresh_zone, stage};

/// More than fit one batch of changes.
fn many() -> usize {
    stage::heavy(5000, 1200)
}

async fn feed(service: &Service, etag: &str, wait: u32) -> (u16, String, Value) {
    let asked = service.request("GET", &format!("edge/feed?wait={wait}"), EDGE_KEY);
    let answer = asked.header("if-none-match", etag).send().await.expect("an answer");
    let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
    let etag = headers["etag"].to_str().expect("text").to_owned();
    (status, etag, answer.json().await.unwrap_or_default())
}

/// The next change after `after`, or the kind of event that came instead.
async fn next(service: &Service, after: i64) -> (String, i64, Value) {
    let asked = service.request("GET", "edge/changes", EDGE_KEY).header("last-event-id", after.to_string());
    let mut events = asked.send().await.expect("an answer").bytes_stream().eventsource();
    let event = tokio::time::timeout(Duration::from_secs(30), events.next()).await.expect("in time");
    let event = event.expect("an event").expect("readable");
    let data = serde_json::from_str(&event.data).unwrap_or_default();
    (event.event, event.id.parse().unwrap_or(-1), data)
}

#[test]
fn a_change_reaches_the_edge_and_a_stream_resumes_where_it_was() {
    stage();
    stage::run(async {
        let own = own(own_setup("feed", 90).await, "feed", 90).await;
        let refused = own.request("GET", "edge/changes", ADMIN).send().await.expect("an answer");
        assert_eq!(refused.status().as_u16(), 403, "no key but an edge's");
        // Its own start is numbered a moment after it.
        let (_, etag, before) = feed(&own, "\"0\"", 30).await;
        assert_eq!(before["routes"].as_array().map(Vec::len), Some(1), "the default host");
        assert_eq!(before["routes"][0]["noindex"], true);
        let (status, ..) = feed(&own, &etag, 0).await;
        assert_eq!(status, 304);
        let position = before["position"].as_i64().expect("a number");

        let host = format!("board.{}", fresh_zone("feed"));
        own.published(&host).await;
        own.live(&host).await;
        let (kind, number, change) = next(&own, position).await;
        assert_eq!((kind.as_str(), change["host"].as_str()), ("change", Some(host.as_str())));
        assert!(
            change["route"]["site"] == "onswick" && change["certificate"]["key_pem"].is_string(),
            "{change}"
        );
        let (status, _, after) = feed(&own, &etag, 0).await;
        assert_eq!((status, after["position"].as_i64()), (200, Some(number)));
        // From the future, or from before what is kept: read it whole.
        assert_eq!(next(&own, number + 1000).await.0, "reset");
        // Nothing has changed since, so the stream waits, and then tells.
        let release = ["release", host.as_str()];
        let (told, _) = tokio::join!(next(&own, number), own.cli(&release));
        assert_eq!(told.2["host"], host.as_str());
        assert!(told.2["route"].is_null() && told.2["certificate"].is_null());
        own.daemon.stop().await;
    });
}

#[test]
fn five_thousand_routes_are_fed_and_each_further_change_is_told_alone() {
    stage();
    stage::run(async {
        let own = own(own_setup("large", 91).await, "large", 91).await;
        let store = Store::open(&own.setup.database, Rules::default()).await.expect("opened");
        let zone = fresh_zone("large");
        let domains: Vec<_> = (0..many())
            .map(|n| {
                let subject = Subject::parse(&format!("n{n}.{zone}")).expect("a name");
                NewDomain { subject, token: Token::from_random([7; 20]) }
            })
            .collect();
        let until = Utc::now() + chrono::Duration::days(30);
        let new = Enrolment::new("onswick", &domains, until);
        store.enrol(&new).await.expect("enrolled");
        // As if the owner of each had proven it, which takes a while.
        let proven = "LOCK TABLE domains, tasks IN EXCLUSIVE MODE; DELETE FROM tasks;
                      UPDATE domains SET ownership = 'passed', held_since = now();
                      INSERT INTO edge_changes (host) SELECT host FROM domains;
                      NOTIFY nomenta_edge";
        stage().world.statement("large", proven).await.expect("proven");
        wait_for("all routes arriving", TIME_LIMIT, || async { own.edge.route_count() == many() + 1 })
            .await
            .expect("arrived");
        let (_, _, whole) = feed(&own, "", 0).await;
        assert_eq!(whole["routes"].as_array().map(Vec::len), Some(many() + 1));
        let position = whole["position"].as_i64().expect("a number");
        let host = format!("n17.{zone}");
        let release = ["release", host.as_str()];
        let (told, _) = tokio::join!(next(&own, position), own.cli(&release));
        assert_eq!(told.2["host"], host.as_str());
        wait_for("the edge dropping it", TIME_LIMIT, || async { !own.edge.routes(&host) })
            .await
            .expect("dropped");
        assert_eq!(own.edge.route_count(), many());
        own.daemon.kill().await;
    });
}
