//! Where mail arrives: a server that takes mail by SMTP (RFC 5321) after STARTTLS (RFC 3207) and
//! a login (RFC 4954), and keeps it to be read.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::time::{sleep, timeout};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::Layout;
use crate::front::Minted;
use crate::tls;

/// Where it listens.
const MAILBOX: Ipv4Addr = Ipv4Addr::new(127, 88, 0, 5);
const MAILBOX_NAME: &str = "127.88.0.5";
/// Who may hand mail in.
pub const USER: &str = "quaymark";
/// With which password.
pub const PASSWORD: &str = "made-up-password";
/// To whom nobody delivers: an unknown one, a full one, and one that never answers.
pub const NOBODY: &str = "nobody@mail.test";
/// See [`NOBODY`].
pub const FULL: &str = "full@mail.test";
/// See [`NOBODY`].
pub const SLOW: &str = "slow@mail.test";
/// Longest that a caller may say nothing.
const SILENCE: Duration = Duration::from_secs(60);
/// Largest mail, in octets.
const LARGEST: usize = 1 << 20;

/// A mail as it arrived.
#[derive(Clone, Debug)]
pub struct Mail {
    /// To whom, by the envelope.
    pub to: Vec<String>,
    /// All of it, as it was sent.
    pub raw: String,
}

/// The mailbox, to be read.
#[derive(Clone, Debug)]
pub struct Mailbox {
    mails: Arc<watch::Sender<Vec<Mail>>>,
}

/// Where mail is handed in.
pub fn address(layout: &Layout) -> SocketAddr {
    (MAILBOX, layout.base_port + 9).into()
}

/// Starts it; it ends with the guard.
pub(crate) async fn start(layout: &Layout) -> anyhow::Result<(Mailbox, DropGuard)> {
    let address = address(layout);
    let listener = TcpListener::bind(address).await;
    let listener = listener.with_context(|| format!("Mail cannot be taken at {address}"))?;
    let acceptor = tls::server(Arc::new(Minted::open(layout, MAILBOX_NAME)?), &[])?;

    let mailbox = Mailbox { mails: Arc::new(watch::Sender::default()) };
    let stop = CancellationToken::new();
    tokio::spawn(stop.clone().run_until_cancelled_owned(listen(listener, acceptor, mailbox.clone())));
    Ok((mailbox, stop.drop_guard()))
}

async fn listen(listener: TcpListener, acceptor: TlsAcceptor, mailbox: Mailbox) {
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        let (acceptor, mailbox) = (acceptor.clone(), mailbox.clone());
        tokio::spawn(async move {
            // Whoever hangs up is nobody's trouble.
            let _ = serve(stream, &acceptor, &mailbox).await;
        });
    }
}

impl Mailbox {
    /// What has arrived for somebody so far, oldest first.
    pub fn to(&self, address: &str) -> Vec<Mail> {
        let mails = self.mails.borrow();
        mails.iter().filter(|mail| mail.to.iter().any(|to| to == address)).cloned().collect()
    }

    /// Waits until so many have arrived for somebody.
    ///
    /// # Errors
    /// If they do not within `within`.
    pub async fn wait(&self, address: &str, count: usize, within: Duration) -> anyhow::Result<Vec<Mail>> {
        let mut mails = self.mails.subscribe();
        let arrived = mails.wait_for(|_| self_count(&self.mails, address) >= count);
        let waited = timeout(within, arrived).await;
        waited.with_context(|| {
            format!("{} of {count} mails have arrived for {address}", self.to(address).len())
        })??;
        Ok(self.to(address))
    }
}

fn self_count(mails: &watch::Sender<Vec<Mail>>, address: &str) -> usize {
    mails.borrow().iter().filter(|mail| mail.to.iter().any(|to| to == address)).count()
}

async fn serve(mut stream: TcpStream, acceptor: &TlsAcceptor, mailbox: &Mailbox) -> anyhow::Result<()> {
    stream.write_all(b"220 mailbox ready\r\n").await?;
    let mut lines = BufReader::new(stream);
    loop {
        let line = read(&mut lines).await?;
        let answer: &[u8] = match verb(&line).as_str() {
            "EHLO" => b"250-mailbox\r\n250 STARTTLS\r\n",
            "STARTTLS" => {
                lines.get_mut().write_all(b"220 go ahead\r\n").await?;
                let stream = acceptor.accept(lines.into_inner()).await?;
                return take(BufReader::new(stream), mailbox).await;
            }
            "QUIT" => return Ok(()),
            _ => b"530 STARTTLS first\r\n",
        };
        lines.get_mut().write_all(answer).await?;
    }
}

/// What is said once it is said in secret.
async fn take(
    mut lines: BufReader<impl AsyncRead + AsyncWrite + Unpin>,
    mailbox: &Mailbox,
) -> anyhow::Result<()> {
    let mut is_known = false;
    let mut to: Vec<String> = Vec::new();
    loop {
        let line = read(&mut lines).await?;
        let answer = match verb(&line).as_str() {
            "EHLO" => "250-mailbox\r\n250 AUTH PLAIN\r\n",
            "AUTH" => {
                is_known = line.split(' ').nth(2).is_some_and(is_login);
                if is_known { "235 welcome\r\n" } else { "535 unknown\r\n" }
            }
            "QUIT" => return Ok(()),
            "NOOP" | "RSET" => "250 fine\r\n",
            _ if !is_known => "530 log in first\r\n",
            "MAIL" => {
                to.clear();
                "250 fine\r\n"
            }
            "RCPT" => recipient(&line, &mut to).await,
            "DATA" => {
                lines.get_mut().write_all(b"354 go on\r\n").await?;
                let raw = body(&mut lines).await?;
                mailbox.mails.send_modify(|mails| mails.push(Mail { to: std::mem::take(&mut to), raw }));
                "250 taken\r\n"
            }
            _ => "502 unknown\r\n",
        };
        lines.get_mut().write_all(answer.as_bytes()).await?;
    }
}

async fn recipient(line: &str, to: &mut Vec<String>) -> &'static str {
    let address = line.split(['<', '>']).nth(1).unwrap_or_default();
    match address {
        NOBODY => "550 no such mailbox\r\n",
        FULL => "452 mailbox full\r\n",
        SLOW => {
            sleep(SILENCE).await;
            "451 not now\r\n"
        }
        address => {
            to.push(address.to_owned());
            "250 fine\r\n"
        }
    }
}

async fn body(lines: &mut BufReader<impl AsyncRead + Unpin>) -> anyhow::Result<String> {
    let mut raw = String::new();
    loop {
        let line = read(lines).await?;
        if line == "." {
            return Ok(raw);
        }
        anyhow::ensure!(raw.len() < LARGEST, "The mail is too large");
        raw.push_str(line.strip_prefix('.').unwrap_or(&line));
        raw.push_str("\r\n");
    }
}

fn verb(line: &str) -> String {
    line.split(' ').next().unwrap_or_default().to_ascii_uppercase()
}

fn is_login(given: &str) -> bool {
    BASE64.decode(given).is_ok_and(|given| given == format!("\0{USER}\0{PASSWORD}").as_bytes())
}

async fn read(lines: &mut BufReader<impl AsyncRead + Unpin>) -> anyhow::Result<String> {
    let mut line = String::new();
    let read = timeout(SILENCE, lines.read_line(&mut line)).await??;
    anyhow::ensure!(read > 0, "The caller has hung up");
    Ok(line.trim_end_matches(['\r', '\n']).to_owned())
}
