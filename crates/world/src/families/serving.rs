//! The servers of each family, and the resolvers: their configuration, and their start.

use std::net::{Ipv4Addr, SocketAddr};

use super::keys::run;
use super::{DNS, FAR_REGION, Family, Files, RESOLVERS, Signing, Vouching, Zone, platform_zones};
use crate::daemon::Daemon;
use crate::servers::Served;

/// Marks a line that is a rule of dnsdist, and no record.
const RULE: &str = "RULE ";

impl Files {
    /// Every family's server.
    pub(super) async fn families(&self, customers: &[Zone]) -> anyhow::Result<Vec<Daemon>> {
        let of = |family: Family| customers.iter().filter(move |zone| zone.family == family);
        let fronted = [Family::Refusing, Family::Dropping, Family::Picky];

        let mut plain = Vec::from(platform_zones());
        for zone in
            customers.iter().filter(|zone| zone.family == Family::Nsd || fronted.contains(&zone.family))
        {
            plain.push(self.served(&without_rules(zone))?);
        }
        let mut beside = Vec::new();
        for zone in customers.iter().filter(|zone| zone.is_beside || zone.moved_from.is_some()) {
            beside.push(self.served(&Zone { signing: None, ..without_rules(zone) })?);
        }

        let limited = "  rrl-ratelimit: 5\n  rrl-ipv4-prefix-length: 32\n  rrl-slip: ";
        let mut daemons = vec![
            self.nsd("nsd", &[Family::Nsd.address()], &plain, "").await?,
            self.nsd("nsd-beside", &[Family::NsdBeside.address()], &beside, "").await?,
        ];
        for (family, slip) in [(Family::NsdCutting, 1), (Family::NsdDropping, 0)] {
            let zones: Vec<_> = of(family).map(|zone| self.served(zone)).collect::<Result<_, _>>()?;
            daemons.push(
                self.nsd(family.as_str(), &[family.address()], &zones, &format!("{limited}{slip}\n")).await?,
            );
        }

        for family in [Family::Knot, Family::KnotOnline, Family::KnotCutting] {
            daemons.push(self.knot(family, &of(family).collect::<Vec<_>>()).await?);
        }
        daemons.push(self.powerdns(&of(Family::PowerDns).collect::<Vec<_>>()).await?);
        daemons.push(self.gdnsd(&of(Family::Gdnsd).collect::<Vec<_>>()).await?);
        daemons.push(self.tinydns(&of(Family::Tinydns).collect::<Vec<_>>()).await?);
        daemons.push(self.dnsmasq(&of(Family::Dnsmasq).collect::<Vec<_>>()).await?);

        for (family, action) in
            [(Family::Refusing, "RCodeAction(DNSRCode.REFUSED)"), (Family::Dropping, "DropAction()")]
        {
            let rule = format!("addAction(MaxQPSIPRule(5, 32), {action})\n");
            daemons.push(self.dnsdist(family, &rule).await?);
        }
        let rules: String = of(Family::Picky).flat_map(rules).collect();
        daemons.push(self.dnsdist(Family::Picky, &rules).await?);
        Ok(daemons)
    }

    /// NSD; `more` are further lines of its section for the server.
    pub(super) async fn nsd(
        &self,
        name: &str,
        listen: &[Ipv4Addr],
        zones: &[Served],
        more: &str,
    ) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join(name);
        let addresses: String = listen.iter().map(|ip| format!("  ip-address: {ip}@{DNS}\n")).collect();
        let more = if more.is_empty() { "  rrl-ratelimit: 0\n" } else { more };
        let mut text = format!(
            "server:\n{addresses}  username: \"\"\n  pidfile: \"\"\n  database: \"\"\n  zonesdir: \"{0}\"\n\
             \x20 zonelistfile: \"{0}/zone.list\"\n  xfrdfile: \"{0}/xfrd.state\"\n  xfrdir: \"{0}\"\n  server-count: 1\n\
             {more}remote-control:\n  control-enable: no\n",
            folder.display()
        );
        for (apex, file) in self.servers.zones(name, zones)? {
            text.push_str(&format!("zone:\n  name: \"{apex}\"\n  zonefile: \"{}\"\n", file.display()));
        }

        let file = self.servers.write(&format!("{name}/nsd.conf"), &text)?;
        let mut command = self.servers.command("nsd")?;
        command.arg("-d").arg("-c").arg(&file);
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started(&format!("NSD, {name}"), command, name, listen[0], probe).await
    }

    /// Knot, which signs as its family does.
    async fn knot(&self, family: Family, zones: &[&Zone]) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join(family.as_str());
        let limit = if family == Family::KnotCutting { "    global-module: mod-rrl/few\n" } else { "" };
        let mut text = format!(
            "server:\n    listen: {}@{DNS}\n    rundir: {1}\n    tcp-max-clients: 20\nlog:\n  - target: stderr\n    any: \
             warning\ndatabase:\n    storage: {1}\npolicy:\n  - id: own\n    manual: on\n    single-type-signing: on\n    \
             nsec3: on\n    nsec3-iterations: 0\nmod-onlinesign:\n  - id: own\n    policy: own\nmod-rrl:\n  - id: few\n    \
             rate-limit: 5\n    slip: 1\ntemplate:\n  - id: default\n    storage: {1}\n{limit}zone:\n",
            family.address(),
            folder.display()
        );
        for zone in zones {
            let signing = match (zone.signing, family) {
                (Some(Signing::ByServer), Family::KnotOnline) => "    module: mod-onlinesign/own\n",
                (Some(Signing::ByServer), _) => "    dnssec-signing: on\n    dnssec-policy: own\n",
                _ => "",
            };
            let name = format!("{family}/{}.zone", zone.apex);
            self.servers.write(&name, &self.served(zone)?.text)?;
            text.push_str(&format!("  - domain: {0}\n    file: {0}.zone\n{signing}", zone.apex));
        }

        let file = self.servers.write(&format!("{family}/knot.conf"), &text)?;
        let config = file.display().to_string();
        for zone in zones.iter().filter(|zone| zone.signing == Some(Signing::ByServer)) {
            let key = self.keys.file(&zone.apex, "private")?.display().to_string();
            run("keymgr", &["-c", &config, &zone.apex, "import-bind", &key])?;
            let tag = self.keys.tag(&zone.apex)?;
            run("keymgr", &["-c", &config, &zone.apex, "set", &tag, "ksk=yes", "zsk=yes"])?;
        }

        let mut command = self.servers.command("knotd")?;
        command.args(["-c", &config]);
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started(&format!("Knot, {family}"), command, family.as_str(), family.address(), probe).await
    }

    /// PowerDNS, which signs, follows aliases and runs scripts while it is asked.
    async fn powerdns(&self, zones: &[&Zone]) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join("powerdns").display().to_string();
        let mut listed = String::new();
        for zone in zones {
            let name = format!("powerdns/{}.zone", zone.apex);
            let file = self.servers.write(&name, &self.served(zone)?.text)?;
            listed.push_str(&format!(
                "zone \"{}\" {{ type master; file \"{}\"; }};\n",
                zone.apex,
                file.display()
            ));
        }
        let named = self.servers.write("powerdns/named.conf", &listed)?;

        let text = format!(
            "launch=bind\nbind-config={}\nbind-dnssec-db={folder}/keys.db\nlocal-address={}\nlocal-port={DNS}\n\
             enable-lua-records=yes\nexpand-alias=yes\nresolver={}:{DNS}\nsocket-dir={folder}\ndaemon=no\nguardian=no\n\
             write-pid=no\ncache-ttl=0\nquery-cache-ttl=0\nnegquery-cache-ttl=0\nsecurity-poll-suffix=\n\
             disable-syslog=yes\n",
            named.display(),
            Family::PowerDns.address(),
            RESOLVERS[0].1
        );
        self.servers.write("powerdns/pdns.conf", &text)?;

        let config = format!("--config-dir={folder}");
        run("pdnsutil", &[&config, "create-bind-db", &format!("{folder}/keys.db")])?;
        for zone in zones.iter().filter(|zone| zone.signing == Some(Signing::ByServer)) {
            let key = self.keys.file(&zone.apex, "private")?.display().to_string();
            run("pdnsutil", &[&config, "import-zone-key", &zone.apex, &key, "active", "ksk"])?;
            run("pdnsutil", &[&config, "set-nsec3", &zone.apex, "1 0 0 -", "narrow"])?;
        }

        let mut command = self.servers.command("pdns_server")?;
        command.arg(config);
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started("PowerDNS, authority", command, "powerdns", Family::PowerDns.address(), probe).await
    }

    /// gdnsd, which hands out addresses by weight and by region.
    async fn gdnsd(&self, zones: &[&Zone]) -> anyhow::Result<Daemon> {
        let folder = self.servers.folder.join("gdnsd");
        for sub in ["run", "state"] {
            std::fs::create_dir_all(folder.join(sub))?;
        }
        for zone in zones {
            self.servers.write(&format!("gdnsd/zones/{}", zone.apex), &self.served(zone)?.text)?;
        }

        let weighted = |other: &str| {
            format!(
                "{{ multi => false, addrs_v4 => {{ a => [ 127.77.0.10, 50 ], b => [ {other}, 50 ] }}, \
                 addrs_v6 => {{ c => [ ::1, 50 ] }} }}"
            )
        };
        let place = |address: &str| format!("{{ addrs_v4 => [ {address} ], addrs_v6 => [ ::1 ] }}");
        let regions = |other: &str| {
            format!(
                "{{ map => regions, dcmap => {{ here => {}, there => {} }} }}",
                place("127.77.0.10"),
                place(other)
            )
        };
        let text = format!(
            "options => {{ listen => [ {} ], run_dir => \"{1}/run\", state_dir => \"{1}/state\" }}\nplugins => {{\n\
             weighted => {{ ours => {2}, mixed => {3} }}\n\
             geoip => {{ maps => {{ regions => {{ datacenters => [ here, there ], nets => {{ {FAR_REGION} => [ there ], \
             0.0.0.0/0 => [ here ] }} }} }}\n resources => {{ ours => {4}, mixed => {5} }} }} }}\n",
            Family::Gdnsd.address(),
            folder.display(),
            weighted("127.77.0.11"),
            weighted("192.0.2.7"),
            regions("127.77.0.11"),
            regions("192.0.2.7"),
        );
        self.servers.write("gdnsd/config", &text)?;

        let mut command = self.servers.command("gdnsd")?;
        command.arg("-c").arg(&folder).args(["-f", "start"]);
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started("gdnsd", command, "gdnsd", Family::Gdnsd.address(), probe).await
    }

    /// tinydns, whose data says which region it is for.
    async fn tinydns(&self, zones: &[&Zone]) -> anyhow::Result<Daemon> {
        let far = FAR_REGION.trim_end_matches(".0/24");
        let mut data = format!("%fa:{far}\n%ne\n");
        for Zone { apex, lines, .. } in zones {
            let server = Family::Tinydns.name();
            data.push_str(&format!(
                "Z{apex}:{server}:hostmaster.{server}:1:3600:600:86400:2:5\n&{apex}::{server}:5\n"
            ));
            lines.iter().for_each(|line| data.push_str(&format!("{line}\n")));
        }
        let file = self.servers.write("tinydns/data", &data)?;
        let folder = file.parent().unwrap_or(&file);
        run("sh", &["-c", &format!("cd {} && {}", folder.display(), "tinydns-data")])?;

        let mut command = self.servers.command("tinydns")?;
        command.envs([
            ("IP", Family::Tinydns.address().to_string()),
            ("ROOT", folder.display().to_string()),
            ("UID", "0".into()),
            ("GID", "0".into()),
        ]);
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started("tinydns", command, "tinydns", Family::Tinydns.address(), probe).await
    }

    /// dnsmasq, whose lines are its options.
    async fn dnsmasq(&self, zones: &[&Zone]) -> anyhow::Result<Daemon> {
        let (address, name) = (Family::Dnsmasq.address(), Family::Dnsmasq.name());
        let mut text = format!(
            "listen-address={address}\nbind-interfaces\nport={DNS}\nno-resolv\nno-hosts\npid-file=\nuser=root\nkeep-in-foreground\n\
             auth-server={name},lo\nauth-soa=1,hostmaster.servers.test\nauth-ttl=5\nlocal-ttl=5\nlog-facility=-\n"
        );
        for Zone { apex, lines, .. } in zones {
            text.push_str(&format!("auth-zone={apex}\n"));
            lines.iter().for_each(|line| text.push_str(&format!("{line}\n")));
        }

        let file = self.servers.write("dnsmasq/dnsmasq.conf", &text)?;
        let mut command = self.servers.command("dnsmasq")?;
        command.arg(format!("--conf-file={}", file.display()));
        let probe = zones.last().map_or("nothing.test", |zone| zone.apex.as_str());
        self.started("dnsmasq", command, "dnsmasq", address, probe).await
    }

    /// dnsdist before NSD.
    async fn dnsdist(&self, family: Family, rules: &str) -> anyhow::Result<Daemon> {
        let text = format!(
            "setLocal(\"{}:{DNS}\")\nsetSecurityPollSuffix(\"\")\nnewServer({{address=\"{}:{DNS}\", \
             healthCheckMode=\"up\"}})\n{rules}",
            family.address(),
            Family::Nsd.address()
        );
        let file = self.servers.write(&format!("{family}/dnsdist.conf"), &text)?;
        let mut command = self.servers.command("dnsdist")?;
        command.args(["--supervised", "--disable-syslog", "-C"]).arg(&file);
        self.started(
            &format!("dnsdist, {family}"),
            command,
            family.as_str(),
            family.address(),
            "quaymark.example",
        )
        .await
    }

    /// Resolvers that check signatures, from their own anchor at the root.
    pub(super) async fn resolvers(&self) -> anyhow::Result<Vec<Daemon>> {
        let hints = self.hints()?.display().to_string();
        let anchor = self.servers.write("anchor", &(self.keys.anchor(".")? + "\n"))?.display().to_string();

        let mut daemons = Vec::new();
        for (name, address) in &RESOLVERS[..2] {
            let folder = self.servers.folder.join(name);
            let text = format!(
                "server:\n  interface: {address}@{DNS}\n  outgoing-interface: {address}\n  access-control: 127.0.0.0/8 \
                 allow\n  do-not-query-localhost: no\n  username: \"\"\n  chroot: \"\"\n  directory: \"{}\"\n  pidfile: \
                 \"\"\n  use-syslog: no\n  module-config: \"validator iterator\"\n  num-threads: 1\n  root-hints: \
                 \"{hints}\"\n  trust-anchor-file: \"{anchor}\"\n  trust-anchor-signaling: no\n  val-bogus-ttl: 1\n  \
                 cache-max-negative-ttl: 2\n  infra-host-ttl: 5\n  qname-minimisation: no\n  local-zone: \"test.\" \
                 nodefault\n  ede: yes\nremote-control:\n  control-enable: no\n",
                folder.display()
            );
            let file = self.servers.write(&format!("{name}/unbound.conf"), &text)?;
            let mut command = self.servers.command("unbound")?;
            command.args(["-d", "-p", "-c"]).arg(&file);
            daemons.push(self.started(&format!("Unbound, {name}"), command, name, *address, "").await?);
        }
        daemons.push(self.recursor(&hints).await?);
        Ok(daemons)
    }

    async fn recursor(&self, hints: &str) -> anyhow::Result<Daemon> {
        let (name, address) = RESOLVERS[2];
        let folder = self.servers.folder.join(name).display().to_string();
        let vouched = self.keys.vouch(".", Vouching::Right)?;
        let anchor = vouched.split_once(" DS ").map_or("", |(_, rdata)| rdata);
        let lua = self
            .servers
            .write(&format!("{name}/anchor.lua"), &format!("clearTA()\naddTA('.', '{anchor}')\n"))?;

        let text = format!(
            "local-address={address}\nlocal-port={DNS}\nhint-file={hints}\nlua-config-file={}\ndnssec=validate\n\
             security-poll-suffix=\nsocket-dir={folder}\nallow-from=127.0.0.0/8\ndont-query=\ndaemon=no\nthreads=1\n\
             packetcache-ttl=1\nmax-negative-ttl=2\ndisable-syslog=yes\nwrite-pid=no\nquery-local-address={address}\n\
             qname-minimization=no\nloglevel=3\n",
            lua.display()
        );
        self.servers.write(&format!("{name}/recursor.conf"), &text)?;
        let mut command = self.servers.command("pdns_recursor")?;
        command.arg(format!("--config-dir={folder}"));
        self.started("PowerDNS, resolver", command, name, address, "").await
    }

    async fn started(
        &self,
        name: &str,
        command: tokio::process::Command,
        folder: &str,
        address: Ipv4Addr,
        probe: &str,
    ) -> anyhow::Result<Daemon> {
        let at = SocketAddr::from((address, DNS));
        self.servers.started(name, command, &format!("{folder}/log"), at, probe).await
    }
}

fn without_rules(zone: &Zone) -> Zone {
    let lines = zone.lines.iter().filter(|line| !line.starts_with(RULE)).cloned();
    Zone { lines: lines.collect(), ..zone.clone() }
}

/// The rules among a zone's lines.
fn rules(zone: &Zone) -> impl Iterator<Item = String> {
    let rules = zone.lines.iter().filter_map(|line| line.strip_prefix(RULE));
    rules.map(|rule| format!("{}\n", rule.replace("ZONE", &zone.apex)))
}
