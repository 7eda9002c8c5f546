//! The engine against servers that misbehave.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::record::RecordType;
use tokio::net::UdpSocket;

use super::*;
use crate::wire::Mode;

/// A server that answers what `reply` makes of a question and of how many
/// came before it; the second part counts.
async fn server(
    reply: impl Fn(usize, &[u8]) -> Option<Vec<u8>> + Send + 'static,
) -> (SocketAddr, Arc<AtomicUsize>) {
    let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
    let (address, count) = (socket.local_addr().expect("address"), Arc::new(AtomicUsize::new(0)));
    let counted = count.clone();
    tokio::spawn(async move {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
            let before = counted.fetch_add(1, Ordering::SeqCst);
            if let Some(bytes) = reply(before, &buffer[..length]) {
                let _ = socket.send_to(&bytes, from).await;
            }
        }
    });
    (address, count)
}

/// The question as its own empty answer.
fn answered(question: &[u8]) -> Vec<u8> {
    [&question[..2], &[0x84, 0], &question[4..]].concat()
}

/// One that waits for as long before it asks again.
fn waiting(timeout: Duration) -> Engine {
    let politeness = Politeness { in_flight: 64, per_second: 0 };
    Engine::new(Settings { timeout, tries: 3, politeness, records: 100 }, Arc::default())
}

fn engine() -> Engine {
    waiting(Duration::from_millis(150))
}

/// For servers that answer: however busy the machine is, nothing is asked twice.
fn patient() -> Engine {
    waiting(PATIENCE)
}

const PATIENCE: Duration = Duration::from_secs(5);

fn ask(server: SocketAddr, index: usize) -> Ask {
    Ask::new(server, &format!("s{index}.onswick.example"), RecordType::A, Mode::Authority)
}

fn rcode(got: &Got) -> Option<Rcode> {
    match got {
        Got::Reply(reply) => Some(reply.rcode),
        _ => None,
    }
}

#[tokio::test]
async fn a_thousand_questions_come_back_in_their_order() {
    let (address, count) = server(|_, q| Some(answered(q))).await;
    let asks: Vec<_> = (0..1000).map(|index| ask(address, index)).collect();
    let answers = patient().ask_all(&asks).await;
    assert_eq!(answers.len(), 1000);
    assert!(answers.iter().all(|(got, _)| rcode(got) == Some(Rcode::NoError)));
    assert!(count.load(Ordering::SeqCst) >= 1000);
}

#[tokio::test]
async fn what_is_lost_is_asked_again_and_what_stays_lost_is_silence() {
    // Each question of the first round is lost.
    let (address, _) = server(|before, q| (before >= 20).then(|| answered(q))).await;
    let asks: Vec<_> = (0..20).map(|index| ask(address, index)).collect();
    let answers = engine().ask_all(&asks).await;
    assert!(answers.iter().all(|(got, _)| rcode(got).is_some()), "{answers:?}");
    let (silent, count) = server(|_, _| None).await;
    let answers = engine().ask_all(&[ask(silent, 1)]).await;
    assert!(matches!(answers[..], [(Got::Silence, _)]), "{answers:?}");
    assert_eq!(count.load(Ordering::SeqCst), 3, "three tries");
}

#[tokio::test]
async fn equal_questions_share_one_datagram() {
    let (address, count) = server(|_, q| Some(answered(q))).await;
    let asks: Vec<_> = (0..50).map(|index| ask(address, index % 5)).collect();
    let answers = patient().ask_all(&asks).await;
    assert!(answers.iter().all(|(got, _)| rcode(got).is_some()));
    assert_eq!(count.load(Ordering::SeqCst), 5);
}

#[tokio::test]
async fn a_name_that_cannot_be_asked_for_does_not_keep_the_others_back() {
    let (address, _) = server(|_, q| Some(answered(q))).await;
    let long = Ask { name: "a".repeat(70).into(), ..ask(address, 1) };
    let answers = patient().ask_all(&[ask(address, 0), long, ask(address, 2)]).await;
    assert!(rcode(&answers[0].0).is_some() && rcode(&answers[2].0).is_some());
    assert!(matches!(answers[1].0, Got::Garbled(_)), "{:?}", answers[1]);
    assert!(engine().ask_all(&[]).await.is_empty());
}

#[tokio::test]
async fn garbage_is_waited_past_and_named_when_nothing_better_comes() {
    let (garbled, _) = server(|_, q| Some([&q[..2], &[0xff; 30]].concat())).await;
    let answers = engine().ask_all(&[ask(garbled, 1)]).await;
    assert!(matches!(&answers[0].0, Got::Garbled(_)), "{answers:?}");
    let (mending, _) = server(|before, q| match before {
        0 => Some([&q[..2], &[0xff; 30]].concat()),
        _ => Some(answered(q)),
    })
    .await;
    let answers = engine().ask_all(&[ask(mending, 1)]).await;
    assert_eq!(rcode(&answers[0].0), Some(Rcode::NoError));
}

#[tokio::test]
async fn a_reply_with_other_letters_is_taken_only_if_no_better_one_comes() {
    // Forged first, with the letters as anybody would guess them.
    let (address, _) = server(|_, q| Some(answered(q))).await;
    let answers = patient().ask_all(&[ask(address, 1)]).await;
    assert_eq!(rcode(&answers[0].0), Some(Rcode::NoError));

    let small = |q: &[u8]| [&q[..12], &q[12..].to_ascii_lowercase()].concat();
    let (folding, count) = server(move |_, q| Some(answered(&small(q)))).await;
    let engine = patient();
    let first = engine.ask_all(&[ask(folding, 1)]).await;
    assert_eq!(rcode(&first[0].0), Some(Rcode::NoError));
    let asked: Vec<_> = (2..50).map(|index| ask(folding, index)).collect();
    let begun = Instant::now();
    let later = engine.ask_all(&asked).await;
    assert!(later.iter().all(|(got, _)| rcode(got) == Some(Rcode::NoError)));
    assert!(begun.elapsed() < PATIENCE, "it is known by now");
    assert_eq!(count.load(Ordering::SeqCst), 49);
}

#[tokio::test]
async fn whoever_knows_the_port_and_tries_every_id_still_has_to_guess_the_letters() {
    let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
    let address = socket.local_addr().expect("an address");
    tokio::spawn(async move {
        let mut buffer = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
            let question = buffer[..length].to_vec();
            let name = question[12..].to_ascii_lowercase();
            // No such name, for every id there is; the letters as anybody would write them.
            for id in 0..=u16::MAX {
                let forged = [&id.to_be_bytes()[..], &[0x84, 3], &question[4..12], &name].concat();
                let _ = socket.send_to(&forged, from).await;
            }
            // Among so many it may be lost.
            for _ in 0..100 {
                tokio::time::sleep(Duration::from_millis(20)).await;
                let _ = socket.send_to(&answered(&question), from).await;
            }
        }
    });

    // Of so many letters that nobody guesses them by chance.
    let name = "a-name-with-a-good-many-letters-in-it.onswick.example";
    let asked = Ask::new(address, name, RecordType::A, Mode::Authority);
    let answers = patient().ask_all(&[asked]).await;
    assert_eq!(rcode(&answers[0].0), Some(Rcode::NoError), "{:?}", answers[0].0);
}
