//! The zones of the world: made with Knot's control, changed by RFC 2136.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use anyhow::{Context, bail, ensure};
use base64::Engine;
use hickory_proto::op::{Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::RecordType;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::reading::record::RecordData;
use tokio::sync::Mutex;

use crate::Layout;
use crate::PATIENCE;
use crate::knot;
use crate::layout::{
    CHALLENGES, EDGE, FORMER, FORMER_HOST, HARROW, OPERATORS, Operator, PLATFORM, PRIMARY, REGISTRY, ROOT,
    SLACKWATER, TIDEWELL,
};
use crate::odd;
use crate::update::{ask, exchange, name, record};
use crate::wait_for;

pub use crate::update::Change;

/// TTL of delegations and name servers, in seconds.
const TTL: u32 = 20;
/// How long an absence is cached, in seconds: short, so that a world with many
/// customers in a hurry is not dull.
const NEGATIVE_TTL: u32 = 2;

/// Zones that are signed, and that the resolvers hold keys of. Customers' zones
/// are not, which the lack of a DS record there proves.
const SIGNED: [&str; 2] = ["example", "test"];

/// Zones and the changes to them.
#[derive(Clone)]
pub struct Zones {
    layout: Layout,
    /// Knot has one configuration transaction at a time.
    transaction: Arc<Mutex<()>>,
}

/// A zone to load, and the name servers that the registry is to list.
pub struct NewZone {
    /// Its apex.
    pub apex: String,
    /// Its master file.
    pub text: String,
    /// Names of its servers.
    pub servers: Vec<DnsName>,
}

/// Where a zone stands in the primary's configuration.
fn entry(zone: &str) -> String {
    let origin = if zone == "." { ".".to_owned() } else { format!("{zone}.") };
    format!("zone[{origin}]")
}

/// A server of a zone, to be added.
fn name_server(zone: &str, server: &str) -> Change {
    Change::Add { owner: zone.to_owned(), ttl: TTL, data: RecordData::Ns(server.into()) }
}

impl Zones {
    /// The zones of the world at `layout`; it must run.
    pub fn new(layout: Layout) -> Self {
        Self { layout, transaction: Arc::default() }
    }

    /// Makes the root, the registry's zones and the operators' own.
    pub(crate) async fn ensure_base(&self) -> anyhow::Result<()> {
        let root = format!(
            "@ NS a.root.test.\na.root.test. A {ROOT}\nexample. NS a.registry.example.\n\
                            test. NS a.registry.example.\na.registry.example. A {REGISTRY}\n"
        );

        self.make(".", &root, Some("root")).await?;
        self.make(
            "example",
            &format!("@ NS a.registry.example.\na.registry A {REGISTRY}\n"),
            Some("registry"),
        )
        .await?;

        self.make("test", "@ NS a.registry.example.\n", Some("registry")).await?;

        for operator in OPERATORS {
            let glue = operator.servers.iter().enumerate().map(|(i, ip)| format!("ns{} A {ip}\n", i + 1));
            let mut text = format!("@ NS ns1\n@ NS ns2\n{}", glue.collect::<String>());
            if operator == PLATFORM {
                for ip in EDGE {
                    let rtype = if ip.is_ipv4() { "A" } else { "AAAA" };
                    text.push_str(&format!("*.edge {rtype} {ip}\n* {rtype} {ip}\n"));
                }
                for (zone, ip) in CHALLENGES {
                    text.push_str(&format!("{zone}. NS ns1.{zone}.\nns1.{zone}. A {ip}\n"));
                }
            }
            if self.make(operator.zone, &text, None).await? {
                self.delegate(operator.zone, &servers(operator)).await?;
            }
        }

        self.ensure_others().await?;
        for (zone, server) in [(".", ROOT), ("example", REGISTRY), ("test", REGISTRY)] {
            let address = SocketAddr::from((server, self.layout.dns_port()));
            wait_for(&format!("{server} serving {zone}"), PATIENCE, || async {
                ask(address, zone, RecordType::SOA).await.is_ok_and(|m| m.authoritative())
            })
            .await?;
        }

        Ok(())
    }

    /// The zones of the former host, and of the operator whose servers misbehave.
    async fn ensure_others(&self) -> anyhow::Result<()> {
        let former = format!("@ NS ns1.{0}.\n@ NS ns2.{0}.\nsites A {FORMER}\n", HARROW.zone);
        if self.make(FORMER_HOST, &former, None).await? {
            self.delegate(FORMER_HOST, &servers(HARROW)).await?;
        }

        let odd = odd::MANNERS.iter().map(|(label, ip, _)| format!("{label} A {ip}\n"));
        let text = format!("@ NS ns1.{0}.\n@ NS ns2.{0}.\n{1}", TIDEWELL.zone, odd.collect::<String>());
        if self.make(SLACKWATER, &text, None).await? {
            self.delegate(SLACKWATER, &servers(TIDEWELL)).await?;
        }

        Ok(())
    }

    /// The DNSKEY records of a signed zone, as a resolver's trust anchors.
    pub(crate) async fn trust_anchors(&self) -> anyhow::Result<String> {
        let mut anchors = String::new();
        for zone in SIGNED {
            let keys = knot::keys(&self.layout, zone).await?;
            anyhow::ensure!(!keys.trim().is_empty(), "The zone {zone} has no key");
            anchors.push_str(&keys);
        }

        Ok(anchors)
    }

    /// Has a zone signed, and its key vouched for by the registry: resolvers that check
    /// signatures check those.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn sign(&self, zone: &str) -> anyhow::Result<()> {
        let one = self.transaction.lock().await;
        self.configure(&[vec!["conf-set".into(), format!("{}.dnssec-signing", entry(zone)), "on".into()]])
            .await?;
        drop(one);

        let primary = SocketAddr::from((PRIMARY, self.layout.dns_port()));
        wait_for(&format!("the zone {zone} being signed"), PATIENCE, || async {
            let keys = ask(primary, zone, RecordType::DNSKEY).await;
            keys.is_ok_and(|reply| !reply.answers().is_empty())
        })
        .await?;

        let signers = knot::signers(&self.layout, zone).await?;
        let signer = signers.lines().next().and_then(|line| line.split_once(" DS "));
        let (_, signer) = signer.with_context(|| format!("{zone} has no key to vouch for: {signers}"))?;
        let parent = format!("{}.", dns::parent(zone));
        for words in [
            format!("zone-begin {parent}"),
            format!("zone-set {parent} {zone}. {TTL} DS {signer}"),
            format!("zone-commit {parent}"),
        ] {
            knot::control(&self.layout, "primary", &words.split(' ').collect::<Vec<_>>()).await?;
        }
        Ok(())
    }

    /// Gives a zone exactly these name servers, in the zone itself and at the
    /// registry.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn serve_at(&self, zone: &str, servers: &[(String, Ipv4Addr)]) -> anyhow::Result<()> {
        // The last one cannot be deleted (RFC 2136, section 3.4.2.4), so new
        // ones come first.
        let added: Vec<_> = servers.iter().map(|(name, _)| name_server(zone, name)).collect();
        self.update(zone, &added).await?;

        let known = OPERATORS.iter().flat_map(|operator| self::servers(*operator)).map(|(name, _)| name);
        let odd = odd::MANNERS.iter().map(|(label, ..)| format!("{label}.{SLACKWATER}"));
        let gone: Vec<_> = known
            .chain(odd)
            .filter(|name| !servers.iter().any(|(wanted, _)| wanted == name))
            .map(|name| Change::Remove { owner: zone.into(), data: RecordData::Ns(name.into()) })
            .collect();

        self.update(zone, &gone).await?;
        self.delegate(zone, servers).await
    }

    /// Cuts a name out of the zone above it, into a zone of its own at the
    /// other operator.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn cut(&self, name: &str, zone: &str) -> anyhow::Result<()> {
        let other = if Operator::of(zone) == HARROW { TIDEWELL } else { HARROW };
        let added: Vec<_> = servers(other).iter().map(|(server, _)| name_server(name, server)).collect();
        self.update(zone, &added).await?;

        let text = format!("@ NS ns1.{0}.\n@ NS ns2.{0}.\n", other.zone);
        self.make(name, &text, None).await.map(drop)
    }

    /// Gives a cut name back to the zone above it.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn uncut(&self, name: &str, zone: &str) -> anyhow::Result<()> {
        {
            let _one = self.transaction.lock().await;
            let file = self.layout.state.join(format!("knot-primary/zones/{name}.zone"));
            if !file.exists() {
                return Ok(());
            }

            for step in [&["conf-begin"][..], &["conf-unset", &format!("zone[{name}.]")], &["conf-commit"]] {
                knot::control(&self.layout, "primary", step).await?;
            }
            std::fs::remove_file(file)?;
        }

        self.update(zone, &[Change::Clear { owner: name.into() }]).await
    }

    /// Registers a customer's zone, empty but for its servers; leaves a known
    /// one as it is.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn register(&self, zone: &str) -> anyhow::Result<()> {
        let operator = Operator::of(zone);
        let text = format!("@ NS ns1.{0}.\n@ NS ns2.{0}.\n", operator.zone);
        if self.make(zone, &text, None).await? {
            self.delegate(zone, &servers(operator)).await?;
        }

        Ok(())
    }

    /// Makes the registry delegate `zone` to `servers`, or to nobody; returns
    /// once the registry says so.
    ///
    /// # Errors
    /// If Knot refuses.
    pub async fn delegate(&self, zone: &str, servers: &[(String, Ipv4Addr)]) -> anyhow::Result<()> {
        let parent = dns::parent(zone);
        let mut changes = vec![Change::Clear { owner: zone.into() }];
        for (name, ip) in servers {
            changes.push(name_server(zone, name));
            if dns::is_within(name, parent) {
                changes.push(Change::Add { owner: name.clone(), ttl: TTL, data: RecordData::A(*ip) });
            }
        }

        self.update(parent, &changes).await?;
        self.fetched(parent).await?;
        self.delegated(zone, servers.iter().map(|(name, _)| name.as_str().into()).collect()).await
    }

    /// Has the registry fetch its zone now: the primary tells of a change a second later.
    async fn fetched(&self, zone: &str) -> anyhow::Result<()> {
        if !SIGNED.contains(&zone) {
            return Ok(());
        }
        knot::control(&self.layout, "registry", &["zone-refresh", &format!("{zone}.")]).await.map(drop)
    }

    /// Waits until the registry lists these.
    async fn delegated(&self, zone: &str, wanted: BTreeSet<DnsName>) -> anyhow::Result<()> {
        let registry = SocketAddr::from((REGISTRY, self.layout.dns_port()));
        wait_for(&format!("the registry delegating {zone}"), PATIENCE, || async {
            let Ok(reply) = ask(registry, zone, RecordType::NS).await else { return false };
            let ns = reply.name_servers().iter().filter_map(|record| record.data().as_ns());
            ns.map(|server| DnsName::from(server.0.to_ascii())).collect::<BTreeSet<_>>() == wanted
        })
        .await
    }

    /// Applies changes as one RFC 2136 update at the primary.
    ///
    /// # Errors
    /// If the primary refuses, with its response code.
    pub async fn update(&self, zone: &str, changes: &[Change]) -> anyhow::Result<()> {
        let mut message = Message::new();
        message.set_id(rand::random()).set_message_type(MessageType::Query).set_op_code(OpCode::Update);
        message.add_query(Query::query(name(zone)?, RecordType::SOA));
        for change in changes {
            message.add_name_server(record(change)?);
        }

        let primary = SocketAddr::from((PRIMARY, self.layout.dns_port()));
        let reply = exchange(primary, &message).await?;
        match reply.response_code() {
            ResponseCode::NoError => Ok(()),
            code => bail!("The update of {zone} was refused: {code}"),
        }
    }

    /// The IPv4 addresses that a resolver gives for a name now.
    ///
    /// # Errors
    /// If it does not answer.
    pub async fn addresses_at(&self, vantage: SocketAddr, owner: &str) -> anyhow::Result<Vec<Ipv4Addr>> {
        let reply = ask(vantage, owner, RecordType::A).await?;
        Ok(reply.answers().iter().filter_map(|r| r.data().as_a()).map(|a| a.0).collect())
    }

    /// Lets the first `count` resolvers learn the addresses of a name, as
    /// visitors of the site have.
    ///
    /// # Errors
    /// If one does not answer.
    pub async fn prime(&self, owner: &str, count: usize) -> anyhow::Result<()> {
        for (_, vantage) in self.layout.vantages().into_iter().take(count) {
            for rtype in [RecordType::A, RecordType::AAAA] {
                ask(vantage, owner, rtype).await?;
            }
        }
        Ok(())
    }

    /// Every record of a zone as the primary has read it, a line each.
    ///
    /// # Errors
    /// If it does not serve the zone.
    pub async fn dump(&self, zone: &str) -> anyhow::Result<String> {
        let text = knot::control(&self.layout, "primary", &["zone-read", &format!("{zone}.")]).await?;
        let records = text.lines().filter_map(|line| line.split_once("] "));
        Ok(records.map(|(_, record)| format!("{record}\n")).collect())
    }

    /// Makes a zone at the primary; `false` if it is there already.
    async fn make(&self, zone: &str, records: &str, notify: Option<&str>) -> anyhow::Result<bool> {
        let origin = if zone == "." { ".".to_owned() } else { format!("{zone}.") };
        // Updates go to the server that the zone names first (RFC 2136, section 4.3).
        let primary =
            records.lines().find_map(|line| line.strip_prefix("@ NS ")).unwrap_or("a.registry.example.");
        let text = format!(
            "$ORIGIN {origin}\n$TTL {TTL}\n@ SOA {primary} hostmaster.registry.example. 1 3600 600 86400 {NEGATIVE_TTL}\n{records}"
        );

        self.load(zone, &text, notify).await
    }

    /// Loads a zone from text, unless it is there; says whether it was not.
    ///
    /// # Errors
    /// If the primary does not take it.
    pub async fn load(&self, zone: &str, text: &str, notify: Option<&str>) -> anyhow::Result<bool> {
        let _one = self.transaction.lock().await;
        let Some(file) = self.write_zone(zone, text)? else { return Ok(false) };

        let entry = entry(zone);
        let mut steps = vec![vec!["conf-set".to_owned(), entry.clone()]];
        steps.push(vec!["conf-set".into(), format!("{entry}.file"), file]);
        if SIGNED.contains(&zone) {
            steps.push(vec!["conf-set".into(), format!("{entry}.dnssec-signing"), "on".into()]);
        }
        if let Some(remote) = notify {
            steps.push(vec!["conf-set".into(), format!("{entry}.notify"), remote.into()]);
        }

        self.configure(&steps).await?;
        self.loaded(zone).await?;
        Ok(true)
    }

    /// Loads many zones at once, and has the registry list their name servers,
    /// whatever they are.
    ///
    /// # Errors
    /// If the primary does not take them.
    pub async fn load_all(&self, zones: &[NewZone]) -> anyhow::Result<()> {
        let mut steps = Vec::new();
        let mut changes = Vec::new();
        for zone in zones {
            ensure!(self.write_zone(&zone.apex, &zone.text)?.is_some(), "{} is there already", zone.apex);
            // Its file is the one that the template names.
            steps.push(vec!["conf-set".to_owned(), entry(&zone.apex)]);
            changes.extend(zone.servers.iter().map(|server| name_server(&zone.apex, server)));
        }

        {
            let _one = self.transaction.lock().await;
            self.configure(&steps).await?;
        }
        let Some(last) = zones.last() else { return Ok(()) };
        self.loaded(&last.apex).await?;
        for some in changes.chunks(100) {
            self.update(dns::parent(&last.apex), some).await?;
        }
        self.fetched(dns::parent(&last.apex)).await?;
        self.delegated(&last.apex, last.servers.iter().cloned().collect()).await
    }

    /// Gives a zone another text, with a higher serial.
    ///
    /// # Errors
    /// If the primary does not take it.
    pub async fn replace(&self, zone: &str, text: &str) -> anyhow::Result<()> {
        self.layout.write(&format!("knot-primary/zones/{zone}.zone"), text)?;
        knot::control(&self.layout, "primary", &["zone-reload", &format!("{zone}.")]).await.map(drop)
    }

    /// The name of the file, unless it is there.
    fn write_zone(&self, zone: &str, text: &str) -> anyhow::Result<Option<String>> {
        let file = match zone {
            "." => "root.zone".to_owned(),
            zone => format!("{zone}.zone"),
        };

        let path = self.layout.state.join("knot-primary/zones").join(&file);
        if path.exists() {
            return Ok(None);
        }
        self.layout.write(&format!("knot-primary/zones/{file}"), text)?;
        Ok(Some(file))
    }

    /// Gives a zone's owner a key for updates, made by the primary; returns its key statement.
    ///
    /// # Errors
    /// If the primary does not take it.
    pub async fn give_key(&self, zone: &str, name: &str) -> anyhow::Result<String> {
        let secret = base64::engine::general_purpose::STANDARD.encode(rand::random::<[u8; 32]>());
        self.know_key(name, &secret).await?;

        let (rule, entry) = (format!("acl[{name}]"), entry(zone));
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let steps = [
            words(&["conf-set", &rule]),
            words(&["conf-set", &format!("{rule}.address"), "127.0.0.0/8"]),
            words(&["conf-set", &format!("{rule}.key"), name]),
            words(&["conf-set", &format!("{rule}.action"), "update"]),
            words(&["conf-set", &format!("{entry}.acl"), "loopback", name]),
        ];
        let _one = self.transaction.lock().await;
        self.configure(&steps).await?;
        Ok(format!("key \"{name}\" {{\n    algorithm hmac-sha256;\n    secret \"{secret}\";\n}};\n"))
    }

    /// Has the primary know a key that may do nothing.
    ///
    /// # Errors
    /// If the primary does not take it.
    pub async fn know_key(&self, name: &str, secret: &str) -> anyhow::Result<()> {
        let key = format!("key[{name}]");
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let steps = [
            words(&["conf-set", &key]),
            words(&["conf-set", &format!("{key}.algorithm"), "hmac-sha256"]),
            words(&["conf-set", &format!("{key}.secret"), secret]),
        ];
        let _one = self.transaction.lock().await;
        self.configure(&steps).await
    }

    /// Changes the primary's configuration in one transaction.
    async fn configure(&self, steps: &[Vec<String>]) -> anyhow::Result<()> {
        // Another process may be in a transaction of its own.
        wait_for("the name server taking a change", PATIENCE, || async {
            knot::control(&self.layout, "primary", &["conf-begin"]).await.is_ok()
        })
        .await?;

        for step in steps {
            let words: Vec<_> = step.iter().map(String::as_str).collect();
            knot::control(&self.layout, "primary", &words).await?;
        }
        knot::control(&self.layout, "primary", &["conf-commit"]).await.map(drop)
    }

    async fn loaded(&self, zone: &str) -> anyhow::Result<()> {
        let primary = SocketAddr::from((PRIMARY, self.layout.dns_port()));
        wait_for(&format!("the zone {zone} being loaded"), PATIENCE, || async {
            ask(primary, zone, RecordType::SOA)
                .await
                .is_ok_and(|m| m.answers().iter().any(|r| r.record_type() == RecordType::SOA))
        })
        .await
    }
}

/// Names and addresses of an operator's servers.
pub fn servers(operator: Operator) -> Vec<(String, Ipv4Addr)> {
    let numbered = operator.servers.iter().zip(1..);
    numbered.map(|(ip, number)| (format!("ns{number}.{}", operator.zone), *ip)).collect()
}

/// An address record of the right type.
pub fn address(ip: IpAddr) -> RecordData {
    match ip {
        IpAddr::V4(ip) => RecordData::A(ip),
        IpAddr::V6(ip) => RecordData::Aaaa(ip),
    }
}
