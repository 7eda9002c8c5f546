//! The sealing key at start: refused if it is the wrong one, and what a former
//! one sealed is sealed anew.

use anyhow::Context;
use nomenta_certs::seal::{SealError, Sealer};
use nomenta_store::{Sealed, Store, StoreError};

use crate::config::ServiceConfig;
use crate::look::PRIVATE_KEY;
use crate::notices::{HOOK_SECRET, LINK};
use crate::ordering::ACCOUNT;
use crate::publishing::ZONE_KEY;

/// What the known secret is sealed for.
const CHECK: &str = "check of the sealing key";
const SECRET: &[u8] = b"nomenta";

/// Why records were not sealed anew.
#[derive(Debug, thiserror::Error)]
enum Failed {
    #[error(transparent)]
    Seal(#[from] SealError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// The sealer, once it is known to fit the records.
pub(crate) async fn open(config: &ServiceConfig, store: &Store) -> anyhow::Result<Sealer> {
    let sealer = Sealer::from_hex(&config.sealing_key)?;
    let sealer = match &config.former_sealing_key {
        Some(former) => sealer.after(former).context("The former sealing key cannot be used")?,
        None => sealer,
    };

    let check = store.sealing_check(&sealer.seal(CHECK, SECRET)).await?;
    let fits = sealer.open(CHECK, &check).context(
        "This sealing key did not seal the records of this database. Start with the one that did; to change it, \
         give the new one as the sealing key and the old one as the former key",
    )?;

    anyhow::ensure!(fits == SECRET, "The check of the sealing key is damaged");

    if config.former_sealing_key.is_some() {
        let resealed = store
            .reseal(|kind, sealed| -> Result<_, Failed> {
                let purpose = match kind {
                    Sealed::Check => CHECK,
                    Sealed::PrivateKey => PRIVATE_KEY,
                    Sealed::Account => ACCOUNT,
                    Sealed::ZoneKey => ZONE_KEY,
                    Sealed::HookSecret => HOOK_SECRET,
                    Sealed::Link => LINK,
                };
                Ok(sealer.reseal(purpose, sealed)?)
            })
            .await?;
        tracing::info!(resealed, "sealed under the current key; the former one is no longer needed");
    }

    Ok(sealer)
}
