//! A second world of other servers: BIND and NSD as authoritative servers, BIND
//! and PowerDNS as resolvers that walk down from its root by themselves.
//!
//! Its zones stand in files before it starts, and do not change.

use std::fs::File;
use std::net::{Ipv4Addr, SocketAddr, UdpSocket};
use std::path::PathBuf;

use tokio::task::JoinSet;

use crate::daemon::Daemon;
use crate::layout::FORMER;
use crate::servers::{Served, Servers, start_of_authority, zone};
use crate::{Layout, relay, stub};

/// The root, the registry, and the two servers of every other zone.
pub const ROOT: Ipv4Addr = Ipv4Addr::new(127, 54, 0, 1);
const REGISTRY: Ipv4Addr = Ipv4Addr::new(127, 54, 1, 1);
const BIND: [Ipv4Addr; 2] = [Ipv4Addr::new(127, 54, 2, 1), Ipv4Addr::new(127, 54, 4, 1)];
const NSD: [Ipv4Addr; 2] = [Ipv4Addr::new(127, 54, 2, 2), Ipv4Addr::new(127, 54, 4, 2)];
const RESOLVERS: [(&str, Ipv4Addr); 2] =
    [("east", Ipv4Addr::new(127, 54, 100, 1)), ("centre", Ipv4Addr::new(127, 54, 100, 2))];
/// Where the servers of the customers' zones stand among all.
const AUTHORITY: usize = 2;
const OTHER_AUTHORITY: usize = 3;
/// And the resolvers.
const RESOLVER: usize = 4;
const OTHER_RESOLVER: usize = 5;
/// Second octet of its addresses.
const BLOCK: u8 = 54;
/// The port that resolvers ask authoritative servers at.
const DNS: u16 = 53;

/// A zone of this world.
pub struct Zone {
    /// Its apex.
    pub apex: String,
    /// Its master file, name servers and all.
    pub text: String,
    /// The name servers that the registry lists; with an address where they need
    /// one there.
    pub listed: Vec<(String, Option<Ipv4Addr>)>,
}

/// The servers; they end with this.
pub struct Others {
    port: u16,
    files: Files,
    daemons: Vec<Daemon>,
    _relays: JoinSet<()>,
    _stubs: stub::Stubs,
    _lock: File,
}

impl Others {
    /// Writes the zones and starts every server.
    ///
    /// # Errors
    /// If a program is missing, an address in use, or a zone not taken.
    pub async fn start(layout: &Layout, customers: &[Zone]) -> anyhow::Result<Self> {
        layout.wipe()?;
        let lock = layout.lock()?;

        // Where the usual port is taken or not ours to take, PowerDNS cannot walk.
        let is_free = UdpSocket::bind((ROOT, DNS)).is_ok();
        let port = if is_free { DNS } else { layout.base_port + 20 };
        let servers = Servers { folder: layout.folder("others")? };
        let files = Files { servers, port, own_ports: layout.base_port + 21 };

        let root = [zone(".", root_text())];
        let registry = [
            zone("example", registry_text("example", customers)),
            zone("test", registry_text("test", customers)),
        ];
        let mut served: Vec<_> =
            customers.iter().map(|zone| self::zone(&zone.apex, zone.text.clone())).collect();
        served.extend(platform_zones());

        let daemons = vec![
            files.bind("root", 0, &root).await?,
            files.bind("registry", 1, &registry).await?,
            files.bind("authority", 2, &served).await?,
            files.nsd(&NSD, &served).await?,
            files.bind_resolver(3).await?,
            files.powerdns(RESOLVERS[1].1).await?,
        ];

        // BIND looks for its addresses among those of the interfaces.
        let mut relays = JoinSet::new();
        for (place, listen) in [(0, ROOT), (1, REGISTRY), (2, BIND[0]), (2, BIND[1]), (3, RESOLVERS[0].1)] {
            relay::start(&mut relays, (listen, port).into(), files.own(place)).await?;
        }

        let stubs = stub::start(BLOCK, port, SocketAddr::from((BIND[0], port))).await?;
        Ok(Self { port, files, daemons, _relays: relays, _stubs: stubs, _lock: lock })
    }

    /// Gives zones other texts, with higher serials, and has the servers read
    /// them.
    ///
    /// # Errors
    /// If a file cannot be written.
    pub fn replace(&self, zones: &[(String, String)]) -> anyhow::Result<()> {
        for (apex, text) in zones {
            for server in ["authority", "nsd"] {
                self.files.servers.write(&format!("{server}/{apex}.zone"), text)?;
            }
        }
        self.daemons[AUTHORITY].reread();
        self.daemons[OTHER_AUTHORITY].reread();
        Ok(())
    }

    /// Has the servers of every customer's zone say nothing, or speak again.
    ///
    /// # Errors
    /// If one speaks all the same.
    pub async fn hold_authorities(&self, is_held: bool) -> anyhow::Result<()> {
        self.daemons[AUTHORITY].hold(is_held).await?;
        self.daemons[OTHER_AUTHORITY].hold(is_held).await
    }

    /// The same for every resolver.
    ///
    /// # Errors
    /// If one speaks all the same.
    pub async fn hold_resolvers(&self, is_held: bool) -> anyhow::Result<()> {
        self.daemons[RESOLVER].hold(is_held).await?;
        self.daemons[OTHER_RESOLVER].hold(is_held).await
    }

    /// The port of every server.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The resolvers by name.
    pub fn resolvers(&self) -> Vec<(String, SocketAddr)> {
        RESOLVERS.iter().map(|(name, ip)| ((*name).to_owned(), (*ip, self.port).into())).collect()
    }

    /// Where the server with a habit answers.
    pub fn address(habit: stub::Habit) -> Ipv4Addr {
        habit.address(BLOCK)
    }
}

fn root_text() -> String {
    format!(
        "{}@ NS a.root.test.\na.root.test. A {ROOT}\nexample. NS a.registry.example.\ntest. NS a.registry.example.\n\
         a.registry.example. A {REGISTRY}\n",
        start_of_authority(".")
    )
}

fn registry_text(apex: &str, customers: &[Zone]) -> String {
    let mut text = format!("{}@ NS a.registry.example.\n", start_of_authority(apex));
    if apex == "example" {
        text.push_str(&format!(
            "a.registry A {REGISTRY}\nharrowdns NS ns1.harrowdns\nharrowdns NS ns2.harrowdns\nns1.harrowdns A {}\n\
             ns2.harrowdns A {}\nquaymark NS ns1.quaymark\nquaymark NS ns2.quaymark\nns1.quaymark A {}\n\
             ns2.quaymark A {}\nformerhost NS ns1.harrowdns\nformerhost NS ns2.harrowdns\n",
            BIND[0], NSD[0], BIND[1], NSD[1]
        ));
    }

    let suffix = format!(".{apex}");
    for customer in customers.iter().filter(|customer| customer.apex.ends_with(&suffix)) {
        for (server, address) in &customer.listed {
            text.push_str(&format!("{}. NS {server}.\n", customer.apex));
            if let Some(address) = address.filter(|_| server.ends_with(&customer.apex)) {
                text.push_str(&format!("{server}. A {address}\n"));
            }
        }
    }
    text
}

fn platform_zones() -> [Served; 3] {
    let servers = |apex: &str, four: Ipv4Addr, six: Ipv4Addr| {
        format!("{}@ NS ns1\n@ NS ns2\nns1 A {four}\nns2 A {six}\n", start_of_authority(apex))
    };
    let platform = format!(
        "{}$TTL 300\n*.edge A 127.77.0.10\n*.edge A 127.77.0.11\n*.edge AAAA ::1\n",
        servers("quaymark.example", BIND[1], NSD[1])
    );
    let former = format!(
        "{}@ NS ns1.harrowdns.example.\n@ NS ns2.harrowdns.example.\nsites A {FORMER}\n",
        start_of_authority("formerhost.example")
    );

    [
        zone("harrowdns.example", servers("harrowdns.example", BIND[0], NSD[0])),
        zone("quaymark.example", platform),
        zone("formerhost.example", former),
    ]
}

/// Where the servers' files stand.
struct Files {
    servers: Servers,
    port: u16,
    /// First of the ports that BIND listens on.
    own_ports: u16,
}

impl Files {
    /// Where the BIND at one place listens.
    fn own(&self, place: u16) -> SocketAddr {
        (Ipv4Addr::LOCALHOST, self.own_ports + place).into()
    }

    fn bind_options(&self, server: &str, place: u16, more: &str) -> anyhow::Result<String> {
        let folder = self.servers.folder.join(server);
        std::fs::create_dir_all(&folder)?;
        Ok(format!(
            "options {{ directory \"{0}\"; port {1}; listen-on port {2} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; \
             pid-file none; session-keyfile \"{0}/session\"; managed-keys-directory \"{0}\"; dnssec-validation no; \
             notify no; {more} }};\ncontrols {{ }};\n",
            folder.display(),
            self.port,
            self.own(place).port()
        ))
    }

    /// BIND as an authoritative server.
    async fn bind(&self, server: &str, place: u16, zones: &[Served]) -> anyhow::Result<Daemon> {
        let mut text = self.bind_options(server, place, "recursion no; check-names primary ignore;")?;
        for (apex, file) in self.servers.zones(server, zones)? {
            text.push_str(&format!("zone \"{apex}\" {{ type primary; file \"{}\"; }};\n", file.display()));
        }

        let probe = zones.last().map_or(".", |zone| zone.apex.as_str());
        self.named(server, &text, place, probe).await
    }

    /// BIND as a resolver, from its own root down.
    async fn bind_resolver(&self, place: u16) -> anyhow::Result<Daemon> {
        let hints = self.hints()?;
        let options = "recursion yes; allow-query { any; }; max-ncache-ttl 2; qname-minimization off; \
                       empty-zones-enable no; resolver-query-timeout 10000;";
        let text = self.bind_options("resolver", place, options)?
            + &format!("zone \".\" {{ type hint; file \"{}\"; }};\n", hints.display());
        self.named("resolver", &text, place, ".").await
    }

    async fn named(&self, server: &str, text: &str, place: u16, probe: &str) -> anyhow::Result<Daemon> {
        let file = self.servers.write(&format!("{server}/named.conf"), text)?;
        let mut command = self.servers.command("named")?;
        command.arg("-g").arg("-4").arg("-c").arg(&file);
        self.servers
            .started(&format!("BIND, {server}"), command, &format!("{server}/log"), self.own(place), probe)
            .await
    }

    /// NSD, with the same zones.
    async fn nsd(&self, listen: &[Ipv4Addr], zones: &[Served]) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join("nsd");
        std::fs::create_dir_all(&folder)?;
        let addresses: String =
            listen.iter().map(|ip| format!("  ip-address: {ip}@{}\n", self.port)).collect();
        let mut text = format!(
            "server:\n{addresses}  username: \"\"\n  pidfile: \"\"\n  database: \"\"\n  zonesdir: \"{0}\"\n\
             \x20 zonelistfile: \"{0}/zone.list\"\n  xfrdfile: \"{0}/xfrd.state\"\n  xfrdir: \"{0}\"\n  server-count: 1\n\
             remote-control:\n  control-enable: no\n",
            folder.display()
        );
        for (apex, file) in self.servers.zones("nsd", zones)? {
            text.push_str(&format!("zone:\n  name: \"{apex}\"\n  zonefile: \"{}\"\n", file.display()));
        }

        let file = self.servers.write("nsd/nsd.conf", &text)?;
        let mut command = self.servers.command("nsd")?;
        command.arg("-d").arg("-c").arg(&file);
        self.servers
            .started("NSD", command, "nsd/log", (listen[0], self.port).into(), "harrowdns.example")
            .await
    }

    /// PowerDNS as a resolver, from the root down where it may.
    async fn powerdns(&self, listen: Ipv4Addr) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join("powerdns");
        std::fs::create_dir_all(&folder)?;
        let way = match self.port {
            DNS => format!("hint-file={}", self.hints()?.display()),
            port => format!("forward-zones=.={}:{port}", BIND[0]),
        };
        let text = format!(
            "local-address={listen}\nlocal-port={}\n{way}\ndnssec=off\nsecurity-poll-suffix=\nsocket-dir={}\n\
             allow-from=127.0.0.0/8\ndont-query=\ndaemon=no\nthreads=1\npacketcache-ttl=1\nmax-negative-ttl=2\n\
             disable-syslog=yes\nwrite-pid=no\nquery-local-address=127.0.0.1\nqname-minimization=no\nloglevel=3\n",
            self.port,
            folder.display()
        );

        self.servers.write("powerdns/recursor.conf", &text)?;
        let mut command = self.servers.command("pdns_recursor")?;
        command.arg(format!("--config-dir={}", folder.display()));
        self.servers.started("PowerDNS", command, "powerdns/log", (listen, self.port).into(), "").await
    }

    fn hints(&self) -> anyhow::Result<PathBuf> {
        self.servers.write("hints", &format!(". 3600 IN NS a.root.test.\na.root.test. 3600 IN A {ROOT}\n"))
    }
}
