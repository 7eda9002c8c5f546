//! Names, times and values as master files write them.

use std::net::IpAddr;

use super::fault::Fault;
use super::lines::{Lines, Token};
use crate::name::dns::{DnsName, LONGEST_LABEL, LONGEST_NAME};
use crate::reading::octets::{self, Octets};
use crate::reading::record::{RecordData, RecordType, Soa};

/// Record types that a master file may hold beside those that are judged
/// (IANA registry of resource record types).
const OTHER_TYPES: [&str; 52] = [
    "AFSDB",
    "APL",
    "AVC",
    "CDNSKEY",
    "CDS",
    "CERT",
    "CSYNC",
    "DHCID",
    "DLV",
    "DNAME",
    "DNSKEY",
    "DOA",
    "EID",
    "EUI48",
    "EUI64",
    "GPOS",
    "HINFO",
    "HIP",
    "IPSECKEY",
    "ISDN",
    "KEY",
    "KX",
    "L32",
    "L64",
    "LOC",
    "LP",
    "MB",
    "MG",
    "MINFO",
    "MR",
    "NAPTR",
    "NID",
    "NSAP",
    "NSEC",
    "NSEC3",
    "NSEC3PARAM",
    "OPENPGPKEY",
    "PTR",
    "PX",
    "RP",
    "RRSIG",
    "RT",
    "SIG",
    "SMIMEA",
    "SPF",
    "SRV",
    "SSHFP",
    "SVCB",
    "TLSA",
    "URI",
    "X25",
    "ZONEMD",
];

/// Redirects whole subtrees (RFC 6672); asked for by nobody, and seen in answers.
const DNAME: &str = "DNAME";

/// Reads one value, names in it absolute: as the core shows values, and as
/// people write them in edits.
///
/// # Errors
/// What is wrong with it.
pub fn value(rtype: &str, text: &str) -> Result<RecordData, Fault> {
    if rtype == RecordType::Txt.as_str() {
        let inner = text.strip_prefix('"').and_then(|t| t.strip_suffix('"'));
        return Ok(RecordData::Txt(Octets::unescaped(inner.unwrap_or(text))));
    }

    let mut tokens = Vec::new();
    for line in Lines::new(text) {
        tokens.extend(line.map_err(|error| error.fault)?.tokens);
    }
    data(rtype, &tokens, &DnsName::root())
}

/// A name, made absolute.
pub(super) fn name(written: &str, origin: &DnsName) -> Result<DnsName, Fault> {
    // Only spaces and tabs part words (RFC 1035, section 5.1).
    if written.chars().any(char::is_control) {
        return Err(Fault::Control(written.escape_default().to_string()));
    }

    match written {
        // Quotes with nothing between them.
        "" => return Err(Fault::NoName),
        "@" => return Ok(origin.clone()),
        "." => return Ok(DnsName::root()),
        _ => {}
    }

    let mut labels = labels(written.as_bytes());
    let is_absolute = labels.last().is_some_and(Vec::is_empty);
    if is_absolute {
        labels.pop();
    }
    match labels.iter().find(|label| label.is_empty() || label.len() > LONGEST_LABEL) {
        Some(label) if label.is_empty() => return Err(Fault::EmptyLabel(written.to_owned())),
        Some(_) => return Err(Fault::LongLabel(written.to_owned())),
        None => {}
    }

    // Each label takes the dot after it, which the last one has not.
    let length = labels.iter().map(|label| label.len() + 1).sum::<usize>() - 1;
    let own = DnsName::from_labels(labels.iter().map(Vec::as_slice));
    let (absolute, length) = match is_absolute || origin.is_root() {
        true => (own, length),
        false => (origin.child(&own), length + 1 + origin.octets()),
    };
    if length > LONGEST_NAME {
        return Err(Fault::LongName(written.to_owned()));
    }
    Ok(absolute)
}

/// The labels of a name as octets, its escapes undone (RFC 1035, section 5.1);
/// the last one empty after a final dot.
fn labels(written: &[u8]) -> Vec<Vec<u8>> {
    let mut labels = Vec::new();
    let mut label = Vec::new();
    let mut rest = written;

    while let Some((octet, length)) = octets::first(rest) {
        if rest[0] == b'.' {
            labels.push(std::mem::take(&mut label));
        } else {
            label.push(octet);
        }
        rest = &rest[length..];
    }
    labels.push(label);
    labels
}

/// Seconds, plain or with units as in `1h30m`.
pub(super) fn seconds(text: &str) -> Option<u32> {
    let mut total = 0_u32;
    let mut number = None::<u32>;

    for c in text.chars() {
        if let Some(digit) = c.to_digit(10) {
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(digit)?);
            continue;
        }
        let unit = match c.to_ascii_lowercase() {
            's' => 1,
            'm' => 60,
            'h' => 3600,
            'd' => 86_400,
            'w' => 604_800,
            _ => return None,
        };
        total = total.checked_add(number.take()?.checked_mul(unit)?)?;
    }

    match number {
        Some(number) => total.checked_add(number),
        None => (!text.is_empty()).then_some(total),
    }
}

/// A value of a type; what is not judged is not looked into.
pub(super) fn data(rtype: &str, tokens: &[Token], origin: &DnsName) -> Result<RecordData, Fault> {
    if rtype == DNAME
        && let [target] = tokens
    {
        return name(&target.raw, origin).map(RecordData::Dname);
    }

    let is_generic = tokens.first().is_some_and(|t| t.raw == "\\#" && !t.quoted);
    if is_generic || is_numbered(rtype) || OTHER_TYPES.contains(&rtype) {
        return Ok(RecordData::Other(rtype.to_owned()));
    }
    let Ok(known) = rtype.parse() else { return Err(Fault::UnknownType(rtype.to_owned())) };

    let words = Words { rtype: known, tokens, origin };
    match known {
        RecordType::A => words.only().and_then(|t| words.read(t, "an IPv4 address")).map(RecordData::A),
        RecordType::Aaaa => words.only().and_then(|t| words.read(t, "an IPv6 address")).map(RecordData::Aaaa),
        RecordType::Cname => words.only_name().map(RecordData::Cname),
        RecordType::Ns => words.only_name().map(RecordData::Ns),
        RecordType::Mx => words.mail(),
        RecordType::Txt => words.text(),
        RecordType::Caa => words.caa(),
        RecordType::Soa => words.soa(),
        RecordType::Https => words.https(),
        RecordType::Ds => words.signer(),
        // Not looked into; see above.
        RecordType::Dnskey => Ok(RecordData::Other(rtype.to_owned())),
    }
}

/// `TYPE731` (RFC 3597, section 5).
fn is_numbered(rtype: &str) -> bool {
    rtype.strip_prefix("TYPE").is_some_and(|n| n.parse::<u16>().is_ok())
}

/// The words behind a type.
struct Words<'a> {
    rtype: RecordType,
    tokens: &'a [Token],
    origin: &'a DnsName,
}

impl Words<'_> {
    fn exactly<const N: usize>(&self, wanted: &'static str) -> Result<&[Token; N], Fault> {
        let count = self.tokens.len();
        let rtype = self.rtype.to_string();
        self.tokens.try_into().map_err(|_| Fault::Count { rtype, wanted, count, fits: N })
    }

    fn nothing(&self, wanted: &'static str) -> Fault {
        Fault::Nothing { rtype: self.rtype.to_string(), wanted }
    }

    fn unfit(&self, wanted: &'static str, found: &str) -> Fault {
        Fault::Value { rtype: self.rtype.to_string(), wanted, found: found.to_owned() }
    }

    fn only(&self) -> Result<&Token, Fault> {
        self.exactly::<1>("one value").map(|[token]| token)
    }

    fn only_name(&self) -> Result<DnsName, Fault> {
        name(&self.only()?.raw, self.origin)
    }

    fn read<T: std::str::FromStr>(&self, token: &Token, wanted: &'static str) -> Result<T, Fault> {
        token.raw.parse().map_err(|_| self.unfit(wanted, &token.raw))
    }

    fn time(&self, token: &Token) -> Result<u32, Fault> {
        seconds(&token.raw).ok_or_else(|| self.unfit("a time in seconds", &token.raw))
    }

    fn mail(&self) -> Result<RecordData, Fault> {
        let [preference, exchange] = self.exactly("a preference and a host")?;
        let preference = self.read(preference, "a preference from 0 to 65535")?;
        Ok(RecordData::Mx { preference, exchange: name(&exchange.raw, self.origin)? })
    }

    fn caa(&self) -> Result<RecordData, Fault> {
        let [flags, tag, value] = self.exactly("flags, a tag and a value")?;
        let flags = self.read(flags, "flags from 0 to 255")?;
        Ok(RecordData::Caa {
            flags,
            tag: tag.raw.to_ascii_lowercase().as_str().into(),
            value: value.octets().into(),
        })
    }

    fn signer(&self) -> Result<RecordData, Fault> {
        let wanted = "a key tag, an algorithm, a digest type and a digest";
        let tag = self.tokens.first().ok_or_else(|| self.nothing(wanted))?;
        self.read(tag, "a key tag").map(RecordData::Ds)
    }

    fn text(&self) -> Result<RecordData, Fault> {
        if self.tokens.is_empty() {
            return Err(self.nothing("a text behind it"));
        }
        if let Some(long) = self.tokens.iter().map(|t| t.octets().len()).find(|length| *length > 255) {
            return Err(Fault::LongString(long));
        }

        let joined: Vec<u8> = self.tokens.iter().flat_map(Token::octets).collect();
        Ok(RecordData::Txt(joined.into()))
    }

    fn soa(&self) -> Result<RecordData, Fault> {
        let [primary, contact, serial, refresh, retry, expire, minimum] =
            self.exactly("a server, a mailbox, a serial and four times")?;

        Ok(RecordData::Soa(Box::new(Soa {
            primary: name(&primary.raw, self.origin)?,
            contact: name(&contact.raw, self.origin)?,
            serial: self.read(serial, "a serial")?,
            refresh: self.time(refresh)?,
            retry: self.time(retry)?,
            expire: self.time(expire)?,
            minimum: self.time(minimum)?,
        })))
    }

    /// Priority, target and, of the parameters, the address hints (RFC 9460,
    /// section 2.1).
    fn https(&self) -> Result<RecordData, Fault> {
        let [priority, target, params @ ..] = self.tokens else {
            return Err(self.nothing("a priority and a target"));
        };

        let mut hints: Vec<IpAddr> = Vec::new();
        for param in params {
            let Some((key, list)) = param.raw.split_once('=') else { continue };
            if !matches!(key, "ipv4hint" | "ipv6hint") {
                continue;
            }
            for hint in list.trim_matches('"').split(',') {
                hints.push(hint.parse().map_err(|_| Fault::Value {
                    rtype: key.to_owned(),
                    wanted: "addresses",
                    found: hint.to_owned(),
                })?);
            }
        }

        let target = name(&target.raw, self.origin)?;
        Ok(RecordData::Https { priority: self.read(priority, "a priority")?, target, hints })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(rtype: &str, text: &str) -> Result<RecordData, Fault> {
        let lines: Vec<_> = Lines::new(text).collect::<Result<_, _>>().map_err(|e| e.fault)?;
        let tokens: Vec<_> = lines.into_iter().flat_map(|l| l.tokens).collect();
        data(rtype, &tokens, &"onswick.example".into())
    }

    #[test]
    fn times_are_plain_seconds_or_have_units() {
        for (text, want) in [
            ("0", Some(0)),
            ("300", Some(300)),
            ("1h", Some(3600)),
            ("1h30m", Some(5400)),
            ("2W1D", Some(1_296_000)),
            ("1m5", Some(65)),
            ("", None),
            ("h", None),
            ("1x", None),
            ("-1", None),
            ("99999999999", None),
        ] {
            assert_eq!(seconds(text), want, "{text:?}");
        }
    }

    #[test]
    fn names_are_completed_by_the_origin_unless_they_end_in_a_dot() {
        let origin = &DnsName::new("onswick.example");
        for (written, want) in [
            ("@", Ok("onswick.example")),
            ("WWW", Ok("www.onswick.example")),
            ("a.b", Ok("a.b.onswick.example")),
            ("Other.Example.", Ok("other.example")),
            (".", Ok("")),
            ("*", Ok("*.onswick.example")),
            ("a..b", Err("two dots")),
            (".a", Err("two dots")),
        ] {
            match (name(written, origin), want) {
                (Ok(read), Ok(want)) => assert_eq!(read, want),
                (Err(told), Err(want)) => assert!(told.to_string().contains(want), "{told}"),
                (read, want) => panic!("{written}: {read:?}, wanted {want:?}"),
            }
        }
        assert!(name(&"a".repeat(64), origin).expect_err("long").to_string().contains("63"));
        assert!(name(&"a.".repeat(130), origin).expect_err("long").to_string().contains("253"));
        assert_eq!(name("a", &DnsName::root()).expect("read"), "a", "under the root");
    }

    #[test]
    fn each_type_is_read_into_what_a_server_would_send() {
        let name = |text: &str| DnsName::new(format!("{text}.onswick.example"));
        for (rtype, text, want) in [
            ("A", "192.0.2.7", RecordData::A([192, 0, 2, 7].into())),
            ("AAAA", "2001:DB8::0:7", RecordData::Aaaa("2001:db8::7".parse().expect("address"))),
            ("CNAME", "edge.quaymark.example.", RecordData::Cname("edge.quaymark.example".into())),
            ("NS", "ns1", RecordData::Ns(name("ns1"))),
            ("MX", "10 mx", RecordData::Mx { preference: 10, exchange: name("mx") }),
            ("TXT", "\"a b\" c", RecordData::Txt("a bc".into())),
            ("TXT", "\"\"", RecordData::Txt("".into())),
            (
                "CAA",
                "128 ISSUE \"ca.example; x=1\"",
                RecordData::Caa { flags: 128, tag: "issue".into(), value: "ca.example; x=1".into() },
            ),
            (
                "HTTPS",
                "1 . alpn=h2 ipv4hint=192.0.2.7,192.0.2.8 ipv6hint=2001:db8::7",
                RecordData::Https {
                    priority: 1,
                    target: DnsName::root(),
                    hints: ["192.0.2.7", "192.0.2.8", "2001:db8::7"]
                        .map(|a| a.parse().expect("address"))
                        .into(),
                },
            ),
            ("DS", "4711 13 2 00ff", RecordData::Ds(4711)),
            ("SRV", "1 2 3 x", RecordData::Other("SRV".into())),
            ("TYPE65280", "\\# 1 00", RecordData::Other("TYPE65280".into())),
        ] {
            assert_eq!(read(rtype, text), Ok(want), "{rtype} {text}");
        }
    }

    #[test]
    fn what_does_not_fit_its_type_is_named() {
        for (rtype, text, want) in [
            ("A", "2001:db8::7", "an IPv4 address, and has 2001:db8::7"),
            ("A", "192.0.2.7 192.0.2.8", "2 values stand behind it, where 1 belong"),
            ("AAAA", "192.0.2.7", "an IPv6 address"),
            ("MX", "ten mx", "a preference from 0 to 65535, and has ten"),
            ("CAA", "0 issue", "flags, a tag and a value"),
            ("SOA", "a b 1 2 3 4 never", "a time in seconds, and has never"),
            ("HTTPS", "1", "a priority and a target"),
            ("HTTPS", "1 . ipv4hint=x", "ipv4hint wants addresses"),
            ("TXT", "", "wants a text"),
            ("TYPE99999", "x", "is not a record type"),
        ] {
            let told = read(rtype, text).expect_err(text);
            assert!(told.to_string().contains(want), "{rtype} {text}: {told}");
        }
    }
}
