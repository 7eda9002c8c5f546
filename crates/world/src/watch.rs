//! Watches over the servers: one that has stopped answering is named, ended,
//! and started anew for whatever comes after.

use std::sync::{Arc, Mutex as StdMutex, PoisonError};
use std::time::Duration;

use futures::future::BoxFuture;
use tokio::sync::Mutex;
use tokio::task::AbortHandle;
use tokio::time::{sleep, timeout};

use crate::Daemon;

/// Time between two rounds of questions.
const EVERY: Duration = Duration::from_secs(2);
/// Longest time for one answer; a busy machine takes a second or two.
const ANSWER_LIMIT: Duration = Duration::from_secs(10);
/// Questions in a row without an answer after which a server counts as stuck.
const SILENT_MOST: u32 = 3;

/// A server that can be watched over.
pub(crate) trait Server: Send + Sync {
    /// Starts it, on what it left.
    fn start(&self) -> BoxFuture<'_, anyhow::Result<Daemon>>;

    /// Whether it answers.
    fn answers(&self) -> BoxFuture<'_, bool>;
}

/// Is told what is being done.
pub type Say = Arc<dyn Fn(&str) + Send + Sync>;

/// A server that is watched over.
pub(crate) struct Watched {
    daemon: Daemon,
    server: Box<dyn Server>,
    silent: u32,
}

impl Watched {
    /// Starts a server that is to be watched over.
    pub(crate) async fn start(server: impl Server + 'static) -> anyhow::Result<Self> {
        Ok(Self { daemon: server.start().await?, server: Box::new(server), silent: 0 })
    }

    /// Asks once; starts the server anew if it has been silent for too long.
    async fn look_after(&mut self, say: &Say) {
        if timeout(ANSWER_LIMIT, self.server.answers()).await.unwrap_or(false) {
            self.silent = 0;
            return;
        }

        self.silent += 1;
        if self.silent >= SILENT_MOST {
            self.silent = 0;
            self.start_anew(say).await;
        }
    }

    async fn start_anew(&mut self, say: &Say) {
        let name = self.daemon.name().to_owned();
        say(&format!("{name} has stopped answering; starting it anew"));
        self.daemon.end_at_once().await;

        match self.server.start().await {
            Ok(daemon) => self.daemon = daemon,
            Err(error) => say(&format!("{name} does not start again: {error:#}")),
        }
    }
}

/// Servers, and what looks after them. Dropping it ends them.
pub(crate) struct Watch {
    servers: Arc<Mutex<Vec<Watched>>>,
    task: AbortHandle,
}

impl Watch {
    /// Looks after some servers from now on.
    pub(crate) fn over(servers: Vec<Watched>, say: Say) -> Self {
        let servers = Arc::new(Mutex::new(servers));
        let task = tokio::spawn(look_after(servers.clone(), say)).abort_handle();
        Self { servers, task }
    }

    /// Process id of the first server, while it runs.
    pub(crate) async fn first_id(&self) -> Option<u32> {
        self.servers.lock().await.first().and_then(|watched| watched.daemon.id())
    }

    /// Ends the first server gently, and starts it anew on what it left.
    pub(crate) async fn restart_first(&self) -> anyhow::Result<()> {
        let mut servers = self.servers.lock().await;
        let Some(watched) = servers.first_mut() else { return Ok(()) };
        watched.daemon.end().await;
        watched.daemon = watched.server.start().await?;
        Ok(())
    }

    /// Ends every server, the last started first, and waits until all are gone.
    pub(crate) async fn stop(self) {
        self.task.abort();
        let mut servers = self.servers.lock().await;
        while let Some(watched) = servers.pop() {
            watched.daemon.stop().await;
        }
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn look_after(servers: Arc<Mutex<Vec<Watched>>>, say: Say) {
    loop {
        sleep(EVERY).await;
        for watched in servers.lock().await.iter_mut() {
            watched.look_after(&say).await;
        }
    }
}

/// Keeps what was said, for those who want to read it.
#[derive(Clone, Default)]
pub struct Said(Arc<StdMutex<Vec<String>>>);

impl Said {
    /// Something to be told.
    pub fn ear(&self) -> Say {
        let said = self.clone();
        Arc::new(move |what| said.0.lock().unwrap_or_else(PoisonError::into_inner).push(what.to_owned()))
    }

    /// Everything so far.
    pub fn all(&self) -> Vec<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}
