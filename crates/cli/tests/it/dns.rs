//! Reading the DNS on real servers.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use futures::future::join_all;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::answer::{Outcome, Rcode, Reading};
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Target};
use nomenta_core::reading::trust::Signed;
use nomenta_dns::{DnsConfig, Egress, Politeness, QuickLook, SurveyLimits, Surveyor, Transport, Vantage};
use nomenta_world::layout::{HARROW, ROOT};
use nomenta_world::zones::{Change, servers};
use nomenta_world::{customer, wait_for};
use tokio::io::copy;
use tokio::net::{TcpListener, TcpStream, UdpSocket};

use crate::stage::{self, TIME_LIMIT, fresh_zone, stage};

fn surveyor() -> Surveyor {
    let layout = &stage().world.layout;
    let plain = |(name, address)| Vantage { name, transport: Transport::Plain(address) };
    reading_through(layout.vantages().into_iter().map(plain).collect(), Duration::from_millis(500))
}

fn reading_through(vantages: Vec<Vantage>, timeout: Duration) -> Surveyor {
    let layout = &stage().world.layout;
    Surveyor::new(DnsConfig {
        roots: vec![ROOT.into()],
        authority_port: layout.dns_port(),
        vantages,
        vantage_roots: layout.vantage_roots(),
        timeout,
        tries: 2,
        politeness: Politeness::default(),
        limits: SurveyLimits::default(),
        egress: Egress::loopback(),
    })
    .expect("roots")
}

fn target(host: &str) -> Target {
    Target {
        host: Hostname::parse(host).expect("a host"),
        routed: host.into(),
        challenge: format!("_c.{host}").into(),
        brand: "c".into(),
        canonical: "onswick.edge.quaymark.example".into(),
        acme: None,
        token: None,
        is_unproved: true,
        is_unrouted: false,
        addresses: Default::default(),
    }
}

async fn registered(prefix: &str) -> String {
    let zone = fresh_zone(prefix);
    stage().world.zones.register(&zone).await.expect("registered");
    zone
}

/// Until every vantage finds records that are new: from what it knows of names around, it
/// may still tell, proved by the registry's signatures, that there is no such zone (RFC 8198).
async fn found_by_vantages(surveyor: &Surveyor, zone: &str, owner: &str, rtype: RecordType) {
    wait_for("every vantage finding the records", Duration::from_secs(30), || async {
        let survey = surveyor.survey(&target(zone), Depth::Full).await;
        let told: Vec<_> = survey.of(owner, rtype).filter(|reading| !reading.source.is_authority()).collect();
        let found = |reading: &&Reading| reading.answer().is_some_and(|records| !records.is_empty());
        !told.is_empty() && told.iter().all(found)
    })
    .await
    .expect("found");
}

fn add(owner: &str, data: RecordData) -> Change {
    Change::Add { owner: owner.into(), ttl: 30, data }
}

#[test]
fn the_walk_crosses_referrals_to_both_servers_and_sees_ttls_and_absences() {
    stage();
    stage::run(async {
        let zone = registered("walk").await;
        let name = format!("www.{zone}");
        let address = RecordData::A([127, 77, 0, 10].into());
        stage().world.zones.update(&zone, &[add(&name, address.clone())]).await.expect("updated");
        let survey = surveyor().survey(&target(&name), Depth::Full).await;
        let ZoneView::Found { apex, servers, .. } = &survey.zone else { panic!("{:?}", survey.zone) };
        assert_eq!(apex, &zone);
        let addresses: Vec<_> = servers.iter().map(|s| s.address).collect();
        assert_eq!(addresses, HARROW.servers.map(std::net::IpAddr::from));
        let read: Vec<_> = survey.authority(&name, RecordType::A).collect();
        assert_eq!(read.len(), 2);
        for (_, records) in read {
            assert_eq!((records[0].ttl, &records[0].data), (30, &address));
        }
        for reading in survey.of(&format!("_c.{name}"), RecordType::Txt) {
            let Outcome::Answer { rcode, records, .. } = &reading.outcome else { panic!("{reading:?}") };
            assert_eq!((rcode, records.len()), (&Rcode::NxDomain, 0));
        }
    });
}

#[test]
fn an_answer_too_large_for_udp_comes_by_tcp() {
    stage();
    stage::run(async {
        let zone = registered("large").await;
        let challenge = format!("_c.{zone}");
        let texts = (0..20).map(|n| add(&challenge, RecordData::Txt(format!("{n:0200}").into())));
        stage().world.zones.update(&zone, &texts.collect::<Vec<_>>()).await.expect("updated");
        let survey = surveyor().survey(&target(&zone), Depth::Full).await;
        let counts: Vec<_> = survey.authority(&challenge, RecordType::Txt).map(|(_, rs)| rs.len()).collect();
        assert_eq!(counts, [20, 20]);
    });
}

#[test]
fn a_name_server_without_glue_is_found_by_a_walk_of_its_own() {
    stage();
    stage::run(async {
        let id = uuid::Uuid::new_v4().simple().to_string();
        let zone = format!("glueless-{}.test", &id[..8]);
        let zones = &stage().world.zones;
        zones.register(&zone).await.expect("registered");
        // The registry of test. has no addresses for servers under example.
        zones.delegate(&zone, &servers(HARROW)).await.expect("delegated");
        let survey = surveyor().survey(&target(&zone), Depth::Full).await;
        let ZoneView::Found { apex, servers, .. } = &survey.zone else { panic!("{:?}", survey.zone) };
        assert_eq!(apex, &zone);
        assert!(servers.iter().any(|s| s.address == std::net::IpAddr::from(HARROW.servers[0])));
    });
}

#[test]
fn a_server_at_an_address_outside_the_rule_is_never_asked() {
    stage();
    stage::run(async {
        let zone = registered("guarded").await;
        let outside = [(format!("ns1.{zone}"), [192, 0, 2, 53].into())];
        stage().world.zones.delegate(&zone, &outside).await.expect("delegated");
        let survey = surveyor().survey(&target(&zone), Depth::Full).await;
        let ZoneView::Unreachable { tried, .. } = &survey.zone else { panic!("{:?}", survey.zone) };
        assert!(tried[0].contains("192.0.2.53) has an address that may not be asked"), "{tried:?}");
    });
}

/// A server that answers every question with what `reply` makes of it.
async fn answering(reply: impl Fn(&[u8]) -> Vec<Vec<u8>> + Send + 'static) -> SocketAddr {
    let socket = Arc::new(UdpSocket::bind("127.53.77.1:0").await.expect("bound"));
    let address = socket.local_addr().expect("address");
    tokio::spawn(async move {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
            for bytes in reply(&buffer[..length]) {
                let _ = socket.send_to(&bytes, from).await;
            }
        }
    });
    address
}

fn lone_vantage(address: SocketAddr) -> Surveyor {
    let odd = Vantage { name: "odd".into(), transport: Transport::Plain(address) };
    reading_through(vec![odd], Duration::from_millis(200))
}

#[test]
fn silence_forgery_and_garbage_are_told_apart_from_answers() {
    stage();
    stage::run(async {
        let zone = registered("odd").await;
        let silent = answering(|_| Vec::new()).await;
        // The question with the answer bit set and another id: a forgery.
        let forged = answering(|q| vec![[&[!q[0], q[1], 0x84, 0], &q[4..]].concat()]).await;
        let garbage = answering(|q| vec![[&q[..2], &[0xff; 9]].concat()]).await;
        // A forgery first, and the true reply behind it.
        let both = answering(|q| {
            let reply = |first: u8| [&[first, q[1], 0x84, 0], &q[4..]].concat();
            vec![reply(!q[0]), reply(q[0])]
        })
        .await;
        for (address, want) in
            [(silent, "silence"), (forged, "silence"), (garbage, "garbled"), (both, "answer")]
        {
            let survey = lone_vantage(address).survey(&target(&zone), Depth::Full).await;
            let outcomes =
                survey.readings.iter().filter(|r| !r.source.is_authority()).map(|r| match r.outcome {
                    Outcome::Silence => "silence",
                    Outcome::Garbled { .. } => "garbled",
                    Outcome::Answer { .. } => "answer",
                    Outcome::Guarded => "guarded",
                    Outcome::NoRoute => "no route",
                    Outcome::Short { .. } => "short",
                    Outcome::Late => "late",
                    Outcome::Unread { .. } => "unread",
                });
            assert!(outcomes.clone().all(|o| o == want), "{want}: {:?}", outcomes.collect::<Vec<_>>());
        }
    });
}

#[test]
fn vantages_answer_the_same_by_udp_tls_and_https() {
    stage();
    stage::run(async {
        let zone = registered("encrypted").await;
        let address = RecordData::A([127, 77, 0, 10].into());
        // Too large for UDP, so that the plain one comes by TCP.
        let texts = (0..12).map(|n| add(&format!("_c.{zone}"), RecordData::Txt(format!("{n:0200}").into())));
        let changes: Vec<_> = texts.chain([add(&zone, address.clone())]).collect();
        stage().world.zones.update(&zone, &changes).await.expect("updated");
        found_by_vantages(&surveyor(), &zone, &zone, RecordType::A).await;

        let words = stage().world.layout.vantage_words();
        let vantages = words.iter().map(|w| w.parse().expect("a vantage")).collect();
        let survey =
            reading_through(vantages, Duration::from_secs(8)).survey(&target(&zone), Depth::Full).await;
        let names: Vec<_> = survey.vantages().map(ToString::to_string).collect();
        assert_eq!(names, ["north", "south", "west"]);
        for source in survey.vantages() {
            let view = survey.host_view(source).expect("both families were answered");
            let read: Vec<_> = view.ipv4.iter().copied().map(RecordData::A).collect();
            let said: Vec<_> = survey.of(&zone, RecordType::A).filter(|r| &r.source == source).collect();
            assert_eq!(read.as_slice(), std::slice::from_ref(&address), "{source}: {said:?}");
            let challenge = format!("_c.{zone}");
            let mut texts = survey.of(&challenge, RecordType::Txt).filter(|r| &r.source == source);
            let count = texts.next().and_then(|r| r.answer()).map_or(0, <[_]>::len);
            assert_eq!(count, 12, "{source}");
        }
    });
}

#[test]
fn a_vantage_by_tls_gets_no_more_connections_at_once_than_it_takes_as_it_is_installed() {
    stage();
    stage::run(async {
        let zone = registered("connected").await;
        stage()
            .world
            .zones
            .update(&zone, &[add(&zone, RecordData::A([127, 77, 0, 10].into()))])
            .await
            .expect("new");
        let words = stage().world.layout.vantage_words();
        let south: Vantage = words[1].parse().expect("a vantage");
        let Transport::Tls { address, name } = south.transport else { panic!("{words:?}") };
        let (relay, most) = counted(address).await;
        let vantage = Vantage { name: south.name, transport: Transport::Tls { address: relay, name } };

        let surveyor = reading_through(vec![vantage], Duration::from_secs(8));
        let target = target(&zone);
        let surveys = join_all((0..40).map(|_| surveyor.survey(&target, Depth::Full))).await;
        for survey in surveys {
            let mut told = survey.of(&zone, RecordType::Soa).chain(survey.of(&zone, RecordType::A));
            let heard = told.find(|reading| !reading.source.is_authority()).expect("a reading");
            assert!(matches!(heard.outcome, Outcome::Answer { .. }), "{heard:?}");
        }
        // One that has just ended may still be counted.
        assert!((2..=16).contains(&most.load(Ordering::SeqCst)), "{most:?} at once");
    });
}

/// Passes connections on, and counts the most that there are at once.
async fn counted(server: SocketAddr) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.expect("bound");
    let relay = listener.local_addr().expect("an address");
    let most = Arc::new(AtomicUsize::new(0));
    let (counted, now) = (most.clone(), Arc::new(AtomicUsize::new(0)));
    tokio::spawn(async move {
        while let Ok((here, _)) = listener.accept().await {
            let now = now.clone();
            counted.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            tokio::spawn(async move {
                if let Ok(there) = TcpStream::connect(server).await {
                    let ((mut asked, mut told), (mut answers, mut asks)) =
                        (here.into_split(), there.into_split());
                    tokio::spawn(async move { copy(&mut answers, &mut told).await });
                    let _ = copy(&mut asked, &mut asks).await;
                }
                now.fetch_sub(1, Ordering::SeqCst);
            });
        }
    });
    (relay, most)
}

#[test]
fn a_signed_zone_is_told_from_others_and_vantages_say_that_they_have_checked_it() {
    stage();
    stage::run(async {
        let (open, signed) = (registered("unsigned").await, registered("signed").await);
        let zones = &stage().world.zones;
        let challenge = format!("_c.{open}");
        for (zone, owner) in [(&open, &challenge), (&signed, &format!("_c.{signed}"))] {
            let text = add(owner, RecordData::Txt("token=x".to_owned().into()));
            zones.update(zone, &[text]).await.expect("published");
        }
        zones.sign(&signed).await.expect("signed");

        let surveyor = surveyor();
        found_by_vantages(&surveyor, &open, &challenge, RecordType::Txt).await;
        let survey = surveyor.survey(&target(&open), Depth::Full).await;
        assert_eq!(survey.signed, Some(Signed::Unsigned));
        let mut told = survey.of(&challenge, RecordType::Txt);
        assert!(told.all(|reading| !reading.authentic), "{survey:?}");
        let texts = |survey: &Survey| -> Vec<bool> {
            let wanted =
                |reading: &&Reading| reading.rtype == RecordType::Txt && !reading.source.is_authority();
            survey.readings.iter().filter(wanted).map(|reading| reading.authentic).collect()
        };
        // Names beside it may be under the registry's proof for as long as that is remembered.
        wait_for("vantages proving nothing", TIME_LIMIT, || async {
            let survey = surveyor.survey(&target(&open), Depth::Full).await;
            texts(&survey).iter().all(|authentic| !authentic)
        })
        .await
        .expect("unproved");

        // The registry's word takes a while to reach every resolver.
        wait_for("vantages checking signatures", TIME_LIMIT, || async {
            let survey = surveyor.survey(&target(&signed), Depth::Full).await;
            survey.signed == Some(Signed::Signed) && texts(&survey).iter().all(|authentic| *authentic)
        })
        .await
        .expect("checked");

        let host = format!("timetable.{signed}");
        let sheet = stage().service.enrol(&stage().world, &host).await;
        customer::publish(zones, &sheet, None).await.expect("published");
        stage().service.live(&host).await;
    });
}

#[test]
fn a_vantage_with_another_certificate_is_not_believed() {
    stage();
    stage::run(async {
        let zone = registered("untrusted").await;
        let right = stage().world.layout.vantage_words()[1].clone();
        let wrong = format!("{right}#other.example").parse().expect("a vantage");
        let closed = "gone=https://127.53.100.3:9/dns-query".parse().expect("a vantage");
        let survey = reading_through(vec![wrong, closed], Duration::from_secs(2))
            .survey(&target(&zone), Depth::Full)
            .await;
        let told = |name: &str| {
            let of = survey.readings.iter().filter(|r| r.source.to_string() == name);
            of.filter_map(Reading::failure).collect::<std::collections::BTreeSet<_>>()
        };
        let told_south = told("south");
        assert!(
            told_south.len() == 1 && told_south.iter().all(|t| t.contains("TLS fails")),
            "{told_south:?}"
        );
        assert_eq!(told("gone").into_iter().collect::<Vec<_>>(), ["does not answer"]);
    });
}

#[test]
fn equal_questions_are_sent_once_and_a_server_is_asked_no_faster_than_allowed() {
    stage();
    stage::run(async {
        let zone = registered("polite").await;
        let asked = Arc::new(std::sync::Mutex::new(Vec::new()));
        let heard = asked.clone();
        let address = answering(move |q| {
            heard.lock().expect("a lock").push(q[12..].to_vec());
            vec![[&[q[0], q[1], 0x84, 0], &q[4..]].concat()]
        })
        .await;
        let layout = &stage().world.layout;
        let surveyor = Surveyor::new(DnsConfig {
            roots: vec![ROOT.into()],
            authority_port: layout.dns_port(),
            vantages: vec![Vantage { name: "slow".into(), transport: Transport::Plain(address) }],
            vantage_roots: layout.vantage_roots(),
            timeout: Duration::from_secs(5),
            tries: 1,
            politeness: Politeness { in_flight: 64, per_second: 50 },
            limits: SurveyLimits::default(),
            egress: Egress::loopback(),
        })
        .expect("a surveyor");
        let target = target(&zone);
        // So that neither of the two has to find the zone while the other asks.
        surveyor.survey(&target, Depth::Full).await;
        asked.lock().expect("a lock").clear();

        let begun = std::time::Instant::now();
        let (one, two) =
            tokio::join!(surveyor.survey(&target, Depth::Full), surveyor.survey(&target, Depth::Full));
        let took = begun.elapsed();

        let vantage = |s: &Survey| s.readings.iter().filter(|r| !r.source.is_authority()).count();
        assert_eq!(vantage(&one), vantage(&two));
        let asked = asked.lock().expect("a lock");
        let mut questions = asked.clone();
        questions.sort();
        questions.dedup();
        assert_eq!(asked.len(), questions.len(), "a question was sent twice");
        // Twenty milliseconds lie between two at 50 a second; a busy machine only
        // makes it more.
        let least = Duration::from_millis(20) * u32::try_from(asked.len() - 1).expect("few");
        assert!(took >= least.mul_f64(0.8), "{} questions in {took:?}", asked.len());
    });
}

#[test]
fn many_domains_are_looked_at_quickly_and_unknown_zones_are_left_out() {
    stage();
    stage::run(async {
        let zone = registered("many").await;
        let names: Vec<_> = (0..40).map(|n| format!("s{n}.{zone}")).collect();
        let changes: Vec<_> = names.iter().map(|n| add(n, RecordData::A([127, 77, 0, 10].into()))).collect();
        stage().world.zones.update(&zone, &changes).await.expect("updated");
        let quick = |name: &String, zone: &str| QuickLook { target: target(name), zone: zone.into() };
        let mut looks: Vec<_> = names.iter().map(|name| quick(name, &zone)).collect();
        let nowhere = fresh_zone("nowhere");
        looks.push(quick(&nowhere, &nowhere));
        let surveyor = surveyor();
        let views = surveyor.look_quickly(&looks).await;
        assert!(views[40].survey.is_none(), "nobody has registered it");
        for (view, look) in views[..40].iter().zip(&looks) {
            let survey = view.survey.as_ref().expect("a survey");
            // Two servers, three questions, no vantage.
            assert_eq!((survey.readings.len(), survey.depth), (6, Depth::Quick));
            let full = surveyor.survey(&look.target, Depth::Full).await;
            assert_eq!(survey.quick_fingerprint(&look.target), full.quick_fingerprint(&look.target));
        }
    });
}
