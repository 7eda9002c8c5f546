//! Notices: what happens is told to hooks and by mail, at least once, in order for each domain.

mod hooks;
pub(crate) mod post;
mod written;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use chrono::Utc;
use data_encoding::HEXLOWER;
use futures::StreamExt;
use futures::stream;
use nomenta_api::handoff::{Face, HandoffView, Language};
use nomenta_api::notice::{Letter, Means, Told, WrittenMail};
use nomenta_core::notice::again_after;
use nomenta_dns::Surveyor;
use nomenta_store::{DueRow, NewReader, NotTaken, ReceiverLease, ReceiverRow, StoreError};
use sha2::{Digest, Sha256};
use tokio::task::JoinSet;
use tokio::time::sleep;
use uuid::Uuid;

use self::hooks::{Caller, NotCalled};
use self::post::Post;
use self::written::Forms;
use crate::App;
use crate::access;
use crate::config::{NoticesConfig, ServiceConfig};

pub(crate) use self::hooks::new_secret;
pub use self::post::MailConfig;
pub(crate) use self::post::checked;
pub(crate) use self::written::samples;

/// What is sealed for notices.
pub(crate) const HOOK_SECRET: &str = "secret of a hook";
pub(crate) const LINK: &str = "link of a reader";
pub(crate) const READER: &str = "page of a reader";

/// Why somebody is told nothing who could not be asked whether they want it.
pub(crate) const UNASKED: &str = "the mail was not taken";

/// What secrets of readers' pages begin with.
const READER_BEGIN: &str = "nmr_";

/// Receivers that are served at once in one process.
const AT_ONCE: usize = 16;
/// Domains about which one hook is called at once.
const CALLS: usize = 4;
/// Things that are sent to a hook before it is let go, and that one mail tells.
const MOST_CALLS: i64 = 40;
const MOST_TOLD: i64 = 500;
/// Longest sleep, in case a call was missed.
const LONGEST_SLEEP: f64 = 30.0;
/// How long to wait where the database is away.
const AWAY: Duration = Duration::from_secs(1);

/// Tells hooks and people.
pub(crate) struct Notices {
    caller: Caller,
    post: Option<Post>,
    forms: Forms,
}

impl Notices {
    /// # Errors
    /// If a template, the roots or the sender's address are not to be used.
    pub(crate) fn new(config: &ServiceConfig, surveyor: Arc<Surveyor>) -> anyhow::Result<Self> {
        let NoticesConfig { mail, templates, .. } = &config.notices;
        let face = &config.reception.face;
        let post = mail.as_ref().map(|mail| Post::new(mail, &face.name, &config.trust)).transpose();
        Ok(Self {
            caller: Caller::new(surveyor, config.dns.egress.clone(), &config.trust)?,
            post: post.context("Mail cannot be sent as it is configured")?,
            forms: Forms::read(templates.as_deref(), face)?,
        })
    }

    /// Whether mail can be sent at all.
    pub(crate) fn has_mail(&self) -> bool {
        self.post.is_some()
    }

    /// Whether a URL may be called.
    ///
    /// # Errors
    /// What is wrong with it, and what to give instead.
    pub(crate) fn vetted(&self, url: &str) -> Result<(), NotCalled> {
        self.caller.vetted(url).map(drop)
    }

    /// A mail as it would be written.
    ///
    /// # Errors
    /// If a template cannot be filled.
    pub(crate) fn sample(&self, app: &App, told: &[Told], language: Language) -> anyhow::Result<WrittenMail> {
        let face = &app.config.reception.face;
        let public = &app.config.reception.public_url;
        let letter = Letter::of(told, face, language);
        let open = format!("{public}/handoff/nmh_sample");
        self.forms.write(&letter, face, Some(&open), Some(&format!("{public}/told/sample")))
    }

    /// Writes a mail and sends it: `open` and `stop` are where its links lead, `id` is the same
    /// whenever it is sent again.
    async fn send(
        &self,
        face: &Face,
        letter: &Letter,
        to: &str,
        id: &str,
        open: Option<&str>,
        stop: Option<&str>,
    ) -> Result<(), NotTaken> {
        let none = || post::not_now("This service sends no mail: start it with --mail-server");
        let post = self.post.as_ref().ok_or_else(none)?;
        let mail = self.forms.write(letter, face, open, stop).map_err(post::not_now)?;
        post.send(to, mail, id, stop).await
    }

    /// Hands a customer's page over by mail, with every step in it; `link` leads there.
    ///
    /// # Errors
    /// Why the mail was not taken.
    pub(crate) async fn hand_over(
        &self,
        view: &HandoffView,
        address: &str,
        link: &str,
    ) -> Result<(), NotTaken> {
        let id = Uuid::new_v4().to_string();
        self.send(&view.face, &Letter::page(view), address, &id, Some(link), None).await
    }

    /// Asks whoever has a mailbox whether they want to be told.
    ///
    /// # Errors
    /// Why the mail was not taken.
    pub(crate) async fn ask(
        &self,
        app: &App,
        receiver: Uuid,
        reader: &Reader,
        address: &str,
        about: &str,
        language: Language,
    ) -> Result<(), NotTaken> {
        let face = &app.config.reception.face;
        let letter = Letter::question(about, face, language);
        let yes = reader_url(app, &reader.secret);
        self.send(face, &letter, address, &receiver.to_string(), Some(&yes), None).await
    }
}

/// The page of whoever reads mails, by a secret that none of them loses when sealing keys change.
pub(crate) struct Reader {
    secret: String,
    hash: Vec<u8>,
    sealed: Vec<u8>,
}

impl Reader {
    /// A new one.
    pub(crate) fn new(app: &App) -> Self {
        let secret = access::secret(READER_BEGIN);
        let sealed = app.sealer.seal(READER, secret.as_bytes());
        Self { hash: access::hash(&secret), sealed, secret }
    }

    /// What is kept of it.
    pub(crate) fn kept(&self) -> NewReader<'_> {
        NewReader { hash: &self.hash, sealed: &self.sealed }
    }
}

/// What is sealed for a receiver, if it is there and opens.
fn opened(app: &App, purpose: &'static str, sealed: Option<&[u8]>) -> Option<String> {
    let secret = app.sealer.open(purpose, sealed?).ok()?;
    Some(String::from_utf8_lossy(&secret).into_owned())
}

/// Where somebody says whether they want to be told.
fn reader_url(app: &App, secret: &str) -> String {
    format!("{}/told/{secret}", app.config.reception.public_url)
}

/// Tells until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let mut running = JoinSet::new();
    let mut events = app.hub.events();

    while !app.stop.is_cancelled() {
        while running.try_join_next().is_some() {}
        events.mark_unchanged();

        let told = match step(&app, &mut running).await {
            Ok(told) => told,
            Err(error) => {
                app.repeats.warn("nobody can be told what happens", &error);
                app.stop.run_until_cancelled(sleep(AWAY)).await;
                continue;
            }
        };
        if told {
            continue;
        }

        let wait = app.store.next_notice().await.ok().flatten().unwrap_or(LONGEST_SLEEP);
        let wait = if running.len() < AT_ONCE { wait } else { LONGEST_SLEEP };
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = events.changed() => {}
            Some(_) = running.join_next() => {}
            () = sleep(Duration::from_secs_f64(wait.clamp(0.05, LONGEST_SLEEP))) => {}
        }
    }
    // What was not written down as taken is sent again: at least once.
    running.shutdown().await;
}

/// Reads on in what has happened, and serves who is to be told; `true` if there may be more.
async fn step(app: &Arc<App>, running: &mut JoinSet<()>) -> Result<bool, StoreError> {
    let more = app.store.tell_on(app.config.notices.gather).await?;
    let room = AT_ONCE.saturating_sub(running.len());
    if room == 0 {
        return Ok(false);
    }
    let leases = app.store.lease_receivers(room).await?;
    let any = !leases.is_empty();
    for lease in leases {
        let app = app.clone();
        running.spawn(async move {
            if let Err(error) = serve(&app, &lease).await {
                app.repeats.warn("somebody was not told; it is tried again", &error);
            }
        });
    }
    Ok(more || any)
}

async fn serve(app: &App, lease: &ReceiverLease) -> Result<(), StoreError> {
    let receiver = app.store.receiver(lease.id).await?;
    let now = Utc::now();
    if let Some(end) = receiver.quiet.and_then(|quiet| quiet.end(now)) {
        return app.store.let_go(lease, Some(end)).await;
    }

    let is_silent = match receiver.way {
        Means::Hook => call_all(app, lease, &receiver).await?,
        Means::Mail => write_all(app, lease, &receiver).await?,
    };
    let failures = u32::try_from(receiver.failures).unwrap_or(0).saturating_add(1);
    let not_before = is_silent.then(|| Utc::now() + again_after(failures, rand::random()));
    app.store.let_go(lease, not_before).await
}

/// Calls a hook about all that is due, a few domains at once; `true` if it gives no answer.
async fn call_all(app: &App, lease: &ReceiverLease, receiver: &ReceiverRow) -> Result<bool, StoreError> {
    let rows = app.store.due_to(lease, MOST_CALLS).await?;
    let secrets = [&receiver.sealed, &receiver.former].into_iter().flatten();
    let secrets: Vec<String> = secrets
        .filter_map(|sealed| app.sealer.open(HOOK_SECRET, sealed).ok())
        .map(|secret| String::from_utf8_lossy(&secret).into_owned())
        .collect();

    let mut by_domain: BTreeMap<String, Vec<DueRow>> = BTreeMap::new();
    for row in rows {
        by_domain.entry(row.host.to_string()).or_default().push(row);
    }
    let calls =
        by_domain.into_values().map(|rows| call_in_order(app, lease, &receiver.target, &secrets, rows));
    let results: Vec<_> = stream::iter(calls).buffer_unordered(CALLS).collect().await;
    let mut is_silent = false;
    for result in results {
        is_silent |= result?;
    }
    Ok(is_silent)
}

/// What happened to one domain is told in its order: where one thing is not taken, the rest waits.
async fn call_in_order(
    app: &App,
    lease: &ReceiverLease,
    url: &str,
    secrets: &[String],
    rows: Vec<DueRow>,
) -> Result<bool, StoreError> {
    let source = &app.config.reception.public_url;
    for row in rows {
        match app.notices.caller.call(url, secrets, source, &row).await {
            Ok(()) => {
                count("hook", "delivered");
                app.store.delivered(lease, &[row.id]).await?;
            }
            Err(why) => {
                count("hook", "refused");
                app.store.not_delivered(lease, &[row], &why, rand::random()).await?;
                return Ok(why.is_silent);
            }
        }
    }
    Ok(false)
}

/// Writes one mail about all that is due; `true` if the server gives no answer.
async fn write_all(app: &App, lease: &ReceiverLease, receiver: &ReceiverRow) -> Result<bool, StoreError> {
    let rows = app.store.due_to(lease, MOST_TOLD).await?;
    let told: Vec<_> =
        rows.iter().filter_map(|row| Told::of(row.host.as_str(), row.at, &row.event)).collect();
    if told.is_empty() {
        return Ok(false);
    }

    let language = receiver.language.unwrap_or(app.config.reception.language);
    let face = &app.config.reception.face;
    let letter = Letter::of(&told, face, language);
    let open = opened(app, LINK, receiver.sealed_link.as_deref());
    let open = open.map(|link| format!("{}/handoff/{link}", app.config.reception.public_url));
    let stop = opened(app, READER, receiver.sealed_reader.as_deref());
    let stop = stop.map(|secret| reader_url(app, &secret));

    let id = named(&rows);
    let sent = app.notices.send(face, &letter, &receiver.target, &id, open.as_deref(), stop.as_deref());

    match sent.await {
        Ok(()) => {
            count("mail", "delivered");
            let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
            app.store.delivered(lease, &ids).await?;
            Ok(false)
        }
        Err(why) => {
            count("mail", "refused");
            app.store.not_delivered(lease, &rows, &why, rand::random()).await?;
            Ok(why.is_silent)
        }
    }
}

/// Names a mail by what it tells, whenever it is sent.
fn named(rows: &[DueRow]) -> String {
    let mut digest = Sha256::new();
    rows.iter().for_each(|row| digest.update(row.event_id.as_bytes()));
    HEXLOWER.encode(&digest.finalize()[..16])
}

fn count(way: &'static str, result: &'static str) {
    metrics::counter!("nomenta_notices_total", "way" => way, "result" => result).increment(1);
}
