//! Where traffic must land, with every revision kept.

use std::collections::BTreeSet;
use std::net::AddrParseError;
use std::str::FromStr;

use nomenta_core::name::dns::DnsName;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};

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

impl Store {
    /// Adds an ingress, or revises it if the name is known and `revise` is set.
    /// A revision makes every domain behind it due for a look.
    ///
    /// # Errors
    /// [`StoreError::Taken`] or [`StoreError::Missing`], as `revise` says.
    pub async fn put_ingress(&self, ingress: &Ingress, revise: bool) -> Result<Ingress, StoreError> {
        let ipv4: Vec<_> = ingress.ipv4.iter().map(ToString::to_string).collect();
        let ipv6: Vec<_> = ingress.ipv6.iter().map(ToString::to_string).collect();
        let name_servers: Vec<_> = ingress.name_servers.iter().map(ToString::to_string).collect();
        let name = &ingress.name;
        let canonical = ingress.canonical.as_str();
        let mut tx = self.pool.begin().await?;

        let row = if revise {
            sqlx::query!(
                "UPDATE ingresses SET revision = revision + 1, ipv4 = $2, ipv6 = $3, canonical = $4,
                 name_servers = $5, subdomain_addresses = $6, revised_at = now() WHERE name = $1 RETURNING id, revision",
                name,
                &ipv4,
                &ipv6,
                canonical,
                &name_servers,
                ingress.subdomain_addresses
            )
            .fetch_optional(&mut *tx)
            .await?
            .map(|r| (r.id, r.revision))
            .ok_or_else(|| StoreError::missing("ingress", name))?
        } else {
            sqlx::query!(
                "INSERT INTO ingresses (id, name, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses)
                 VALUES ($1, $2, 1, $3, $4, $5, $6, $7) RETURNING id, revision",
                Uuid::now_v7(),
                name,
                &ipv4,
                &ipv6,
                canonical,
                &name_servers,
                ingress.subdomain_addresses
            )
            .fetch_one(&mut *tx)
            .await
            .map(|r| (r.id, r.revision))
            .map_err(|e| StoreError::or_taken(e, "an ingress", name))?
        };

        sqlx::query!(
            "INSERT INTO ingress_revisions
             (ingress_id, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses)
             VALUES ($1, $2, $3, $4, $5, $6, $7)",
            row.0,
            row.1,
            &ipv4,
            &ipv6,
            canonical,
            &name_servers,
            ingress.subdomain_addresses
        )
        .execute(&mut *tx)
        .await?;

        sqlx::query!(
            "UPDATE tasks SET due = now(), again = lease IS NOT NULL, quick = NULL WHERE kind = 'look' AND domain_id IN
             (SELECT d.id FROM domains d JOIN sites s ON s.id = d.site_id WHERE s.ingress_id = $1)",
            row.0
        )
        .execute(&mut *tx)
        .await?;

        channel::notify(&mut tx, Channel::Work).await?;
        tx.commit().await?;
        Ok(Ingress { revision: row.1, ..ingress.clone() })
    }

    /// All ingresses by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn ingresses(&self) -> Result<Vec<Ingress>, StoreError> {
        let rows = sqlx::query_as!(
            IngressColumns,
            "SELECT name, revision, ipv4, ipv6, canonical, name_servers, subdomain_addresses FROM ingresses
             ORDER BY name"
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(IngressColumns::read).collect()
    }
}
