//! States of zones at servers of each family, and what is to be said of each: written down before
//! anything was run.

use nomenta_core::judge::code::Code;
use nomenta_world::families::{Family, Signing, Vouching, Zone};

use super::filled_zone;

/// One state, and what is to be said of it.
#[derive(Clone)]
pub(super) struct State {
    pub name: String,
    pub host: String,
    pub zone: Zone,
    /// The zone that it lies in, where it is a zone within another.
    pub above: Option<Zone>,
    pub want: &'static [Code],
    /// Whether all gates pass, where a certificate is held and served.
    pub passes: bool,
    /// What mends it.
    pub mended: Mended,
}

/// What mends a state.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Mended {
    /// The list of changes, where there is any.
    ByList,
    /// Whoever runs the server: no record makes it answer.
    ByOperator,
}

impl State {
    /// Its zones, filled in.
    pub(super) fn zones(&self) -> Vec<Zone> {
        [Some(self.zone.clone()), self.above.clone()].into_iter().flatten().map(filled_zone).collect()
    }
}

const APEX: &[&str] = &["_quaymark-challenge TXT TOKEN", "@ A 127.77.0.10", "@ A 127.77.0.11", "@ AAAA ::1"];
const WWW: &[&str] = &["_quaymark-challenge.www TXT TOKEN", "www CNAME CANONICAL"];
/// The token at an apex, whose addresses the server makes.
const TOKEN: &str = "_quaymark-challenge TXT TOKEN";
/// `::1` as tinydns writes it.
const TINY_SIX: &str =
    ":ZONE:28:\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\000\\001:5";

fn good(name: &str, host: &str, zone: Zone) -> State {
    let mended = Mended::ByList;
    State { name: name.into(), host: host.into(), zone, above: None, want: &[], passes: true, mended }
}

fn bad(name: &str, host: &str, zone: Zone, want: &'static [Code]) -> State {
    State { want, passes: false, ..good(name, host, zone) }
}

/// Each on a zone of its own.
pub(super) fn all() -> Vec<State> {
    let mut states = signed();
    states.extend(broken());
    states.extend(varying());
    states.extend(failing());
    states.extend(limiting());
    states.extend(moved());
    states.extend(mistaken());
    states
}

fn signed() -> Vec<State> {
    let zone = |apex: &str, family, lines: &[&str]| Zone::new(apex, family, lines);
    let by_alias = ["_quaymark-challenge.www CNAME BARE.proof.quaymark.example.", "www CNAME CANONICAL"];
    let wild =
        [TOKEN, "@ A 127.77.0.10", "@ A 127.77.0.11", "@ AAAA ::1", "* A 192.0.2.9", "*.www TXT hello"];
    let unknown =
        |apex: &str, vouching| Zone { vouching, ..zone(apex, Family::Nsd, WWW).signed(Signing::Nsec) };

    let within = |name, parent: Zone, child: Zone| State { above: Some(parent), ..good(name, "www", child) };
    let inner = |apex: &str, family| Zone { is_registered: false, ..zone(apex, family, WWW) };
    vec![
        good(
            "signed beforehand, NSEC, an alias",
            "www",
            zone("sg1.example", Family::Nsd, WWW).signed(Signing::Nsec),
        ),
        good(
            "signed beforehand, NSEC3, an alias",
            "www",
            zone("sg2.example", Family::Nsd, WWW).signed(Signing::Nsec3),
        ),
        good(
            "signed beforehand, opt-out",
            "www",
            zone("sg3.example", Family::Nsd, WWW).signed(Signing::OptOut),
        ),
        good("signed by Knot", "www", zone("sg4.example", Family::Knot, WWW).signed(Signing::ByServer)),
        good(
            "signed while it is asked",
            "www",
            zone("sg5.example", Family::KnotOnline, WWW).signed(Signing::ByServer),
        ),
        good(
            "signed by PowerDNS",
            "www",
            zone("sg6.example", Family::PowerDns, WWW).signed(Signing::ByServer),
        ),
        good("signed, at the apex", "@", zone("sg7.example", Family::Knot, APEX).signed(Signing::ByServer)),
        good("signed, with wildcards", "@", zone("sg8.example", Family::Nsd, &wild).signed(Signing::Nsec3)),
        good(
            "signed, wildcards while it is asked",
            "@",
            zone("sg9.example", Family::KnotOnline, &wild).signed(Signing::ByServer),
        ),
        good(
            "signed, the token by an alias",
            "www",
            zone("sg10.example", Family::Nsd, &by_alias).signed(Signing::Nsec),
        ),
        good(
            "signed by PowerDNS, the token by an alias",
            "www",
            zone("sg11.example", Family::PowerDns, &by_alias).signed(Signing::ByServer),
        ),
        good("a DS of an unknown algorithm", "www", unknown("sg12.example", Vouching::UnknownAlgorithm)),
        good("a DS of an unknown digest", "www", unknown("sg13.example", Vouching::UnknownDigest)),
        good(
            "a DS of an unknown algorithm above an unsigned zone",
            "www",
            Zone { signing: None, ..unknown("sg14.example", Vouching::UnknownAlgorithm) },
        ),
        within(
            "a DS below an unsigned zone",
            zone("sg15.example", Family::Nsd, &["sub NS knot.servers.test.", "DSOF sub.sg15.example"]),
            Zone {
                vouching: Vouching::Right,
                ..inner("sub.sg15.example", Family::Knot).signed(Signing::ByServer)
            },
        ),
        within(
            "an unsigned zone within a signed one",
            zone("sg16.example", Family::Nsd, &["sub NS powerdns.servers.test."]).signed(Signing::OptOut),
            inner("sub.sg16.example", Family::PowerDns),
        ),
        within(
            "a signed zone within a signed one",
            zone("sg17.example", Family::Nsd, &["sub NS knot.servers.test.", "DSOF sub.sg17.example"])
                .signed(Signing::Nsec),
            inner("sub.sg17.example", Family::Knot).signed(Signing::ByServer),
        ),
    ]
}

fn broken() -> Vec<State> {
    let broken = &[Code::DnssecBroken];
    let at =
        |apex: &str, vouching| Zone { vouching, ..Zone::new(apex, Family::Nsd, WWW).signed(Signing::Nsec) };
    let by_server = |apex: &str, family| Zone::new(apex, family, WWW).signed(Signing::ByServer);
    vec![
        bad("another digest of the same key", "www", at("br1.example", Vouching::WrongDigest), broken),
        bad("another key", "www", at("br2.example", Vouching::WrongKey), broken),
        bad(
            "a DS above an unsigned zone",
            "www",
            Zone { signing: None, ..at("br3.example", Vouching::Right) },
            broken,
        ),
        bad(
            "signatures that ran out",
            "www",
            Zone::new("br4.example", Family::Nsd, WWW).signed(Signing::Expired),
            broken,
        ),
        bad(
            "one of two serves it unsigned",
            "www",
            Zone { is_beside: true, ..at("br5.example", Vouching::Right) },
            broken,
        ),
        bad(
            "one of two serves it unsigned, the other is Knot",
            "www",
            Zone { is_beside: true, ..by_server("br6.example", Family::Knot) },
            broken,
        ),
        bad(
            "another digest, PowerDNS",
            "www",
            Zone { vouching: Vouching::WrongDigest, ..by_server("br7.example", Family::PowerDns) },
            broken,
        ),
    ]
}

fn varying() -> Vec<State> {
    let random = "@ LUA A \"pickrandom({'127.77.0.10', '127.77.0.11'})\"";
    let mixed = "@ LUA A \"pickwrandom({{50, '127.77.0.10'}, {50, '192.0.2.7'}})\"";
    let region = "@ LUA A \"netmask({'127.55.101.0/24'}) and '192.0.2.7' or {'127.77.0.10', '127.77.0.11'}\"";
    let wild = "*.lines LUA A \"pickrandom({'192.0.2.7', '192.0.2.8'})\"";
    // Chosen by the name that is asked for.
    let hashed = "*.lines LUA A \";return '192.0.2.' .. (qname:toString():len() % 4 + 7)\"";
    let tiny = ["'_quaymark-challenge.ZONE:TOKEN:5", TINY_SIX];
    let by_place =
        [tiny[0], tiny[1], "+ZONE:127.77.0.10:5::ne", "+ZONE:127.77.0.11:5::ne", "+ZONE:192.0.2.7:5::fa"];

    let varies = &[Code::AnswersVary];
    let power = |apex: &str, lines: &[&str]| Zone::new(apex, Family::PowerDns, lines);
    let gdnsd = |apex: &str, lines: &[&str]| Zone::new(apex, Family::Gdnsd, lines);
    vec![
        good("our own by turns, PowerDNS", "@", power("va1.example", &[TOKEN, random, "@ AAAA ::1"])),
        good("our own by turns, gdnsd", "@", gdnsd("va2.example", &[TOKEN, "@ 5 DYNA weighted!ours"])),
        bad(
            "half a former host's, PowerDNS",
            "@",
            power("va3.example", &[TOKEN, mixed, "@ AAAA ::1"]),
            varies,
        ),
        bad(
            "half a former host's, gdnsd",
            "@",
            gdnsd("va4.example", &[TOKEN, "@ 5 DYNA weighted!mixed"]),
            varies,
        ),
        good("our own by region", "@", gdnsd("va5.example", &[TOKEN, "@ 5 DYNA geoip!ours"])),
        bad(
            "a former host's for a region, gdnsd",
            "@",
            gdnsd("va6.example", &[TOKEN, "@ 5 DYNA geoip!mixed"]),
            varies,
        ),
        bad(
            "a former host's for a region, PowerDNS",
            "@",
            power("va7.example", &[TOKEN, region, "@ AAAA ::1"]),
            varies,
        ),
        bad(
            "a former host's for a region, tinydns",
            "@",
            Zone::new("va8.example", Family::Tinydns, &by_place),
            varies,
        ),
        bad("a wildcard by name", "a.lines", power("va10.example", &[hashed]), &[Code::WildcardAnswers]),
        bad("a wildcard by turns", "a.lines", power("va9.example", &[wild]), &[Code::WildcardAnswers]),
    ]
}

fn failing() -> Vec<State> {
    let unanswered = &[Code::NameUnanswered];
    let picky = |apex: &str, lines: &[&str], rule: &'static str| {
        Zone::new(apex, Family::Picky, &[lines, &[rule]].concat())
    };
    let tiny_alias = ["'_quaymark-challenge.ZONE:TOKEN:5", "CZONE:sites.formerhost.example:5"];
    let masq = [
        "txt-record=_quaymark-challenge.ZONE,TOKEN",
        "host-record=ZONE,127.77.0.10,::1",
        "host-record=ZONE,127.77.0.11",
    ];
    let masq_alias = ["txt-record=_quaymark-challenge.ZONE,TOKEN", "cname=www.ZONE,sites.formerhost.example"];
    vec![
        bad(
            "an alias that leads nowhere, at the apex",
            "@",
            Zone::new("fa1.example", Family::PowerDns, &[TOKEN, "@ ALIAS nowhere.servers.test."]),
            unanswered,
        ),
        bad(
            "names with an underscore refused",
            "@",
            picky(
                "fa2.example",
                APEX,
                "RULE addAction(AndRule({RegexRule(\"^_.*ZONE\")}), RCodeAction(DNSRCode.REFUSED))",
            ),
            unanswered,
        ),
        bad(
            "AAAA not implemented",
            "@",
            picky(
                "fa3.example",
                APEX,
                "RULE addAction(AndRule({QTypeRule(DNSQType.AAAA), QNameRule(\"ZONE\")}), RCodeAction(DNSRCode.NOTIMP))",
            ),
            unanswered,
        ),
        of_operator(bad(
            "silence about the host",
            "www",
            picky("fa4.example", WWW, "RULE addAction(QNameRule(\"www.ZONE\"), DropAction())"),
            unanswered,
        )),
        of_operator(bad(
            "SERVFAIL about the host",
            "www",
            picky(
                "fa5.example",
                WWW,
                "RULE addAction(QNameRule(\"www.ZONE\"), RCodeAction(DNSRCode.SERVFAIL))",
            ),
            unanswered,
        )),
        bad(
            "an alias at the apex, tinydns",
            "@",
            Zone::new("fa6.example", Family::Tinydns, &tiny_alias),
            &[Code::CnameAtApex],
        ),
        bad(
            "without authority, dnsmasq",
            "@",
            Zone::new("fa7.example", Family::Dnsmasq, &masq),
            &[Code::ServerLame],
        ),
        bad(
            "an alias without authority, dnsmasq",
            "www",
            Zone::new("fa8.example", Family::Dnsmasq, &masq_alias),
            &[Code::ServerLame],
        ),
    ]
}

fn of_operator(state: State) -> State {
    State { mended: Mended::ByOperator, ..state }
}

/// What customers get wrong anywhere, at servers that differ.
fn mistaken() -> Vec<State> {
    let zone = |apex: &str, family, lines: &[&str]| Zone::new(apex, family, lines);
    let short = "_quaymark-challenge.www TXT \"token=u6t2pj5hu6t2\"";
    let proof = "_quaymark-challenge.www TXT TOKEN";
    let old = "www CNAME sites.formerhost.example.";
    vec![
        bad(
            "a former host's address, signed",
            "@",
            zone("mi1.example", Family::Nsd, &[TOKEN, "@ A 192.0.2.7"]).signed(Signing::Nsec3),
            &[Code::AddressForeign],
        ),
        bad(
            "a former host's address, tinydns",
            "@",
            zone("mi2.example", Family::Tinydns, &["'_quaymark-challenge.ZONE:TOKEN:5", "+ZONE:192.0.2.7:5"]),
            &[Code::AddressForeign],
        ),
        bad(
            "a former host's alias, gdnsd",
            "www",
            zone("mi3.example", Family::Gdnsd, &[proof, old]),
            &[Code::CnameForeign],
        ),
        bad(
            "a former host's alias, signed while it is asked",
            "www",
            zone("mi4.example", Family::KnotOnline, &[proof, old]).signed(Signing::ByServer),
            &[Code::CnameForeign],
        ),
        bad(
            "the token cut short, signed by PowerDNS",
            "www",
            zone("mi5.example", Family::PowerDns, &[short, "www CNAME CANONICAL"]).signed(Signing::ByServer),
            &[Code::TokenAltered],
        ),
        bad(
            "the token cut short, tinydns",
            "www",
            zone(
                "mi6.example",
                Family::Tinydns,
                &[
                    "'_quaymark-challenge.www.ZONE:token=u6t2pj5hu6t2:5",
                    "Cwww.ZONE:onswick.edge.quaymark.example:5",
                ],
            ),
            &[Code::TokenAltered],
        ),
        bad(
            "a name typed in full, signed by Knot",
            "www",
            zone(
                "mi7.example",
                Family::Knot,
                &["_quaymark-challenge.www.ZONE TXT TOKEN", "www CNAME CANONICAL"],
            )
            .signed(Signing::ByServer),
            &[Code::HostDoubled],
        ),
        bad(
            "a name typed in full, gdnsd",
            "www",
            zone(
                "mi8.example",
                Family::Gdnsd,
                &["_quaymark-challenge.www.ZONE TXT TOKEN", "www CNAME CANONICAL"],
            ),
            &[Code::HostDoubled],
        ),
        bad(
            "the target as text, NSD",
            "www",
            zone("mi9.example", Family::Nsd, &[proof, "www TXT onswick.edge.quaymark.example"]),
            &[Code::WrongType],
        ),
    ]
}

fn limiting() -> Vec<State> {
    let tiny = ["'_quaymark-challenge.ZONE:TOKEN:5", "+ZONE:127.77.0.10:5", "+ZONE:127.77.0.11:5", TINY_SIX];
    vec![
        good("five a second, then cut short, NSD", "@", Zone::new("li1.example", Family::NsdCutting, APEX)),
        good("five a second, then dropped, NSD", "@", Zone::new("li2.example", Family::NsdDropping, APEX)),
        good("five a second, then cut short, Knot", "@", Zone::new("li3.example", Family::KnotCutting, APEX)),
        good("five a second, then refused, dnsdist", "@", Zone::new("li4.example", Family::Refusing, APEX)),
        good("five a second, then dropped, dnsdist", "@", Zone::new("li5.example", Family::Dropping, APEX)),
        good("no EDNS and no TCP, tinydns", "@", Zone::new("li6.example", Family::Tinydns, &tiny)),
    ]
}

fn moved() -> Vec<State> {
    let at =
        |apex: &str, family| Zone { moved_from: Some(Family::NsdBeside), ..Zone::new(apex, family, APEX) };
    let told = |name, zone| State { want: &[Code::DelegationMismatch], ..good(name, "@", zone) };
    vec![
        told("a name server at another address than is listed", at("mo1.example", Family::Nsd)),
        told("a name server at another address than is listed, Knot", at("mo2.example", Family::Knot)),
        told(
            "a name server at another address than is listed, PowerDNS",
            at("mo3.example", Family::PowerDns),
        ),
    ]
}
