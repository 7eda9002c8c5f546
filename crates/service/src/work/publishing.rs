//! Publishing a customer's list for them: the key that they give, what would be written to
//! their zone, writing it, and taking it back.

use std::net::IpAddr;
use std::sync::Arc;

use data_encoding::HEXLOWER;
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_api::publication::{
    GiveKey, NewPublication, PublicationPlan, PublicationState, WriteLine, ZoneKey,
};
use nomenta_core::name::dns::DnsName;
use nomenta_core::publish::{self, NotPlanned, Update, UpdateKey};
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::reading::survey::Survey;
use nomenta_dns::UpdateError;
use nomenta_store::{
    DomainRecord, NewPublication as Sent, NewZoneKey, PublicationRow, Store, ZoneKeyRow, ZoneOf,
};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::App;
use crate::detail;
use crate::problem::Refusal;
use crate::turns::{Turn, Turns};

/// What keys of zones are sealed for.
pub(crate) const ZONE_KEY: &str = "key of a zone";
/// Conversations with customers' servers at once in one process; of them for one account, and with one
/// server: one that says nothing keeps others waiting no longer than that.
const AT_ONCE: usize = 8;
const OF_ACCOUNT: usize = 3;
const OF_SERVER: usize = 2;

/// Turns of those who write to customers' zones.
pub(crate) struct Conversations {
    accounts: Arc<Turns<String>>,
    servers: Arc<Turns<IpAddr>>,
}

impl Default for Conversations {
    fn default() -> Self {
        Self {
            accounts: Turns::new("publications", AT_ONCE, OF_ACCOUNT),
            servers: Turns::new("publication-servers", AT_ONCE, OF_SERVER),
        }
    }
}

impl Conversations {
    fn of(&self, record: &DomainRecord) -> Result<Turn<String>, Refusal> {
        let busy = "Several zones of this account are being written to already. Ask again in a moment.";
        self.accounts.take(record.account.clone()).ok_or_else(|| Refusal::unavailable(busy))
    }

    fn with(&self, server: IpAddr) -> Result<Turn<IpAddr>, Refusal> {
        let busy = "Others are writing to zones of this server already. Ask again in a moment.";
        self.servers.take(server).ok_or_else(|| Refusal::unavailable(busy))
    }
}

/// Who has a zone written to: what they change is recorded as theirs.
pub(crate) struct By {
    records: Store,
    link: Option<Uuid>,
}

impl By {
    /// Somebody who works for the account, or for the platform.
    pub(in crate::work) fn staff(records: Store) -> Self {
        Self { records, link: None }
    }

    /// Whoever holds a handoff link.
    pub(in crate::work) fn link(records: Store, link: Uuid) -> Self {
        Self { records, link: Some(link) }
    }

    /// Whether a key, or what was written with it, is theirs to use, from whichever link it came: by a
    /// link nobody gets at what the account has, or at what another link gave.
    fn may_use(&self, link: Option<Uuid>) -> bool {
        self.link.is_none() || self.link == link
    }

    /// What is kept of a zone.
    async fn kept(&self, record: &DomainRecord, zone: &DnsName) -> Result<Kept, Refusal> {
        Ok(match self.records.zone_key(ZoneOf { domain_id: record.id, zone }).await? {
            None => Kept::None,
            Some(kept) if self.may_use(kept.link) => Kept::Own(kept),
            Some(_) => Kept::Others,
        })
    }

    /// The key of a zone.
    ///
    /// # Errors
    /// If none is kept, or it is not theirs to use.
    async fn key(&self, record: &DomainRecord, zone: &DnsName) -> Result<ZoneKeyRow, Refusal> {
        match self.kept(record, zone).await? {
            Kept::None => Err(no_key(zone)),
            Kept::Own(kept) => Ok(kept),
            Kept::Others => Err(not_theirs(zone)),
        }
    }
}

/// What is kept of a zone, for whoever asks.
pub(crate) enum Kept {
    /// No key.
    None,
    /// A key that they may use.
    Own(ZoneKeyRow),
    /// A key of others.
    Others,
}

/// An update, and who is to be sent it.
struct Ready {
    update: Update,
    server: IpAddr,
    key: UpdateKey,
    _with: Turn<IpAddr>,
}

impl Ready {
    /// Names what would be written, and to whom.
    fn name(&self) -> String {
        let told = serde_json::json!([self.update, self.server, self.key.name]).to_string();
        HEXLOWER.encode(&Sha256::digest(told)[..16])
    }

    fn plan(&self) -> PublicationPlan {
        PublicationPlan {
            zone: self.update.zone.clone(),
            server: self.server.to_string(),
            key_name: self.key.name.clone(),
            lines: WriteLine::of(&self.update),
            depends_on: self.update.sets.len(),
            plan: self.name(),
        }
    }
}

/// Keeps a key, once the zone's server has taken it.
pub(crate) async fn give_key(
    app: &App,
    by: &By,
    record: &DomainRecord,
    given: &GiveKey,
) -> Result<ZoneKey, Refusal> {
    let key = UpdateKey::parse(&given.key).map_err(|error| at_key(&error))?;
    let server = given.server.as_deref().map(address).transpose()?;
    let zone = zone_of(record)?;
    if matches!(by.kept(record, zone).await?, Kept::Others) {
        return Err(not_theirs(zone));
    }
    let _turn = app.conversations.of(record)?;

    // Nothing is asked for but whether the key may ask at all.
    let nothing = Update { zone: zone.clone(), sets: Vec::new() };
    let reached = server_of(app, record, server).await?;
    let _with = app.conversations.with(reached)?;
    app.surveyor.update(reached, &nothing, &key).await.map_err(|error| at_key(&error))?;

    let new = NewZoneKey {
        of: ZoneOf { domain_id: record.id, zone },
        name: &key.name,
        algorithm: key.algorithm,
        server: given.server.as_deref(),
        sealed: &app.sealer.seal(ZONE_KEY, key.to_line().as_bytes()),
        link: by.link,
    };
    // Somebody may have given one meanwhile.
    if !by.records.keep_zone_key(&new).await? {
        return Err(not_theirs(zone));
    }
    by.key(record, zone).await.map(|kept| kept.key)
}

/// The key that is kept of a domain's zone, if one is.
pub(crate) async fn kept_key(by: &By, record: &DomainRecord) -> Result<Kept, Refusal> {
    let Ok(zone) = zone_of(record) else { return Ok(Kept::None) };
    by.kept(record, zone).await
}

/// Forgets the key of a domain's zone.
pub(crate) async fn forget_key(by: &By, record: &DomainRecord) -> Result<(), Refusal> {
    let zone = zone_of(record)?;
    by.key(record, zone).await?;
    match by.records.forget_zone_key(ZoneOf { domain_id: record.id, zone }).await? {
        true => Ok(()),
        false => Err(no_key(zone)),
    }
}

/// What would be written now.
pub(crate) async fn preview(app: &App, by: &By, record: &DomainRecord) -> Result<PublicationPlan, Refusal> {
    let _turn = app.conversations.of(record)?;
    Ok(ready(app, by, record).await?.plan())
}

/// Writes it; returns the publication.
pub(crate) async fn publish(
    app: &Arc<App>,
    by: &By,
    record: &DomainRecord,
    asked: &NewPublication,
) -> Result<Uuid, Refusal> {
    let _turn = app.conversations.of(record)?;
    let ready = ready(app, by, record).await?;
    if asked.plan.as_ref().is_some_and(|plan| *plan != ready.name()) {
        let detail = "The zone or the list has changed since this was previewed. Look at it once more.";
        return Err(Refusal::conflict(ProblemKind::Changed, detail));
    }

    let sent = Sent {
        domain_id: record.id,
        server: &ready.server.to_string(),
        key_name: &ready.key.name,
        update: &ready.update,
        link: by.link,
    };
    let id = by.records.begin_publication(&sent).await?;
    // Whoever asked may go away; what was sent is written down all the same.
    let (app, records) = (app.clone(), by.records.clone());
    let carried_out = tokio::spawn(async move { carry_out(&app, &records, id, ready).await });
    carried_out.await.map_err(|_| Refusal::internal("Publishing broke off. Look at the zone."))?
}

async fn carry_out(app: &App, records: &Store, id: Uuid, ready: Ready) -> Result<Uuid, Refusal> {
    let Ready { update, server, key, _with } = ready;
    let sent = app.surveyor.update(server, &update, &key).await;
    match &sent {
        Ok(()) => {}
        // It may have been made after all: so it stays open, and can be taken back.
        Err(error @ (UpdateError::Late(_) | UpdateError::Unsigned(_))) => return Err(refused(error)),
        Err(error) => {
            records.settle_publication(id, PublicationState::Refused, Some(&error.to_string())).await?;
            return Err(refused(error));
        }
    }

    // What a server has taken may stand there, whatever can be read of it now.
    match holds(app, server, &update).await {
        Ok(()) => {
            records.settle_publication(id, PublicationState::Done, None).await?;
            Ok(id)
        }
        Err(error) => {
            records.settle_publication(id, PublicationState::Sent, Some(&error.to_string())).await?;
            Err(refused(&error))
        }
    }
}

/// Takes back what was published, or as much of it as the zone holds.
pub(crate) async fn undo(
    app: &App,
    by: &By,
    record: &DomainRecord,
    row: PublicationRow,
) -> Result<(), Refusal> {
    if !by.may_use(row.link) {
        return Err(not_theirs(&row.update.zone));
    }
    if matches!(row.state, PublicationState::Refused | PublicationState::Undone) {
        let detail = format!("This publication is {}: there is nothing to take back.", row.state);
        return Err(Refusal::conflict(ProblemKind::NotPublished, detail));
    }

    let _turn = app.conversations.of(record)?;
    let key = opened(app, &by.key(record, &row.update.zone).await?.sealed)?;
    let server = address(&row.server)?;
    let _with = app.conversations.with(server)?;
    let (zone, questions) = (&row.update.zone, row.update.questions());
    let read = app.surveyor.read_sets(server, zone, &questions).await.map_err(|error| refused(&error))?;
    let back = row.update.taken_back(&read).ok_or_else(|| refused(&Failed::Changed))?;
    if back.is_nothing() {
        let because = "The zone holds nothing of it: it is as it was.";
        by.records.settle_publication(row.id, PublicationState::Refused, Some(because)).await?;
        return Ok(());
    }

    app.surveyor.update(server, &back, &key).await.map_err(|error| refused(&error))?;
    holds(app, server, &back).await.map_err(|error| refused(&error))?;
    Ok(by.records.settle_publication(row.id, PublicationState::Undone, None).await?)
}

/// Why an update came to nothing.
#[derive(Debug, thiserror::Error)]
enum Failed {
    #[error(transparent)]
    Update(#[from] UpdateError),
    #[error("The server took the update, and holds something else than was sent. Look at the zone")]
    Otherwise,
    #[error(
        "The zone has changed since it was read: it holds what was neither there before nor written. Look at it"
    )]
    Changed,
}

/// Whether a zone holds what an update makes: a server may leave a part out without a word.
async fn holds(app: &App, server: IpAddr, update: &Update) -> Result<(), Failed> {
    let read = app.surveyor.read_sets(server, &update.zone, &update.questions()).await?;
    if update.is_met_by(&read) { Ok(()) } else { Err(Failed::Otherwise) }
}

async fn ready(app: &App, by: &By, record: &DomainRecord) -> Result<Ready, Refusal> {
    let zone = zone_of(record)?;
    if record.baseline.is_none() {
        let detail =
            "The records as they were before have not been read yet. The first look does that: wait for it.";
        return Err(Refusal::conflict(ProblemKind::NotPublished, detail));
    }
    let kept = by.key(record, zone).await?;
    let given = kept.key.server.as_deref().map(address).transpose()?;
    let key = opened(app, &kept.sealed)?;

    let todo = detail::todo(app, record).await?;
    let questions = publish::questions(&todo);
    if questions.is_empty() {
        return Err(refused(&NotPlanned::Nothing));
    }

    let server = server_of(app, record, given).await?;
    let with = app.conversations.with(server)?;
    let read = app.surveyor.read_sets(server, zone, &questions).await.map_err(|error| refused(&error))?;
    let update = publish::plan(zone, &todo, &read).map_err(|error| refused(&error))?;
    Ok(Ready { update, server, key, _with: with })
}

fn opened(app: &App, sealed: &[u8]) -> Result<UpdateKey, Refusal> {
    let broken = || Refusal::internal("The key of this zone cannot be opened. Give it once more.");
    let line = app.sealer.open(ZONE_KEY, sealed).map_err(|_| broken())?;
    UpdateKey::parse(&String::from_utf8_lossy(&line)).map_err(|_| broken())
}

fn zone_of(record: &DomainRecord) -> Result<&DnsName, Refusal> {
    record.survey.as_ref().and_then(Survey::apex).ok_or_else(|| {
        let detail =
            "The zone of this domain is not found yet, so there is nothing to write to. See its findings.";
        Refusal::conflict(ProblemKind::NotPublished, detail)
    })
}

/// The server that takes updates: the one that is given, or the primary that the zone names
/// (RFC 2136, section 4.3).
async fn server_of(app: &App, record: &DomainRecord, given: Option<IpAddr>) -> Result<IpAddr, Refusal> {
    if let Some(server) = given {
        return Ok(server);
    }
    let survey = record.survey.as_ref();
    let primary = survey.and_then(primary);
    let unnamed = || {
        let detail = "The zone names no server that takes updates. Give the address of one with the key.";
        Refusal::conflict(ProblemKind::NotPublished, detail)
    };

    let primary = primary.ok_or_else(unnamed)?;
    let found = app.surveyor.addresses(primary.as_str().to_owned()).await;
    let permitted = found.iter().find(|address| app.config.dns.egress.permits(**address)).copied();
    permitted.ok_or_else(|| {
        let detail = format!(
            "The zone names {primary} as the server that takes updates, which has no address that can be reached. \
             Give the address of one with the key."
        );
        Refusal::conflict(ProblemKind::NotPublished, detail)
    })
}

/// The primary that a zone's own servers name.
fn primary(survey: &Survey) -> Option<DnsName> {
    let apex = survey.apex()?;
    let about =
        survey.readings.iter().filter(|reading| reading.rtype == RecordType::Soa && reading.name == *apex);
    about.filter_map(|reading| reading.answer()).flatten().find_map(|record| match &record.data {
        RecordData::Soa(soa) if record.owner == *apex => Some(soa.primary.clone()),
        _ => None,
    })
}

fn address(text: &str) -> Result<IpAddr, Refusal> {
    text.parse().map_err(|_| {
        let message = format!("{text} is no IP address. Give the address of the server that takes updates.");
        Refusal::field("server", FieldCode::Address, message)
    })
}

fn no_key(zone: &DnsName) -> Refusal {
    let detail = format!("No key of the zone {zone} is kept. Give the one that its owner made for updates.");
    Refusal::not_found(detail)
}

/// Said to whoever holds a link.
fn not_theirs(zone: &DnsName) -> Refusal {
    let detail = format!(
        "The key of the zone {zone} was given by somebody else, who alone has it used. Ask whoever sent you the link."
    );
    Refusal::conflict(ProblemKind::NotPublished, detail)
}

fn at_key(error: &impl ToString) -> Refusal {
    Refusal::field("key", FieldCode::Key, sentence(error))
}

fn refused(error: &impl ToString) -> Refusal {
    Refusal::conflict(ProblemKind::NotPublished, sentence(error))
}

fn sentence(error: &impl ToString) -> String {
    format!("{}.", error.to_string().trim_end_matches('.'))
}
