//! Name servers with habits: each does one thing that servers on the Internet
//! do, and answers otherwise as its upstream does.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use hickory_proto::op::{Edns, Message, MessageType, Query, ResponseCode};
use hickory_proto::rr::rdata::{A, CNAME, NS, SOA, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::BinEncodable;
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

use crate::framed;

/// Largest reply by UDP without EDNS (RFC 1035, section 4.2.1).
const SMALL: usize = 512;
/// Largest reply that passes a link which loses fragments.
const PASSES: usize = 600;
/// How long a slow server thinks.
const THINKING: Duration = Duration::from_millis(700);
const UPSTREAM_LIMIT: Duration = Duration::from_secs(3);

nomenta_core::spelled! {
    /// What a server does.
    pub enum Habit: "habit" {
        /// Answers FORMERR to a question with EDNS.
        EdnsFormErr = "edns-formerr",
        /// Answers NOTIMP to a question with EDNS.
        EdnsNotImp = "edns-notimp",
        /// Answers BADVERS to a question with EDNS.
        EdnsBadVers = "edns-badvers",
        /// Drops questions with EDNS.
        EdnsDropped = "edns-dropped",
        /// Its larger replies by UDP get lost.
        LargeLost = "large-lost",
        /// Answers by TCP alone.
        TcpOnly = "tcp-only",
        /// Cuts what is over 512 octets short whatever was asked for, and gives it
        /// whole by TCP.
        Short = "short",
        /// The same, and has TCP closed.
        ShortAlone = "short-alone",
        /// Answers SERVFAIL for CAA.
        CaaFails = "caa-fails",
        /// Says nothing about CAA.
        CaaSilent = "caa-silent",
        /// Refuses HTTPS questions.
        HttpsRefused = "https-refused",
        /// Answers NOTIMP for types it does not know.
        TypesUnknown = "types-unknown",
        /// Leaves the question out of its errors.
        BareErrors = "bare-errors",
        /// Thinks for long.
        Slow = "slow",
        /// Sends a reply with another id first.
        ForgedFirst = "forged-first",
        /// Sends every reply twice.
        Twice = "twice",
        /// Adds records that are not its own to give.
        Generous = "generous",
        /// Answers without authority.
        Unsure = "unsure",
        /// Refuses everything.
        Refusing = "refusing",
        /// Fails for everything, with records in the answer.
        FailingFull = "failing-full",
        /// Says nothing.
        Silent = "silent",
        /// Splits texts into many strings.
        Splitting = "splitting",
        /// Gives every record a TTL of none.
        NoTtl = "no-ttl",
        /// Holds an alias beside other records, as a text at the label `_alias`
        /// says, since its upstream would not.
        AliasBeside = "alias-beside",
        /// Has every zone of three labels, and nothing in it.
        Hollow = "hollow",
        /// Compares names by their octets, and holds those in small letters alone.
        SmallLetters = "small-letters",
        /// Refuses names with an underscore.
        NoUnderscores = "no-underscores",
        /// Fails for addresses that it does not have, as at an alias whose target it cannot find.
        AddressesFail = "addresses-fail",
    }
}

impl Habit {
    /// Where the server with this habit answers, below one block of addresses.
    pub fn address(self, block: u8) -> Ipv4Addr {
        let place = Self::ALL.iter().position(|habit| *habit == self).unwrap_or(0);
        Ipv4Addr::new(127, block, 67, u8::try_from(place + 1).unwrap_or(u8::MAX))
    }
}

/// The servers; they end with this.
pub struct Stubs(#[expect(dead_code, reason = "held for its drop")] JoinSet<()>);

/// Starts one server for each habit, below one block of addresses.
///
/// # Errors
/// If an address is in use.
pub async fn start(block: u8, port: u16, upstream: SocketAddr) -> anyhow::Result<Stubs> {
    let mut servers = JoinSet::new();
    for habit in Habit::ALL {
        let address = SocketAddr::from((habit.address(block), port));
        let taken = format!("Cannot listen on {address}, for the name server {habit}");
        let socket = UdpSocket::bind(address).await.with_context(|| taken.clone())?;
        servers.spawn(by_udp(Arc::new(socket), upstream, *habit));

        if *habit != Habit::ShortAlone {
            let listener = TcpListener::bind(address).await.context(taken)?;
            servers.spawn(by_tcp(listener, upstream, *habit));
        }
    }

    Ok(Stubs(servers))
}

async fn by_udp(socket: Arc<UdpSocket>, upstream: SocketAddr, habit: Habit) {
    let mut buffer = [0; 4096];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        let question = buffer[..length].to_vec();
        let socket = socket.clone();
        tokio::spawn(async move {
            for reply in replies(&question, upstream, habit, false).await.unwrap_or_default() {
                let _ = socket.send_to(&reply, from).await;
            }
        });
    }
}

async fn by_tcp(listener: TcpListener, upstream: SocketAddr, habit: Habit) {
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        tokio::spawn(one_by_tcp(stream, upstream, habit));
    }
}

async fn one_by_tcp(mut stream: TcpStream, upstream: SocketAddr, habit: Habit) -> Option<()> {
    let question = framed::read(&mut stream).await?;
    let reply = replies(&question, upstream, habit, true).await?.pop()?;
    framed::write(&mut stream, &reply).await
}

/// Whole, whatever its size.
async fn ask_upstream(question: &[u8], upstream: SocketAddr) -> Option<Message> {
    let asked = async {
        let mut stream = TcpStream::connect(upstream).await.ok()?;
        framed::write(&mut stream, question).await?;
        framed::read(&mut stream).await
    };
    Message::from_vec(&timeout(UPSTREAM_LIMIT, asked).await.ok()??).ok()
}

/// What the server sends, in its order; nothing where it is silent.
async fn replies(question: &[u8], upstream: SocketAddr, habit: Habit, tcp: bool) -> Option<Vec<Vec<u8>>> {
    let asked = Message::from_vec(question).ok()?;
    if let Some(refusal) = turned_away(&asked, habit, tcp)? {
        return Some(vec![refusal.to_bytes().ok()?]);
    }
    if habit == Habit::Slow {
        sleep(THINKING).await;
    }

    let mut message = match habit {
        Habit::Hollow => hollow(&asked)?,
        _ => ask_upstream(question, upstream).await?,
    };
    change(&mut message, habit);
    if habit == Habit::AliasBeside {
        hold_alias(&mut message, upstream).await?;
    }
    let whole = message.to_bytes().ok()?;
    let payload = asked.extensions().as_ref().map_or(SMALL, |edns| usize::from(edns.max_payload()));
    if !tcp && habit == Habit::LargeLost && whole.len() > PASSES.min(payload) && payload > SMALL {
        return None;
    }

    let payload = if matches!(habit, Habit::Short | Habit::ShortAlone) { SMALL } else { payload };
    if !tcp && whole.len() > payload {
        message.set_truncated(true);
        message.take_answers();
        return Some(vec![message.to_bytes().ok()?]);
    }
    Some(match habit {
        Habit::ForgedFirst => vec![[&[!whole[0]], &whole[1..]].concat(), whole],
        Habit::Twice => vec![whole.clone(), whole],
        _ => vec![whole],
    })
}

/// A reply that has nothing to do with what is asked for; the outer `None` where
/// not even that comes.
fn turned_away(asked: &Message, habit: Habit, tcp: bool) -> Option<Option<Message>> {
    let has_edns = asked.extensions().is_some();
    let rtype = asked.queries().first().map(|query| query.query_type());
    let refuse = |code| {
        let mut message = Message::new();
        message.set_id(asked.id()).set_message_type(MessageType::Response).set_response_code(code);
        message.set_authoritative(code == ResponseCode::NXDomain);
        if habit != Habit::BareErrors {
            message.add_queries(asked.queries().to_vec());
        }
        // The upper bits of the code stand there (RFC 6891, section 6.1.3).
        if code == ResponseCode::BADVERS {
            message.set_edns(Edns::new());
        }
        Some(Some(message))
    };

    match (habit, rtype) {
        (Habit::Silent, _) => None,
        (Habit::TcpOnly, _) if !tcp => None,
        (Habit::EdnsDropped, _) if has_edns => None,
        (Habit::CaaSilent, Some(RecordType::CAA)) => None,
        (Habit::EdnsFormErr, _) if has_edns => refuse(ResponseCode::FormErr),
        (Habit::EdnsNotImp, _) if has_edns => refuse(ResponseCode::NotImp),
        (Habit::EdnsBadVers, _) if has_edns => refuse(ResponseCode::BADVERS),
        (Habit::Refusing, _) => refuse(ResponseCode::Refused),
        (Habit::CaaFails | Habit::BareErrors, Some(RecordType::CAA)) => refuse(ResponseCode::ServFail),
        (Habit::HttpsRefused, Some(RecordType::HTTPS)) => refuse(ResponseCode::Refused),
        (Habit::SmallLetters, _) if has_capitals(asked) => refuse(ResponseCode::NXDomain),
        (Habit::NoUnderscores, _) if begins_with_underscore(asked) => refuse(ResponseCode::Refused),
        (Habit::TypesUnknown, Some(RecordType::HTTPS)) => refuse(ResponseCode::NotImp),
        _ => Some(None),
    }
}

fn has_capitals(asked: &Message) -> bool {
    asked.queries().iter().any(|query| query.name().iter().flatten().any(u8::is_ascii_uppercase))
}

fn lacks_addresses(answer: &Message) -> bool {
    let is_address = |query: &Query| matches!(query.query_type(), RecordType::A | RecordType::AAAA);
    answer.answers().is_empty() && answer.queries().iter().any(is_address)
}

fn begins_with_underscore(asked: &Message) -> bool {
    let mut labels = asked.queries().iter().filter_map(|query| query.name().iter().next());
    labels.any(|label| label.starts_with(b"_"))
}

fn change(message: &mut Message, habit: Habit) {
    match habit {
        Habit::Unsure => drop(message.set_authoritative(false)),
        Habit::FailingFull => drop(message.set_response_code(ResponseCode::ServFail)),
        Habit::AddressesFail if lacks_addresses(message) => {
            message.set_response_code(ResponseCode::ServFail);
            message.take_name_servers();
        }
        Habit::Generous => be_generous(message),
        Habit::Splitting => rewrite(message, split),
        Habit::NoTtl => rewrite(message, |mut record| {
            record.set_ttl(0);
            record
        }),
        _ => {}
    }
}

/// Puts the alias before whatever else the name has.
async fn hold_alias(message: &mut Message, upstream: SocketAddr) -> Option<()> {
    let query = message.queries().first()?.clone();
    // At an apex such servers go on giving what the apex must have.
    let is_address = matches!(query.query_type(), RecordType::A | RecordType::AAAA | RecordType::CNAME);
    let is_apex = message.name_servers().iter().any(|start| start.name() == query.name());
    if !is_address && (is_apex || !message.answers().is_empty()) {
        return Some(());
    }

    let label = Name::from_ascii("_alias").ok()?.append_domain(query.name()).ok()?;
    let mut question = Message::new();
    question.add_query(Query::query(label, RecordType::TXT));
    let told = ask_upstream(&question.to_bytes().ok()?, upstream).await?;
    let Some(text) = told.answers().iter().find_map(|record| record.data().as_txt()) else { return Some(()) };

    let target = Name::from_ascii(text.to_string()).ok()?;
    let alias = Record::from_rdata(query.name().clone(), 5, RData::CNAME(CNAME(target)));
    let others = message.take_answers();
    message.insert_answers([vec![alias], others].concat());
    // A start of authority beside it would say that the alias leads nowhere.
    message.take_name_servers();
    message.set_response_code(ResponseCode::NoError);
    Some(())
}

/// An answer about a zone with nothing but its start and its name server.
fn hollow(asked: &Message) -> Option<Message> {
    let query = asked.queries().first()?;
    let zone = query.name().trim_to(3);
    let server = Name::from_ascii(format!("{}.habits.test.", Habit::Hollow)).ok()?;
    let start = SOA::new(server.clone(), server.clone(), 1, 3600, 600, 86_400, 2);
    let start = Record::from_rdata(zone.clone(), 5, RData::SOA(start));

    let mut message = Message::new();
    message.set_id(asked.id()).set_message_type(MessageType::Response).set_authoritative(true);
    message.add_query(query.clone());
    match query.query_type() {
        RecordType::SOA if *query.name() == zone => drop(message.add_answer(start)),
        RecordType::NS if *query.name() == zone => {
            message.add_answer(Record::from_rdata(zone, 5, RData::NS(NS(server))));
        }
        _ => drop(message.add_name_server(start)),
    }
    Some(message)
}

fn rewrite(message: &mut Message, change: impl FnMut(Record) -> Record) {
    let answers: Vec<_> = message.take_answers().into_iter().map(change).collect();
    message.insert_answers(answers);
}

/// An address for wherever an alias leads, which is another zone's to give.
fn be_generous(message: &mut Message) {
    let targets: Vec<_> =
        message.answers().iter().filter_map(|r| Some(r.data().as_cname()?.0.clone())).collect();
    for target in targets {
        message.add_answer(Record::from_rdata(target, 60, RData::A(A(Ipv4Addr::new(192, 0, 2, 66)))));
    }
}

/// The same text in strings of few octets.
fn split(record: Record) -> Record {
    let RData::TXT(txt) = record.data() else { return record };
    let joined: Vec<u8> = txt.iter().flat_map(|string| string.iter().copied()).collect();
    let strings = TXT::from_bytes(joined.chunks(5).collect());
    Record::from_rdata(record.name().clone(), record.ttl(), RData::TXT(strings))
}
