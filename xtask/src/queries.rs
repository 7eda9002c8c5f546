//! The data by which queries are checked at compile time: made against a
//! throw-away PostgreSQL cluster with the migrations applied.

use std::env;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::Duration;

use anyhow::{Context, ensure};

use crate::cargo_command;
use crate::packages::folders;

const MIGRATIONS: &str = "crates/store/migrations";

/// Makes the query data anew.
pub(crate) fn prepare() -> anyhow::Result<()> {
    let folder = PathBuf::from(format!("/var/tmp/nomenta-queries-{}", std::process::id()));
    let prepared = Cluster::start(&folder).and_then(|cluster| check(&cluster));
    let _ = fs::remove_dir_all(&folder);
    prepared
}

fn check(cluster: &Cluster) -> anyhow::Result<()> {
    let mut files: Vec<_> = fs::read_dir(MIGRATIONS)?.collect::<Result<_, _>>()?;
    files.sort_by_key(fs::DirEntry::file_name);
    for file in files {
        cluster.psql(&["-f", &file.path().to_string_lossy()])?;
    }

    let data = env::current_dir()?.join(".sqlx");
    let scratch = env::current_dir()?.join("target/sqlx");
    let _ = fs::remove_dir_all(&data);
    fs::create_dir_all(&data)?;
    fs::create_dir_all(&scratch)?;
    // A touched file makes Cargo expand every query again.
    fs::File::open("crates/store/src/lib.rs")?.set_modified(std::time::SystemTime::now())?;
    let socket = cluster.folder.to_string_lossy().replace('/', "%2F");

    let status = cargo_command()
        .args(["check", "--package", "nomenta-store"])
        .env("CARGO_TARGET_DIR", "target/queries")
        .env("SQLX_OFFLINE", "false")
        .env("SQLX_OFFLINE_DIR", &data)
        .env("SQLX_TMP", &scratch)
        .env("DATABASE_URL", format!("postgres://nomenta@{socket}/postgres"))
        .status()?;

    ensure!(status.success(), "A query does not fit the schema");
    Ok(())
}

/// A cluster that ends with its owner.
struct Cluster {
    folder: PathBuf,
    child: Child,
}

impl Cluster {
    fn start(folder: &Path) -> anyhow::Result<Self> {
        fs::create_dir_all(folder)?;
        let root = Command::new("id").arg("-u").output()?.stdout.starts_with(b"0\n");
        if root {
            ensure!(
                Command::new("chown").arg("postgres").arg(folder).status()?.success(),
                "No user postgres"
            );
        }

        let data = folder.join("data");
        let mut initdb = unprivileged(root, "initdb")?;
        initdb
            .args(["--auth=trust", "--username=nomenta", "--no-sync", "-D"])
            .arg(&data)
            .stdout(Stdio::null());

        ensure!(initdb.current_dir(folder).status()?.success(), "initdb failed");
        let mut postgres = unprivileged(root, "postgres")?;
        postgres
            .arg("-D")
            .arg(&data)
            .arg("-k")
            .arg(folder)
            .args(["-c", "listen_addresses="])
            .stderr(Stdio::null());

        let cluster = Self { folder: folder.to_owned(), child: postgres.current_dir(folder).spawn()? };
        for _ in 0..100 {
            if cluster.psql(&["-c", "SELECT 1"]).is_ok() {
                return Ok(cluster);
            }
            sleep(Duration::from_millis(100));
        }

        anyhow::bail!("The throw-away database does not start")
    }

    fn psql(&self, args: &[&str]) -> anyhow::Result<()> {
        let mut psql = Command::new("psql");
        psql.arg("-h").arg(&self.folder).args(["-U", "nomenta", "-q", "-v", "ON_ERROR_STOP=1"]);
        let status = psql.args(args).arg("postgres").stdout(Stdio::null()).stderr(Stdio::null()).status()?;
        ensure!(status.success(), "psql {} failed", args.join(" "));

        Ok(())
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

/// A PostgreSQL program, as an unprivileged user when run by root.
fn unprivileged(root: bool, name: &str) -> anyhow::Result<Command> {
    let path = folders().into_iter().map(|f| f.join(name)).find(|p| p.is_file());
    let path = path.with_context(|| format!("{name} is not installed"))?;
    if !root {
        return Ok(Command::new(path));
    }

    let mut command = Command::new("setpriv");
    command.args(["--reuid=postgres", "--regid=postgres", "--init-groups", "--"]).arg(path);
    Ok(command)
}
