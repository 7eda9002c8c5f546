//! Addresses, ports and folders of the world.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, UdpSocket};
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use nix::unistd::{Uid, User};

/// Serves the root zone.
pub const ROOT: Ipv4Addr = Ipv4Addr::new(127, 53, 0, 1);
/// Serves `example.` and `test.`.
pub const REGISTRY: Ipv4Addr = Ipv4Addr::new(127, 53, 1, 1);
/// The hidden primary of all zones; vantages forward to it.
pub const PRIMARY: Ipv4Addr = Ipv4Addr::new(127, 53, 9, 9);
/// Nothing listens here.
pub const SILENT: Ipv4Addr = Ipv4Addr::new(127, 53, 66, 1);
/// The three resolvers.
pub const VANTAGES: [Ipv4Addr; 3] =
    [Ipv4Addr::new(127, 53, 100, 1), Ipv4Addr::new(127, 53, 100, 2), Ipv4Addr::new(127, 53, 100, 3)];
/// Zones in which services answer the CA's questions for TXT records, and where:
/// one for each process that does.
pub const CHALLENGES: [(&str, Ipv4Addr); 2] = [
    ("acme.quaymark.example", Ipv4Addr::new(127, 53, 5, 1)),
    ("acme2.quaymark.example", Ipv4Addr::new(127, 53, 5, 2)),
];
/// The platform's edge.
pub const EDGE: [IpAddr; 3] = [
    IpAddr::V4(Ipv4Addr::new(127, 77, 0, 10)),
    IpAddr::V4(Ipv4Addr::new(127, 77, 0, 11)),
    IpAddr::V6(Ipv6Addr::LOCALHOST),
];

/// A made-up company that runs name servers for others.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Operator {
    /// Its own zone; its servers are ns1 and ns2 in it.
    pub zone: &'static str,
    /// Addresses of the two.
    pub servers: [Ipv4Addr; 2],
}

impl Operator {
    /// The one that hosts a customer's zone.
    pub fn of(zone: &str) -> Self {
        if zone.ends_with(".test") { TIDEWELL } else { HARROW }
    }
}

/// Hosts customers' zones under `example.`
pub const HARROW: Operator = Operator {
    zone: "harrowdns.example",
    servers: [Ipv4Addr::new(127, 53, 2, 1), Ipv4Addr::new(127, 53, 2, 2)],
};
/// Hosts customers' zones under `test.`
pub const TIDEWELL: Operator =
    Operator { zone: "tidewell.test", servers: [Ipv4Addr::new(127, 53, 3, 1), Ipv4Addr::new(127, 53, 3, 2)] };
/// Runs name servers that misbehave, each in its own way; see [`crate::odd`].
pub const SLACKWATER: &str = "slackwater.test";
/// Address of the former host; nothing is ever sent there.
pub(crate) const FORMER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 7);
/// The host that customers come from; nothing is ever sent to its address.
pub const FORMER_HOST: &str = "formerhost.example";
/// The platform's own name servers.
pub const PLATFORM: Operator = Operator {
    zone: "quaymark.example",
    servers: [Ipv4Addr::new(127, 53, 4, 1), Ipv4Addr::new(127, 53, 4, 2)],
};
/// All of them.
pub const OPERATORS: [Operator; 3] = [HARROW, TIDEWELL, PLATFORM];

/// Where one copy of the world is: its state folder and its ports.
#[derive(Clone, Debug)]
pub struct Layout {
    /// Everything that is kept from run to run.
    pub state: PathBuf,
    /// First of a row of ports.
    pub base_port: u16,
    user: Option<User>,
}

impl Layout {
    /// A layout; as root, servers run as an unprivileged user.
    ///
    /// # Errors
    /// If the system's users cannot be read, or root has nobody to step down to.
    pub fn new(state: &Path, base_port: u16) -> anyhow::Result<Self> {
        let state = std::path::absolute(state)?;
        if !Uid::effective().is_root() {
            return Ok(Self { state, base_port, user: None });
        }

        let user = ["postgres", "nobody"].iter().find_map(|name| User::from_name(name).ok().flatten());
        let user = user.context("There is no user postgres or nobody for PostgreSQL to run as.")?;
        Ok(Self { state, base_port, user: Some(user) })
    }

    /// Name of the unprivileged user, when run by root.
    pub fn user(&self) -> Option<&str> {
        self.user.as_ref().map(|u| u.name.as_str())
    }

    /// Every authoritative server listens on this port.
    pub fn dns_port(&self) -> u16 {
        self.base_port
    }

    /// The resolvers, by name.
    pub fn vantages(&self) -> Vec<(String, SocketAddr)> {
        let names = ["north", "south", "west"];
        names.iter().zip(VANTAGES).map(|(n, ip)| ((*n).to_owned(), (ip, self.base_port + 1).into())).collect()
    }

    /// Where the resolvers take questions over TLS, and over HTTPS.
    pub(crate) fn encrypted_ports(&self) -> [u16; 2] {
        [self.base_port + 7, self.base_port + 8]
    }

    /// Root of the resolvers' own TLS certificate.
    pub fn vantage_roots(&self) -> PathBuf {
        self.state.join("vantages.pem")
    }

    /// The resolvers as the service is told of them: one plain, one over TLS,
    /// one over HTTPS.
    pub fn vantage_words(&self) -> Vec<String> {
        let [tls, https] = self.encrypted_ports();
        let ways = self.vantages().into_iter().enumerate().map(|(index, (name, address))| match index {
            1 => format!("{name}=tls://{}:{tls}", address.ip()),
            2 => format!("{name}=https://{}:{https}/dns-query", address.ip()),
            _ => format!("{name}={address}"),
        });

        ways.collect()
    }

    /// The key that the platform signs with what it sends to DNS operators.
    pub fn one_click_key(&self) -> PathBuf {
        self.state.join("one-click.pem")
    }

    /// Pebble's ACME directory.
    pub fn directory(&self) -> String {
        format!("https://127.0.0.1:{}/dir", self.base_port + 2)
    }

    /// Where the edge serves plain HTTP, and where Pebble looks for it.
    pub fn http_port(&self) -> u16 {
        self.base_port + 4
    }

    /// Where the edge serves HTTPS.
    pub fn https_port(&self) -> u16 {
        self.base_port + 5
    }

    /// Where the demo's service listens.
    pub fn service(&self) -> SocketAddr {
        (Ipv4Addr::LOCALHOST, self.base_port + 6).into()
    }

    /// Roots that chains must lead to: Pebble's of this run and earlier ones.
    pub fn ca_roots(&self) -> PathBuf {
        self.state.join("roots.pem")
    }

    /// Root of Pebble's own TLS certificate.
    pub fn directory_root(&self) -> PathBuf {
        self.state.join("pebble/tls.pem")
    }

    /// Adds a root to those that chains must lead to. Pebble makes a new one at
    /// each start, and certificates of earlier runs lead to the earlier ones.
    pub(crate) fn trust(&self, root: &str) -> anyhow::Result<()> {
        let earlier = fs::read_to_string(self.ca_roots()).unwrap_or_default();
        if !earlier.contains(root.trim()) {
            self.write("roots.pem", &format!("{}\n{earlier}", root.trim()))?;
        }

        Ok(())
    }

    /// A folder in the state, made if need be and handed to the unprivileged user.
    pub(crate) fn folder(&self, name: &str) -> anyhow::Result<PathBuf> {
        let path = self.state.join(name);
        fs::create_dir_all(&path).with_context(|| format!("Cannot make {}", path.display()))?;
        self.hand_over(&path)?;
        Ok(path)
    }

    /// Writes a file that the unprivileged user can read and replace.
    pub(crate) fn write(&self, name: &str, text: &str) -> anyhow::Result<PathBuf> {
        let path = self.state.join(name);
        write_whole(&path, text)?;
        self.hand_over(&path)?;
        Ok(path)
    }

    fn hand_over(&self, path: &Path) -> anyhow::Result<()> {
        if let Some(user) = &self.user {
            std::os::unix::fs::chown(path, Some(user.uid.as_raw()), Some(user.gid.as_raw()))
                .with_context(|| format!("Cannot hand {} to the user {}", path.display(), user.name))?;
        }
        Ok(())
    }

    /// Forgets what earlier runs left.
    ///
    /// # Errors
    /// If another copy runs on it, or files cannot be removed.
    pub fn wipe(&self) -> anyhow::Result<()> {
        if !self.state.exists() {
            return Ok(());
        }

        if !self.state.join("lock").exists() && fs::read_dir(&self.state)?.next().is_some() {
            bail!(
                "{} holds files that are not Nomenta's. Choose another --state folder.",
                self.state.display()
            );
        }

        let _lock = self.lock()?;
        fs::remove_dir_all(&self.state).with_context(|| format!("Cannot empty {}", self.state.display()))
    }

    /// Makes this copy the only one on its state.
    pub(crate) fn lock(&self) -> anyhow::Result<File> {
        fs::create_dir_all(&self.state).with_context(|| format!("Cannot make {}", self.state.display()))?;
        let path = self.state.join("lock");
        let file = OpenOptions::new().create(true).truncate(false).write(true).open(&path)?;

        match file.try_lock() {
            Ok(()) => Ok(file),
            Err(TryLockError::WouldBlock) => bail!(
                "Another copy runs on {}. Stop it, or choose another --state and --base-port.",
                self.state.display()
            ),
            Err(TryLockError::Error(error)) => Err(error.into()),
        }
    }

    /// Makes the folder, and notes its ports: zones and certificates made for
    /// other ports would not fit.
    pub(crate) fn prepare(&self) -> anyhow::Result<()> {
        self.hand_over(&self.state)?;

        let note = self.state.join("base-port");
        match fs::read_to_string(&note) {
            Ok(text) if text.trim() != self.base_port.to_string() => bail!(
                "The state in {} was made with --base-port {}. Use that, or start anew with --fresh.",
                self.state.display(),
                text.trim()
            ),
            Ok(_) => Ok(()),
            Err(_) => self.write("base-port", &self.base_port.to_string()).map(drop),
        }
    }

    /// Names every port that somebody else uses.
    pub(crate) fn check_ports(&self) -> anyhow::Result<()> {
        let dns = [ROOT, REGISTRY, PRIMARY].into_iter().chain(OPERATORS.iter().flat_map(|o| o.servers));
        let mut wanted: Vec<(SocketAddr, &str)> =
            dns.map(|ip| ((ip, self.dns_port()).into(), "a name server")).collect();
        wanted.extend(self.vantages().into_iter().map(|(_, address)| (address, "a resolver")));
        wanted.extend(CHALLENGES.map(|(_, ip)| ((ip, self.dns_port()).into(), "a challenge zone")));
        for (_, address) in self.vantages() {
            wanted.extend(self.encrypted_ports().map(|port| ((address.ip(), port).into(), "a resolver")));
        }

        for (offset, what) in [(2, "the certification authority"), (3, "its management"), (6, "the service")]
        {
            wanted.push(((Ipv4Addr::LOCALHOST, self.base_port + offset).into(), what));
        }

        for ip in EDGE {
            wanted.push(((ip, self.http_port()).into(), "the edge (HTTP)"));
            wanted.push(((ip, self.https_port()).into(), "the edge (HTTPS)"));
        }

        let mut busy = Vec::new();
        for (address, what) in wanted {
            if TcpListener::bind(address).is_err() || UdpSocket::bind(address).is_err() {
                busy.push(format!("{address} for {what}"));
            }
        }

        if busy.is_empty() {
            return Ok(());
        }

        bail!(
            "These ports are in use: {}. Stop what uses them, or choose another --base-port.",
            busy.join(", ")
        )
    }
}

/// Writes a file that appears whole or not at all: others may read it, or write it
/// too, at that very moment.
pub(crate) fn write_whole(path: &Path, text: &str) -> anyhow::Result<()> {
    let part = path.with_extension(format!("{:08x}.part", rand::random::<u32>()));
    fs::write(&part, text).with_context(|| format!("Cannot write {}", part.display()))?;
    fs::rename(&part, path).with_context(|| format!("Cannot write {}", path.display()))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A folder under the system's own for passing things, gone at the end.
    struct Folder(PathBuf);

    impl Folder {
        fn new() -> Self {
            let folder = std::env::temp_dir().join(format!("nomenta-layout-{:08x}", rand::random::<u32>()));
            fs::create_dir_all(&folder).expect("a folder");
            Self(folder)
        }

        fn layout(&self, base_port: u16) -> Layout {
            Layout::new(&self.0, base_port).expect("a layout")
        }
    }

    impl Drop for Folder {
        fn drop(&mut self) {
            let _ = fs::remove_dir_all(&self.0);
        }
    }

    #[test]
    fn one_copy_runs_on_one_state() {
        let folder = Folder::new();
        let held = folder.layout(21_000).lock().expect("locked");
        let second = folder.layout(22_000).lock().expect_err("refused");
        assert!(second.to_string().contains("Another copy runs on"), "{second}");
        assert!(folder.layout(21_000).wipe().is_err(), "nor is it wiped meanwhile");
        drop(held);
        folder.layout(22_000).lock().expect("free again");
    }

    #[test]
    fn somebody_elses_folder_is_never_emptied() {
        let folder = Folder::new();
        fs::write(folder.0.join("letter"), "dear").expect("written");
        let refused = folder.layout(21_000).wipe().expect_err("refused");
        assert!(refused.to_string().contains("holds files that are not Nomenta's"), "{refused}");
        assert!(folder.0.join("letter").exists());
    }

    #[test]
    fn state_made_for_other_ports_is_told_apart() {
        let folder = Folder::new();
        folder.layout(21_000).prepare().expect("new");
        folder.layout(21_000).prepare().expect("the same again");
        let refused = folder.layout(22_000).prepare().expect_err("refused");
        assert!(refused.to_string().contains("was made with --base-port 21000"), "{refused}");
    }

    #[test]
    fn a_busy_port_is_named_with_what_it_is_wanted_for() {
        let folder = Folder::new();
        let taken = TcpListener::bind((EDGE[0], 0)).expect("bound");
        let base_port = taken.local_addr().expect("an address").port() - 4;
        let refused = folder.layout(base_port).check_ports().expect_err("refused");
        let want = format!("{}:{} for the edge (HTTP)", EDGE[0], base_port + 4);
        assert!(refused.to_string().contains(&want), "{refused}");
    }

    #[test]
    fn an_operator_is_chosen_by_the_top_level() {
        assert_eq!(Operator::of("onswick.example"), HARROW);
        assert_eq!(Operator::of("lowmere.test"), TIDEWELL);
    }
}
