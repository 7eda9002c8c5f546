//! Where traffic must land, with every revision kept.

use std::collections::BTreeSet;
use std::net::AddrParseError;
use std::str::FromStr;

use nomenta_api::job::{Act, Selection};
use nomenta_core::name::dns::DnsName;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::jobs::{self, NewJob};
use crate::places::Whose;
use crate::roster::RosterFilter;
use crate::version::{Expected, Version};

/// Columns of an ingress as they are stored.
pub(crate) struct IngressColumns {
    pub name: String,
    pub revision: i32,
    pub ipv4: Vec<String>,
    pub ipv6: Vec<String>,
    pub canonical: String,
    pub name_servers: Vec<String>,
    pub subdomain_addresses: bool,
}

impl IngressColumns {
    pub(crate) fn read(self) -> Result<Ingress, StoreError> {
        let canonical = CanonicalHost::parse(&self.canonical)
            .map_err(|cause| StoreError::unreadable("canonical host", cause))?;

        Ok(Ingress {
            name: self.name,
            revision: self.revision,
            ipv4: addresses(&self.ipv4)?,
            ipv6: addresses(&self.ipv6)?,
            canonical,
            name_servers: self.name_servers.into_iter().map(DnsName::from).collect(),
            subdomain_addresses: self.subdomain_addresses,
        })
    }
}

fn addresses<A: FromStr<Err = AddrParseError> + Ord>(stored: &[String]) -> Result<BTreeSet<A>, StoreError> {
    let addresses = stored.iter().map(|address| address.parse());
    addresses.collect::<Result<_, _>>().map_err(|cause| StoreError::unreadable("address", cause))
}

/// An ingress, and which version of it there is.
#[derive(Clone, Debug)]
pub struct IngressRow {
    /// Where traffic must land.
    pub ingress: Ingress,
    /// Its version.
    pub version: Version,
}

impl Store {
    /// Adds an ingress.
    ///
    /// # Errors
    /// [`StoreError::Taken`] if the name is in use.
    pub async fn add_ingress(&self, ingress: &Ingress) -> Result<IngressRow, StoreError> {
        let mut tx = self.begin().await?;
        let written = insert(&mut tx, ingress).await?;
        keep_revision(&mut tx, written.id).await?;
        tx.commit().await?;
        Ok(written.of(ingress))
    }

    /// Gives an ingress other targets, and begins a job that looks at every domain behind
    /// it; returns the job too.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none; [`StoreError::Changed`].
    pub async fn revise_ingress(
        &self,
        ingress: &Ingress,
        expected: Expected,
    ) -> Result<(IngressRow, Uuid), StoreError> {
        let mut tx = self.begin().await?;
        let known =
            sqlx::query!("SELECT id, version FROM ingresses WHERE name = $1 FOR NO KEY UPDATE", ingress.name)
                .fetch_optional(&mut *tx)
                .await?
                .ok_or_else(|| StoreError::missing("ingress", &ingress.name))?;
        expected.meets(known.id, known.version)?;

        let written = update(&mut tx, ingress).await?;
        keep_revision(&mut tx, written.id).await?;

        let behind = Some(ingress.name.clone());
        let asked = Selection { ingress: behind.clone(), ..Selection::default() };
        let filter = RosterFilter { whose: Whose::Everybodys, ingress: behind, ..RosterFilter::default() };
        let job = NewJob { act: &Act::Look {}, asked: &asked, filter: &filter };
        let job = jobs::insert(&mut tx, job, self.actor.as_deref()).await?;

        self.commit_work(tx).await?;
        Ok((written.of(ingress), job))
    }

    /// Ingresses by name, at most `limit`, after the one with a name.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn ingresses(&self, after: &str, limit: i64) -> Result<Vec<Ingress>, StoreError> {
        let rows = sqlx::query_as!(
            IngressColumns,
            "SELECT name, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses FROM ingresses
             WHERE name > $1 ORDER BY name LIMIT $2",
            after,
            limit
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(IngressColumns::read).collect()
    }

    /// The ingress with a name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn ingress(&self, name: &str) -> Result<IngressRow, StoreError> {
        let columns = sqlx::query_as!(
            IngressColumns,
            "SELECT name, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses FROM ingresses
             WHERE name = $1",
            name
        );
        let version =
            sqlx::query_as!(Version, "SELECT id, version AS number FROM ingresses WHERE name = $1", name);

        let version = version.fetch_optional(&self.pool).await?;
        let columns = columns.fetch_optional(&self.pool).await?;
        let (columns, version) = columns.zip(version).ok_or_else(|| StoreError::missing("ingress", name))?;
        Ok(IngressRow { ingress: columns.read()?, version })
    }
}

/// Keeps an ingress as it is now among its revisions.
async fn keep_revision(tx: &mut PgConnection, id: Uuid) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO ingress_revisions
         (ingress_id, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses)
         SELECT id, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses FROM ingresses
         WHERE id = $1",
        id
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// What was written.
struct Written {
    id: Uuid,
    revision: i32,
    version: i64,
}

impl Written {
    fn of(self, ingress: &Ingress) -> IngressRow {
        IngressRow {
            ingress: Ingress { revision: self.revision, ..ingress.clone() },
            version: Version { id: self.id, number: self.version },
        }
    }
}

async fn insert(tx: &mut PgConnection, ingress: &Ingress) -> Result<Written, StoreError> {
    let written = sqlx::query_as!(
        Written,
        "INSERT INTO ingresses (id, name, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses)
         VALUES ($1, $2, 1, $3, $4, $5, $6, $7) RETURNING id, revision, version",
        Uuid::now_v7(),
        ingress.name,
        &words(&ingress.ipv4),
        &words(&ingress.ipv6),
        ingress.canonical.as_str(),
        &words(&ingress.name_servers),
        ingress.subdomain_addresses
    );
    let written = written.fetch_one(&mut *tx).await;
    written.map_err(|error| StoreError::or_taken(error, "an ingress", &ingress.name))
}

async fn update(tx: &mut PgConnection, ingress: &Ingress) -> Result<Written, StoreError> {
    let written = sqlx::query_as!(
        Written,
        "UPDATE ingresses SET revision = revision + 1, ipv4 = $2, ipv6 = $3, canonical = $4,
         name_servers = $5, subdomain_addresses = $6, revised_at = now() WHERE name = $1 RETURNING id, revision, version",
        ingress.name,
        &words(&ingress.ipv4),
        &words(&ingress.ipv6),
        ingress.canonical.as_str(),
        &words(&ingress.name_servers),
        ingress.subdomain_addresses
    );
    let written = written.fetch_optional(&mut *tx).await?;
    written.ok_or_else(|| StoreError::missing("ingress", &ingress.name))
}

fn words<T: ToString>(values: &BTreeSet<T>) -> Vec<String> {
    values.iter().map(ToString::to_string).collect()
}
