//! Names, times and values as master files write them.

use std::str::FromStr;

use data_encoding::HEXLOWER_PERMISSIVE;

use super::fault::Fault;
use super::generic;
use super::lines::{Lines, Logical, Token};
use super::types::Kind;
use crate::name::dns::{DnsName, LONGEST_LABEL, LONGEST_NAME};
use crate::name::international;
use crate::name::plain::shown;
use crate::reading::octets::{self, Octets};
use crate::reading::record::{RecordData, RecordType, Soa};

/// Octets that one string of a TXT record may have (RFC 1035, section 3.3).
const LONGEST_STRING: usize = 255;
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

    let mut line = Logical::empty();
    Lines::new(text).read(&mut line).map_err(|error| error.fault)?;
    data(Kind::read(rtype)?, &line.tokens, &DnsName::root())
}

/// A name, made absolute.
pub(super) fn name(written: &str, origin: &DnsName) -> Result<DnsName, Fault> {
    if let Some(plain) = DnsName::of_plain(written, origin) {
        return Ok(plain);
    }

    // Only spaces and tabs part words (RFC 1035, section 5.1).
    if written.chars().any(char::is_control) {
        return Err(Fault::Control(shown(written)));
    }
    if !written.is_ascii() {
        let dns = international::to_ascii(written).ok().filter(|dns| !dns.contains(char::is_whitespace));
        return Err(match dns {
            Some(dns) => Fault::OwnScript { written: shown(written), dns },
            None => Fault::NotAscii(shown(written)),
        });
    }

    match written {
        "" => return Err(Fault::EmptyLabel(String::new())),
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
        Some(label) if label.is_empty() => return Err(Fault::EmptyLabel(shown(written))),
        Some(_) => return Err(Fault::LongLabel(shown(written))),
        None => {}
    }

    // Each label takes the dot after it, which the last one has not.
    let length = labels.iter().map(|label| label.len() + 1).sum::<usize>() - 1;
    let own = DnsName::from_labels(labels.iter().map(Vec::as_slice));
    let is_whole = is_absolute || origin.is_root();
    let length = if is_whole { length } else { length + 1 + origin.octets() };
    if length > LONGEST_NAME {
        return Err(Fault::LongName(shown(written)));
    }
    Ok(if is_whole { own } else { origin.child(&own) })
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
        // Either every number has its unit, or the only one has none.
        Some(number) => text.bytes().all(|byte| byte.is_ascii_digit()).then_some(number),
        None => (!text.is_empty()).then_some(total),
    }
}

/// A value of a type; what is not judged is not looked into.
pub(super) fn data(kind: Kind, tokens: &[Token<'_>], origin: &DnsName) -> Result<RecordData, Fault> {
    if let [mark, value @ ..] = tokens
        && mark.is(generic::MARK)
    {
        return generic::data(kind, value);
    }

    let known = match kind {
        Kind::Known(known) => known,
        Kind::Dname => return dname(tokens, origin),
        Kind::Other(_) if !tokens.is_empty() => return Ok(RecordData::Other(kind.name())),
        Kind::Other(_) => return Err(Fault::Nothing { rtype: kind.name(), wanted: "a value behind it" }),
        // There is no other form for what has no name (RFC 3597, section 5).
        Kind::Unnamed(_) => return Err(Fault::Generic(kind.name())),
    };

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
        RecordType::Dnskey => Ok(RecordData::Other(known.to_string())),
    }
}

fn dname(tokens: &[Token<'_>], origin: &DnsName) -> Result<RecordData, Fault> {
    match tokens {
        [target] if !target.quoted => name(target.raw, origin).map(RecordData::Dname),
        _ => Err(Fault::Nothing { rtype: Kind::Dname.name(), wanted: "one name" }),
    }
}

/// The words behind a type.
pub(super) struct Words<'a> {
    rtype: RecordType,
    pub tokens: &'a [Token<'a>],
    origin: &'a DnsName,
}

impl<'a> Words<'a> {
    fn exactly<const N: usize>(&self, wanted: &'static str) -> Result<&'a [Token<'a>; N], Fault> {
        let count = self.tokens.len();
        let rtype = || self.rtype.to_string();
        self.tokens.try_into().map_err(|_| Fault::Count { rtype: rtype(), wanted, count, fits: N })
    }

    pub(super) fn nothing(&self, wanted: &'static str) -> Fault {
        Fault::Nothing { rtype: self.rtype.to_string(), wanted }
    }

    pub(super) fn unfit(&self, wanted: &'static str, found: &str) -> Fault {
        Fault::Value { rtype: self.rtype.to_string(), wanted, found: shown(found) }
    }

    fn only(&self) -> Result<&'a Token<'a>, Fault> {
        self.exactly::<1>("one value").map(|[token]| token)
    }

    fn only_name(&self) -> Result<DnsName, Fault> {
        self.name(self.only()?)
    }

    /// A word without quotation marks, which only strings have.
    fn bare(&self, token: &'a Token<'a>, wanted: &'static str) -> Result<&'a str, Fault> {
        if token.quoted {
            return Err(self.unfit(wanted, &format!("\"{}\" in quotation marks", token.raw)));
        }
        Ok(token.raw)
    }

    pub(super) fn name(&self, token: &'a Token<'a>) -> Result<DnsName, Fault> {
        name(self.bare(token, "a name")?, self.origin)
    }

    fn read<T: FromStr>(&self, token: &'a Token<'a>, wanted: &'static str) -> Result<T, Fault> {
        let word = self.bare(token, wanted)?;
        word.parse().map_err(|_| self.unfit(wanted, word))
    }

    /// A number, which no sign may stand before.
    pub(super) fn number<T: FromStr>(&self, token: &'a Token<'a>, wanted: &'static str) -> Result<T, Fault> {
        if token.raw.starts_with('+') {
            return Err(self.unfit(wanted, token.raw));
        }
        self.read(token, wanted)
    }

    fn time(&self, token: &'a Token<'a>) -> Result<u32, Fault> {
        let wanted = "a time in seconds";
        seconds(self.bare(token, wanted)?).ok_or_else(|| self.unfit(wanted, token.raw))
    }

    fn mail(&self) -> Result<RecordData, Fault> {
        let [preference, exchange] = self.exactly("a preference and a host")?;
        let preference = self.number(preference, "a preference from 0 to 65535")?;
        Ok(RecordData::Mx { preference, exchange: self.name(exchange)? })
    }

    fn caa(&self) -> Result<RecordData, Fault> {
        let [flags, tag, value] = self.exactly("flags, a tag and a value")?;
        let flags = self.number(flags, "flags from 0 to 255")?;

        let wanted = "a tag of letters and digits";
        let tag = self.bare(tag, wanted)?;
        if tag.is_empty() || !tag.bytes().all(|byte| byte.is_ascii_alphanumeric()) {
            return Err(self.unfit(wanted, tag));
        }
        let tag = tag.to_ascii_lowercase().into();
        Ok(RecordData::Caa { flags, tag, value: value.octets().into() })
    }

    /// Of a signer the key's tag counts; the rest must be what it is said to be.
    fn signer(&self) -> Result<RecordData, Fault> {
        let wanted = "a key tag, an algorithm, a digest type and a digest";
        let [tag, algorithm, kind, digest @ ..] = self.tokens else { return Err(self.nothing(wanted)) };
        let tag = self.number(tag, "a key tag")?;
        for word in [algorithm, kind] {
            self.bare(word, wanted)?;
        }

        let digits: String = digest.iter().map(|token| token.raw).collect();
        let length = match kind.raw {
            "1" => Some(20),
            "2" => Some(32),
            "4" => Some(48),
            _ => None,
        };
        let octets = HEXLOWER_PERMISSIVE.decode(digits.as_bytes()).ok();
        let fits = octets.is_some_and(|octets| length.is_none_or(|length| octets.len() == length));
        if fits && !digits.is_empty() {
            Ok(RecordData::Ds(tag))
        } else {
            Err(self.unfit("a digest of its type", &digits))
        }
    }

    fn text(&self) -> Result<RecordData, Fault> {
        if self.tokens.is_empty() {
            return Err(self.nothing("a text behind it"));
        }

        let mut joined = Vec::new();
        for token in self.tokens {
            let before = joined.len();
            joined.extend(token.octets());
            let length = joined.len() - before;
            if length > LONGEST_STRING {
                return Err(Fault::LongString(length));
            }
        }
        Ok(RecordData::Txt(joined.into()))
    }

    fn soa(&self) -> Result<RecordData, Fault> {
        let [primary, contact, serial, refresh, retry, expire, minimum] =
            self.exactly("a server, a mailbox, a serial and four times")?;

        Ok(RecordData::Soa(Box::new(Soa {
            primary: self.name(primary)?,
            contact: self.name(contact)?,
            serial: self.number(serial, "a serial")?,
            refresh: self.time(refresh)?,
            retry: self.time(retry)?,
            expire: self.time(expire)?,
            minimum: self.time(minimum)?,
        })))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(rtype: &str, text: &str) -> Result<RecordData, Fault> {
        let mut line = Logical::empty();
        Lines::new(text).read(&mut line).map_err(|error| error.fault)?;
        data(Kind::read(rtype)?, &line.tokens, &"onswick.example".into())
    }

    #[test]
    fn times_are_plain_seconds_or_have_units() {
        for (text, want) in [
            ("0", Some(0)),
            ("300", Some(300)),
            ("1h", Some(3600)),
            ("1h30m", Some(5400)),
            ("2W1D", Some(1_296_000)),
            ("1m5", None),
            ("4294967295", Some(u32::MAX)),
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
            ("DS", "4711 13 9 00ff", RecordData::Ds(4711)),
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
            ("HTTPS", "1 . ipv4hint=x", "wants addresses of one family as hints, and has x"),
            ("HTTPS", "1 . port=80 port=81", "each once, and has port"),
            ("DS", "4711 13 2 00ff", "a digest of its type"),
            ("TXT", "", "wants a text"),
            ("TYPE99999", "x", "is not a record type"),
        ] {
            let told = read(rtype, text).expect_err(text);
            assert!(told.to_string().contains(want), "{rtype} {text}: {told}");
        }
    }
}
