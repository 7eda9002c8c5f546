//! A third world: families of name servers, each with features of its own switched on, below a
//! signed root, and resolvers that check signatures.
//!
//! Two things are here that the other worlds lack: zones that are signed in each of the ways in
//! which that is done, and servers that make their answers (by turns, by weight, by region), fail at
//! single names, or limit how fast they are asked. Its zones stand in files before it starts.

mod keys;
mod serving;

use std::fs::File;
use std::net::{Ipv4Addr, SocketAddr, UdpSocket};
use std::path::PathBuf;

use anyhow::ensure;
use futures::future::join_all;

use self::keys::Keys;
use crate::Layout;
use crate::daemon::Daemon;
use crate::layout::FORMER;
use crate::servers::{Served, Servers, start_of_authority, zone};

/// The root.
pub const ROOT: Ipv4Addr = Ipv4Addr::new(127, 55, 0, 1);
const REGISTRY: Ipv4Addr = Ipv4Addr::new(127, 55, 1, 1);
/// The resolvers, each in a network of its own.
const RESOLVERS: [(&str, Ipv4Addr); 3] = [
    ("north", Ipv4Addr::new(127, 55, 100, 1)),
    ("south", Ipv4Addr::new(127, 55, 101, 1)),
    ("east", Ipv4Addr::new(127, 55, 102, 1)),
];
/// The network of the one that servers which answer by region send elsewhere.
pub const FAR_REGION: &str = "127.55.101.0/24";
/// Where resolvers ask; several of these servers know no other port.
const DNS: u16 = 53;

nomenta_core::spelled! {
    /// A name server with its features, by the label that it has.
    pub enum Family: "family of name servers" {
        /// NSD, with zones that are signed beforehand or not at all.
        Nsd = "nsd",
        /// A second one, which may hold other data.
        NsdBeside = "nsd-beside",
        /// NSD that answers five of a kind in a second, and cuts the others short.
        NsdCutting = "nsd-cutting",
        /// NSD that answers five of a kind in a second, and drops the others.
        NsdDropping = "nsd-dropping",
        /// Knot that signs zones beforehand, and keeps to NSEC3.
        Knot = "knot",
        /// Knot that signs each answer while it is asked.
        KnotOnline = "knot-online",
        /// Knot that answers few in a second, and cuts the others short.
        KnotCutting = "knot-cutting",
        /// PowerDNS: signs while it is asked, follows aliases, runs scripts.
        PowerDns = "powerdns",
        /// gdnsd, which hands addresses out by weight and by region.
        Gdnsd = "gdnsd",
        /// tinydns: no EDNS, no TCP, data by region and by time.
        Tinydns = "tinydns",
        /// dnsmasq, which answers from its own configuration, mostly without authority.
        Dnsmasq = "dnsmasq",
        /// dnsdist before NSD: refuses beyond a rate.
        Refusing = "dnsdist-refusing",
        /// dnsdist before NSD: drops beyond a rate.
        Dropping = "dnsdist-dropping",
        /// dnsdist before NSD: fails at some names and types.
        Picky = "dnsdist-picky",
    }
}

impl Family {
    /// Where it answers.
    pub fn address(self) -> Ipv4Addr {
        let place = Self::ALL.iter().position(|family| *family == self).unwrap_or(0);
        Ipv4Addr::new(127, 55, 2, u8::try_from(place + 1).unwrap_or(u8::MAX))
    }

    /// Its name as a name server.
    pub fn name(self) -> String {
        format!("{self}.servers.test")
    }
}

/// How a zone is signed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Signing {
    /// Beforehand, absence proved by names (NSEC).
    Nsec,
    /// Beforehand, absence proved by hashes (NSEC3, RFC 5155).
    Nsec3,
    /// The same, leaving unsigned delegations out (opt-out).
    OptOut,
    /// Beforehand, with signatures that have run out.
    Expired,
    /// By the server itself.
    ByServer,
}

/// What the zone above has of a zone's key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Vouching {
    /// Nothing.
    None,
    /// Its digest.
    Right,
    /// The right tag, and another digest.
    WrongDigest,
    /// A key that the zone does not have.
    WrongKey,
    /// An algorithm that nobody supports.
    UnknownAlgorithm,
    /// A digest that nobody supports.
    UnknownDigest,
}

/// A zone of this world.
#[derive(Clone, Debug)]
pub struct Zone {
    /// Its apex.
    pub apex: String,
    /// Who serves it.
    pub family: Family,
    /// Its lines in the form of its family: of a master file, or of the family's own
    /// configuration. `DSOF name` stands for the DS record of another zone of this world.
    pub lines: Vec<String>,
    /// How it is signed, if it is.
    pub signing: Option<Signing>,
    /// What the zone above says of that.
    pub vouching: Vouching,
    /// Whether [`Family::NsdBeside`] serves it too, as the lines stand and unsigned.
    pub is_beside: bool,
    /// Whose address the registry lists for the zone's own name server `ns`, which the zone has at its
    /// family's; a copy is served there too.
    pub moved_from: Option<Family>,
    /// Whether the registry delegates it; one that does not lies in another zone.
    pub is_registered: bool,
}

impl Zone {
    /// An unsigned zone.
    pub fn new(apex: &str, family: Family, lines: &[&str]) -> Self {
        Self {
            apex: apex.to_owned(),
            family,
            lines: lines.iter().map(|line| (*line).to_owned()).collect(),
            signing: None,
            vouching: Vouching::None,
            is_beside: false,
            moved_from: None,
            is_registered: true,
        }
    }

    /// The same, signed, and vouched for by the zone above.
    #[must_use]
    pub fn signed(self, signing: Signing) -> Self {
        Self { signing: Some(signing), vouching: Vouching::Right, ..self }
    }

    fn servers(&self) -> Vec<Family> {
        let beside = self.is_beside.then_some(Family::NsdBeside);
        [Some(self.family), beside].into_iter().flatten().collect()
    }

    /// Its master file, unsigned.
    fn text(&self, keys: &Keys) -> anyhow::Result<String> {
        let mut text = start_of_authority(&self.apex);
        for server in self.servers() {
            text.push_str(&format!("@ NS {}.\n", server.name()));
        }
        if self.moved_from.is_some() {
            text.push_str(&format!("@ NS ns\nns A {}\n", self.family.address()));
        }
        for line in &self.lines {
            match line.strip_prefix("DSOF ") {
                Some(zone) => text.push_str(&keys.vouch(zone, Vouching::Right)?),
                None => text.push_str(line),
            }
            text.push('\n');
        }
        Ok(text)
    }
}

/// The servers; they end with this.
pub struct Families {
    daemons: Vec<Daemon>,
    _lock: File,
}

impl Families {
    /// Writes and signs the zones, and starts every server.
    ///
    /// # Errors
    /// If a program is missing, an address in use, or a zone not taken.
    pub async fn start(layout: &Layout, customers: &[Zone]) -> anyhow::Result<Self> {
        let is_free = UdpSocket::bind((ROOT, DNS)).is_ok();
        ensure!(is_free, "Port 53 of {ROOT} cannot be had. Run as root, or stop whoever has it.");
        layout.wipe()?;
        let lock = layout.lock()?;

        let servers = Servers { folder: layout.folder("families")? };
        let keys = Keys::new(layout.folder("families/keys")?);
        let files = Files { servers, keys };
        for zone in customers.iter().filter(|zone| zone.signing.is_some() || zone.vouching != Vouching::None)
        {
            files.keys.make(&zone.apex)?;
        }
        for above in [".", "example", "test"] {
            files.keys.make(above)?;
        }

        let registry = files.registry(customers)?;
        let mut daemons = vec![
            files.nsd("root", &[ROOT], &[files.root()?], "").await?,
            files.nsd("registry", &[REGISTRY], &registry, "").await?,
        ];
        daemons.extend(files.families(customers).await?);
        daemons.extend(files.resolvers().await?);
        Ok(Self { daemons, _lock: lock })
    }

    /// Ends every server, so that others may take their places.
    pub async fn stop(self) {
        join_all(self.daemons.into_iter().map(Daemon::stop)).await;
    }

    /// The port of every server.
    pub fn port(&self) -> u16 {
        DNS
    }

    /// The resolvers by name.
    pub fn resolvers(&self) -> Vec<(String, SocketAddr)> {
        RESOLVERS.iter().map(|(name, ip)| ((*name).to_owned(), (*ip, DNS).into())).collect()
    }
}

/// What the servers are made of.
struct Files {
    servers: Servers,
    keys: Keys,
}

impl Files {
    fn root(&self) -> anyhow::Result<Served> {
        let mut text = format!(
            "{}@ NS a.root.test.\na.root.test. A {ROOT}\nexample. NS a.registry.test.\ntest. NS a.registry.test.\n\
             a.registry.test. A {REGISTRY}\n",
            start_of_authority(".")
        );
        for below in ["example", "test"] {
            text.push_str(&self.keys.vouch(below, Vouching::Right)?);
            text.push('\n');
        }
        self.signed_by_registry(".", text)
    }

    fn registry(&self, customers: &[Zone]) -> anyhow::Result<Vec<Served>> {
        let mut example = format!(
            "{}@ NS a.registry.test.\nquaymark NS nsd.servers.test.\nformerhost NS nsd.servers.test.\n",
            start_of_authority("example")
        );
        let mut test = format!(
            "{}@ NS a.registry.test.\na.registry A {REGISTRY}\na.root A {ROOT}\nservers NS a.registry.test.\n",
            start_of_authority("test")
        );

        for customer in customers.iter().filter(|customer| customer.is_registered) {
            let text = if customer.apex.ends_with(".test") { &mut test } else { &mut example };
            for server in customer.servers() {
                text.push_str(&format!("{}. NS {}.\n", customer.apex, server.name()));
            }
            if let Some(family) = customer.moved_from {
                text.push_str(&format!("{0}. NS ns.{0}.\nns.{0}. A {1}\n", customer.apex, family.address()));
            }
            if customer.vouching != Vouching::None {
                text.push_str(&self.keys.vouch(&customer.apex, customer.vouching)?);
                text.push('\n');
            }
        }

        let mut servers = format!("{}@ NS a.registry.test.\n", start_of_authority("servers.test"));
        for family in Family::ALL {
            servers.push_str(&format!("{family} A {}\n", family.address()));
        }
        Ok(vec![
            self.signed_by_registry("example", example)?,
            self.signed_by_registry("test", test)?,
            zone("servers.test", servers),
        ])
    }

    fn signed_by_registry(&self, apex: &str, text: String) -> anyhow::Result<Served> {
        let unsigned = self.servers.write(&format!("registry-zones/{apex}zone"), &text)?;
        Ok(zone(apex, self.keys.sign(apex, &unsigned, Signing::OptOut)?))
    }

    /// A zone as its server is given it: signed, where that is not the server's to do.
    fn served(&self, customer: &Zone) -> anyhow::Result<Served> {
        let text = customer.text(&self.keys)?;
        let text = match customer.signing {
            None | Some(Signing::ByServer) => text,
            Some(signing) => {
                let unsigned = self.servers.write(&format!("unsigned/{}.zone", customer.apex), &text)?;
                self.keys.sign(&customer.apex, &unsigned, signing)?
            }
        };
        Ok(zone(&customer.apex, text))
    }

    fn hints(&self) -> anyhow::Result<PathBuf> {
        self.servers.write("hints", &format!(". 3600 IN NS a.root.test.\na.root.test. 3600 IN A {ROOT}\n"))
    }
}

/// Zones of the platform and of a former host.
fn platform_zones() -> [Served; 2] {
    let head = |apex: &str| format!("{}@ NS nsd.servers.test.\n", start_of_authority(apex));
    let platform = format!(
        "{}$TTL 300\n*.edge A 127.77.0.10\n*.edge A 127.77.0.11\n*.edge AAAA ::1\n*.proof TXT \"proof\"\n",
        head("quaymark.example")
    );
    let former = format!("{}sites A {FORMER}\n", head("formerhost.example"));
    [zone("quaymark.example", platform), zone("formerhost.example", former)]
}
