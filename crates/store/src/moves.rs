//! Moves: what a domain shows, and from when.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::locks::{self, Locked, Told};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

/// What is to change about what a domain shows; what is left out stays.
#[derive(Clone, Copy, Debug, Default)]
pub struct Move<'a> {
    /// Another site of the same account.
    pub site: Option<&'a str>,
    /// Makes it the primary of its pair.
    pub primary: bool,
    /// Where visitors enter; empty for what the site says.
    pub entry_path: Option<&'a str>,
    /// What they get when something is missing; empty for what the site says.
    pub error_path: Option<&'a str>,
    /// The hour at which it switches; now if none is given.
    pub at: Option<DateTime<Utc>>,
}

/// Where a site's traffic lands.
struct Destination {
    id: Uuid,
    name: String,
    label: String,
    is_same_ingress: bool,
}

impl Store {
    /// Changes what a domain shows, now or at an hour; `true` if the customer has to
    /// change records for it, since the other site has another ingress.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Missing`] if its account has
    /// no such site.
    pub async fn move_domain(
        &self,
        id: Uuid,
        change: &Move<'_>,
        expected: Expected,
    ) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let needs_records = move_domain(&mut tx, id, change, expected, Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(needs_records)
    }

    /// Switches the domains whose hour has come; returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn switch_due(&self, now: DateTime<Utc>, most: i64) -> Result<usize, StoreError> {
        let due = sqlx::query_scalar!(
            "SELECT id FROM domains WHERE switch_at <= $1 AND ended_at IS NULL ORDER BY switch_at LIMIT $2",
            now,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut switched = 0;
        for id in due {
            switched += usize::from(self.switch_one(id, now).await?);
        }
        Ok(switched)
    }

    /// Switches one of them; `false` if something has come in between.
    async fn switch_one(&self, id: Uuid, now: DateTime<Utc>) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[id]).await?;
        let Some(claim) = claims.get(id) else { return Ok(false) };

        let next = sqlx::query!(
            r#"SELECT n.name AS "name?" FROM domains d LEFT JOIN sites n ON n.id = d.next_site_id
               WHERE d.id = $1 AND d.switch_at <= $2"#,
            id,
            now
        );
        let Some(next) = next.fetch_optional(&mut *tx).await? else { return Ok(false) };

        let mut told = Told::default();
        match next.name {
            Some(site) => {
                let to = destination(&mut tx, claim, &site).await?;
                switch(&mut tx, claim, &to, &mut told, now).await?;
            }
            None => unstage(&mut tx, claim, &mut told).await?,
        }
        told.write(&mut tx, now).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }

    /// When the next domain is to switch.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_switch(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        let at = sqlx::query_scalar!(
            "SELECT min(switch_at) FROM domains WHERE switch_at IS NOT NULL AND ended_at IS NULL"
        );
        Ok(at.fetch_one(&self.pool).await?)
    }
}

/// Changes what a domain shows; `true` if the customer has to change records for it.
pub(crate) async fn move_domain(
    tx: &mut PgConnection,
    id: Uuid,
    change: &Move<'_>,
    expected: Expected,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let claims = locks::lock(tx, &[id]).await?;
    let claim = claims.expect(id, expected)?;
    let mut told = Told::default();

    if change.entry_path.is_some() || change.error_path.is_some() {
        set_paths(tx, claim, change, &mut told).await?;
    }
    if let (true, Some(sibling)) = (change.primary, claims.sibling(id)) {
        set_primary(tx, claim, sibling, &mut told, now).await?;
    }

    let mut needs_records = false;
    match (change.site, change.at) {
        (Some(site), at) => {
            let to = destination(tx, claim, site).await?;
            needs_records = !to.is_same_ingress;
            match at.filter(|at| *at > now) {
                Some(at) => stage(tx, claim, Some(&to), at, &mut told).await?,
                None => switch(tx, claim, &to, &mut told, now).await?,
            }
        }
        (None, Some(at)) if at > now => stage(tx, claim, None, at, &mut told).await?,
        (None, Some(_)) => unstage(tx, claim, &mut told).await?,
        (None, None) => {}
    }

    told.write(tx, now).await?;
    Ok(needs_records)
}

async fn destination(tx: &mut PgConnection, claim: &Locked, site: &str) -> Result<Destination, StoreError> {
    let to = sqlx::query_as!(
        Destination,
        r#"SELECT t.id, t.name, t.label, t.ingress_id = s.ingress_id AS "is_same_ingress!"
           FROM domains d JOIN sites s ON s.id = d.site_id JOIN sites t ON t.account_id = d.account_id
           WHERE d.id = $1 AND t.name = $2"#,
        claim.id,
        site
    );
    to.fetch_optional(&mut *tx).await?.ok_or_else(|| StoreError::missing("site", site))
}

/// Shows another site from now on. Behind the same ingress the customer's records
/// stay as they are; behind another one, the sheet is a new one.
async fn switch(
    tx: &mut PgConnection,
    claim: &Locked,
    to: &Destination,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE domains SET site_id = $2, label = CASE WHEN $3 THEN label ELSE $4 END, next_site_id = NULL,
         switch_at = NULL, moved_at = $5, ingress_id = (SELECT ingress_id FROM sites WHERE id = $2) WHERE id = $1",
        claim.id,
        to.id,
        to.is_same_ingress,
        to.label,
        now
    )
    .execute(&mut *tx)
    .await?;
    tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
    told.event(claim, Event::Moved { site: to.name.clone() });
    told.touch(&claim.host);
    Ok(())
}

/// Waits for an hour: until then another site is shown, or none but at the default
/// host.
async fn stage(
    tx: &mut PgConnection,
    claim: &Locked,
    to: Option<&Destination>,
    at: DateTime<Utc>,
    told: &mut Told,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE domains SET next_site_id = $2, switch_at = $3 WHERE id = $1",
        claim.id,
        to.map(|to| to.id),
        at
    )
    .execute(&mut *tx)
    .await?;
    told.event(claim, Event::Staged { site: to.map(|to| to.name.clone()), at });
    told.touch(&claim.host);
    Ok(())
}

async fn unstage(tx: &mut PgConnection, claim: &Locked, told: &mut Told) -> Result<(), StoreError> {
    let done = sqlx::query!(
        "UPDATE domains SET next_site_id = NULL, switch_at = NULL WHERE id = $1 AND switch_at IS NOT NULL",
        claim.id
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() > 0 {
        told.event(claim, Event::Switched {});
        told.touch(&claim.host);
    }
    Ok(())
}

async fn set_paths(
    tx: &mut PgConnection,
    claim: &Locked,
    change: &Move<'_>,
    told: &mut Told,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE domains SET entry_path = nullif(coalesce($2, entry_path), ''),
         error_path = nullif(coalesce($3, error_path), '') WHERE id = $1",
        claim.id,
        change.entry_path,
        change.error_path
    )
    .execute(&mut *tx)
    .await?;
    told.event(claim, Event::PathsChanged {});
    told.touch(&claim.host);
    Ok(())
}

/// Makes one of a pair the primary, to which the other leads from now on.
async fn set_primary(
    tx: &mut PgConnection,
    claim: &Locked,
    sibling: &Locked,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE domains SET is_primary = (id = $1) WHERE id = ANY($2)",
        claim.id,
        &[claim.id, sibling.id]
    )
    .execute(&mut *tx)
    .await?;

    for one in [claim, sibling] {
        tasks::wake(tx, one.id, TaskKind::Look, now).await?;
        told.event(one, Event::PrimaryChanged { primary: claim.host.clone() });
        told.touch(&one.host);
    }
    Ok(())
}
