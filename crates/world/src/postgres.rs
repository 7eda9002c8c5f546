//! A private PostgreSQL cluster, reached by a socket in the state folder.

use std::fs::File;
use std::path::{Path, PathBuf};

use anyhow::Context;
use futures::FutureExt;
use futures::future::BoxFuture;
use nix::sys::signal::Signal;

use crate::Layout;
use crate::PATIENCE;
use crate::daemon::{self, Daemon};
use crate::wait_for;
use crate::watch::{Say, Server, Watch, Watched};

const SUPERUSER: &str = "nomenta";
/// First port of a world that listens nowhere.
const UNUSED_PORT: u16 = 17_630;

/// A PostgreSQL server by itself, for tests of records alone. Dropping it ends
/// it.
pub struct Databases {
    pub(crate) layout: Layout,
    watch: Watch,
    _lock: File,
}

impl Databases {
    /// Starts one in an empty state folder.
    ///
    /// # Errors
    /// If PostgreSQL is missing, or another copy runs on the same state.
    pub async fn start(state: &Path, say: Say) -> anyhow::Result<Self> {
        // It is reached by a socket, so the ports are nobody's.
        let layout = Layout::new(state, UNUSED_PORT)?;
        layout.wipe()?;
        let lock = layout.lock()?;
        layout.prepare()?;

        let watch = Watch::over(vec![watched(&layout).await?], say);
        Ok(Self { layout, watch, _lock: lock })
    }

    /// Makes an empty database and returns its connection URL.
    ///
    /// # Errors
    /// If the server refuses.
    pub async fn database(&self, name: &str) -> anyhow::Result<String> {
        create_database(&self.layout, name).await
    }

    /// Ends the server as a restart does, which breaks all connections, and starts it again.
    ///
    /// # Errors
    /// If it does not start.
    pub async fn restart(&self) -> anyhow::Result<()> {
        self.watch.restart_first().await
    }

    /// Runs a statement in one of the databases, past whatever keeps its records.
    ///
    /// # Errors
    /// If the server refuses; the message is its own.
    pub async fn statement(&self, database: &str, text: &str) -> anyhow::Result<String> {
        statement(&self.layout, database, text).await
    }
}

/// Starts it, to be watched over.
pub(crate) async fn watched(layout: &Layout) -> anyhow::Result<Watched> {
    Watched::start(Postgres(layout.clone())).await
}

struct Postgres(Layout);

impl Server for Postgres {
    fn start(&self) -> BoxFuture<'_, anyhow::Result<Daemon>> {
        start(&self.0).boxed()
    }

    fn answers(&self) -> BoxFuture<'_, bool> {
        let answered = async {
            match psql(&self.0, "SELECT 1").await {
                Ok(_) => true,
                // It says so itself, and goes on with those that it has.
                Err(error) => error.to_string().contains("too many clients"),
            }
        };
        answered.boxed()
    }
}

async fn start(layout: &Layout) -> anyhow::Result<Daemon> {
    let folder = layout.folder("postgres")?;
    let data = folder.join("data");
    if !data.join("PG_VERSION").exists() {
        let mut initdb = daemon::command(layout, "initdb", "KILL")?;
        initdb.args(["--auth=trust", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync"]);
        initdb.arg(format!("--username={SUPERUSER}")).arg("--pgdata").arg(&data);
        daemon::run(initdb).await.context("Cannot make the database cluster")?;
    }

    let mut postgres = daemon::command(layout, "postgres", "INT")?;
    postgres.arg("-D").arg(&data).arg("-k").arg(&folder);
    // A process takes 30 at most, and a dozen of them run at once in tests.
    for setting in ["listen_addresses=", "fsync=off", "max_connections=500", "unix_socket_permissions=0700"] {
        postgres.args(["-c", setting]);
    }

    let mut daemon = Daemon::start("PostgreSQL", postgres, &folder.join("log"), Signal::SIGINT)?;
    wait_for("PostgreSQL answering", PATIENCE, || async { psql(layout, "SELECT 1").await.is_ok() })
        .await
        .or_else(|late| daemon.check().and(Err(late)))?;

    Ok(daemon)
}

/// Where it listens.
pub(crate) fn socket(layout: &Layout) -> PathBuf {
    layout.state.join("postgres/.s.PGSQL.5432")
}

/// Runs a statement in one of the databases.
pub(crate) async fn statement(layout: &Layout, database: &str, text: &str) -> anyhow::Result<String> {
    psql_in(layout, database, text).await
}

pub(crate) async fn create_database(layout: &Layout, name: &str) -> anyhow::Result<String> {
    let known = psql(layout, &format!("SELECT 1 FROM pg_database WHERE datname = '{name}'")).await?;
    if known.trim().is_empty() {
        psql(layout, &format!("CREATE DATABASE \"{name}\"")).await?;
    }

    let socket = layout.state.join("postgres").to_string_lossy().replace('/', "%2F");
    Ok(format!("postgres://{SUPERUSER}@{socket}/{name}"))
}

async fn psql(layout: &Layout, statement: &str) -> anyhow::Result<String> {
    psql_in(layout, "postgres", statement).await
}

async fn psql_in(layout: &Layout, database: &str, statement: &str) -> anyhow::Result<String> {
    let mut psql = daemon::command(layout, "psql", "KILL")?;
    psql.arg("-h")
        .arg(layout.state.join("postgres"))
        .args(["-U", SUPERUSER, "-Atq", "-c", statement])
        .arg(database);

    daemon::run(psql).await
}
