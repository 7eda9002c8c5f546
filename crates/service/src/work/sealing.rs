//! The sealing key: refused at start if it is the wrong one, and changed for another while
//! processes work on. What a former key sealed is sealed anew once every process opens what the
//! current one seals; until then all go on sealing with the former.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use nomenta_certs::seal::{SealError, Sealer};
use nomenta_store::{Checks, ProcessRow, Sealed, Store, StoreError};
use tokio::time::sleep;
use uuid::Uuid;

use crate::App;
use crate::config::ServiceConfig;
use crate::look::PRIVATE_KEY;
use crate::notices::{HOOK_SECRET, LINK, READER};
use crate::ordering::{ACCOUNT, TLS_ANSWER};
use crate::publishing::ZONE_KEY;

/// What the known secret is sealed for.
const CHECK: &str = "check of the sealing key";
const SECRET: &[u8] = b"nomenta";
/// How often a process says that it is there.
const EVERY: Duration = Duration::from_secs(5);

/// Why records were not sealed anew.
#[derive(Debug, thiserror::Error)]
enum Failed {
    #[error(transparent)]
    Seal(#[from] SealError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// This process, as others know it, and how far it is with a change of keys.
pub(crate) struct Custody {
    id: Uuid,
    sealer: Sealer,
    store: Store,
    /// Whether there is nothing left that the former key sealed.
    is_done: bool,
}

impl Custody {
    /// With a sealer that is known to fit the records.
    ///
    /// # Errors
    /// If it does not, with what to start with instead.
    pub(crate) async fn begin(config: &ServiceConfig, store: &Store) -> anyhow::Result<Self> {
        let sealer = Sealer::from_hex(&config.sealing_key)?;
        let sealer = match &config.former_sealing_key {
            Some(former) => sealer.after(former).context("The former sealing key cannot be used")?,
            None => sealer,
        };

        let is_done = config.former_sealing_key.is_none();
        let mut custody = Self { id: Uuid::now_v7(), sealer, store: store.clone(), is_done };
        // Said before the records are read: whoever begins a change after that knows of us.
        custody.note().await?;
        if let Err(error) = custody.advance().await {
            store.forget_process(custody.id).await?;
            return Err(error);
        }
        Ok(custody)
    }

    pub(crate) fn sealer(&self) -> Sealer {
        self.sealer.clone()
    }

    /// Says that the process is there until the service stops, and takes a change of keys further.
    pub(crate) async fn run(mut self, app: Arc<App>) {
        while app.stop.run_until_cancelled(sleep(EVERY)).await.is_some() {
            match self.advance().await {
                Ok(()) => {}
                Err(error) if is_of_the_key(&error) => {
                    tracing::error!(
                        error = format!("{error:#}"),
                        "this process stops: its sealing key opens nothing now"
                    );
                    app.stop.cancel();
                }
                Err(error) => app.repeats.warn("the sealing key was not seen to", &error),
            }
        }

        if let Err(error) = self.store.forget_process(self.id).await {
            tracing::debug!(%error, "others find out by themselves that this process has ended");
        }
    }

    async fn note(&self) -> Result<(), StoreError> {
        let row =
            ProcessRow { id: self.id, opens: self.sealer.opens(), seals_with: self.sealer.seals_with() };
        self.store.note_process(&row).await
    }

    /// One step: every process must open both keys before any seals with the current one, and
    /// seal with it before what the former one sealed can be gone.
    async fn advance(&mut self) -> anyhow::Result<()> {
        let new = self.sealer.seal(CHECK, SECRET);
        let mut checks = self.store.sealing_checks(&new).await?;
        self.opened(&checks)?;
        if self.is_done {
            return Ok(self.note().await?);
        }

        if checks.next.is_none() && self.sealer.reseal(CHECK, &checks.now)?.is_none() {
            // Another process has brought the change to its end.
            self.sealer.turn();
            self.is_done = true;
            return Ok(self.note().await?);
        }

        if checks.next.is_none() && !self.someone_lacks_it().await? {
            let next = self.sealer.seal_anew(CHECK, SECRET);
            self.store.begin_resealing(&next).await?;
            checks.next = Some(next);
        }

        // Whoever came meanwhile has said so, or is refused by now.
        if checks.next.is_some() && !self.someone_lacks_it().await? {
            self.sealer.turn();
        }
        self.note().await?;

        let current = self.sealer.current();
        if self.sealer.seals_with() == current && self.store.processes_sealing_without(&current).await? == 0 {
            self.reseal().await?;
        }
        Ok(())
    }

    /// The known secret must be what either key says.
    fn opened(&self, checks: &Checks) -> anyhow::Result<()> {
        for check in [Some(&checks.now), checks.next.as_ref()].into_iter().flatten() {
            let opened = self.sealer.open(CHECK, check).context(
                "This sealing key did not seal the records of this database. Start with the one that did; to \
                 change it, give the new one as the sealing key and the old one as the former key",
            )?;
            anyhow::ensure!(opened.as_slice() == SECRET, "The check of the sealing key is damaged");
        }
        Ok(())
    }

    async fn someone_lacks_it(&self) -> Result<bool, StoreError> {
        let lacking = self.store.processes_without(&self.sealer.current()).await?;
        if lacking > 0 {
            tracing::info!(lacking, "the sealing key is not changed before every process is given it");
        }
        Ok(lacking > 0)
    }

    /// Seals anew what the former key sealed, until nothing is left.
    async fn reseal(&mut self) -> anyhow::Result<()> {
        loop {
            let sealer = &self.sealer;
            let resealed = self
                .store
                .reseal(|kind, sealed| -> Result<_, Failed> { Ok(sealer.reseal(purpose(kind), sealed)?) });
            let resealed = resealed.await?;
            self.note().await?;
            if resealed == 0 {
                break;
            }
            tracing::info!(resealed, "sealed under the current key");
        }

        self.store.end_resealing().await?;
        self.is_done = true;
        tracing::info!("the former sealing key is no longer needed");
        Ok(())
    }
}

fn purpose(kind: Sealed) -> &'static str {
    match kind {
        Sealed::PrivateKey => PRIVATE_KEY,
        Sealed::TlsAnswer => TLS_ANSWER,
        Sealed::Account => ACCOUNT,
        Sealed::ZoneKey => ZONE_KEY,
        Sealed::HookSecret => HOOK_SECRET,
        Sealed::Link => LINK,
        Sealed::Reader => READER,
    }
}

fn is_of_the_key(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| cause.is::<SealError>())
}
