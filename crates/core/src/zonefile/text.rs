//! Records as master files write them (RFC 1035, section 5).

use std::fmt::Write as _;
use std::net::IpAddr;

use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData};

/// A name as a file has it, absolute.
pub(super) fn absolute(name: &DnsName) -> String {
    escaped(name) + "."
}

/// A name, or what of it stands before its zone; what would end it in a file is
/// escaped.
fn escaped(name: &str) -> String {
    let mut text = String::with_capacity(name.len() + 1);
    for c in name.chars() {
        match c {
            '"' | ';' | '(' | ')' | '@' | '$' => text.push_str(&format!("\\{:03}", u32::from(c))),
            c => text.push(c),
        }
    }
    text
}

/// Records of one zone, after an `$ORIGIN` line.
pub fn lines(zone: &str, records: &[Record]) -> String {
    let mut text = format!("$ORIGIN {zone}.\n");
    for record in records {
        text.push_str(&line(zone, record));
        text.push('\n');
    }
    text
}

/// One record as one line, its owner relative to `zone`; relative to the root
/// it is absolute.
pub fn line(zone: &str, record: &Record) -> String {
    let owner = if zone.is_empty() || !record.owner.is_within(zone) {
        absolute(&record.owner)
    } else if record.owner == zone {
        "@".to_owned()
    } else {
        escaped(&record.owner.relative_to(zone))
    };

    format!("{owner} {} IN {} {}", record.ttl, record.data.type_name(), value(&record.data))
}

/// The value alone, names absolute.
pub fn value(data: &RecordData) -> String {
    match data {
        RecordData::Cname(name) | RecordData::Dname(name) | RecordData::Ns(name) => absolute(name),
        RecordData::Mx { preference, exchange } => format!("{preference} {}", absolute(exchange)),
        RecordData::Txt(text) => text_strings(text.as_bytes()),
        RecordData::Caa { flags, tag, value } => format!("{flags} {tag} {}", quoted(value.as_bytes())),
        RecordData::Soa(soa) => format!(
            "{} {} {} {} {} {} {}",
            absolute(&soa.primary),
            absolute(&soa.contact),
            soa.serial,
            soa.refresh,
            soa.retry,
            soa.expire,
            soa.minimum
        ),
        RecordData::Https { priority, target, hints } => binding(*priority, target, hints),
        other => other.to_string(),
    }
}

/// A service binding with its hints, one parameter for each family (RFC 9460,
/// section 2.1).
fn binding(priority: u16, target: &DnsName, hints: &[IpAddr]) -> String {
    let mut text = format!("{priority} {}", absolute(target));

    for (key, is_v4) in [("ipv4hint", true), ("ipv6hint", false)] {
        let list = hints.iter().filter(|hint| hint.is_ipv4() == is_v4);
        let list: Vec<_> = list.map(ToString::to_string).collect();
        if !list.is_empty() {
            // Writing to a string cannot fail.
            let _ = write!(text, " {key}={}", list.join(","));
        }
    }
    text
}

/// One string of at most 255 octets after another (RFC 1035, section 3.3.14).
fn text_strings(text: &[u8]) -> String {
    let chunks: Vec<String> = text.chunks(255).map(quoted).collect();
    if chunks.is_empty() { "\"\"".into() } else { chunks.join(" ") }
}

/// Quoted, with the escapes of RFC 1035, section 5.1.
fn quoted(bytes: &[u8]) -> String {
    let mut text = String::from("\"");
    for byte in bytes {
        match byte {
            b'"' | b'\\' => {
                text.push('\\');
                text.push(char::from(*byte));
            }
            0x20..=0x7e => text.push(char::from(*byte)),
            // Writing to a string cannot fail.
            other => drop(write!(text, "\\{other:03}")),
        }
    }
    text.push('"');
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_escaped_wherever_they_stand() {
        let odd = DnsName::new("a(b.onswick.example");
        let data = RecordData::Mx { preference: 1, exchange: odd.clone() };
        let record = Record { owner: odd, ttl: 60, data };
        assert_eq!(line("onswick.example", &record), r"a\040b 60 IN MX 1 a\040b.onswick.example.");
        let apex = Record { owner: "onswick.example".into(), ..record };
        assert_eq!(line("onswick.example", &apex), r"@ 60 IN MX 1 a\040b.onswick.example.");
    }

    #[test]
    fn values_are_written_so_that_any_server_reads_them_back() {
        let long = "x".repeat(300);
        let want = format!("\"{}\" \"{}\"", "x".repeat(255), "x".repeat(45));
        for (data, want) in [
            (RecordData::Txt("say \"hi\" \\ ü".into()), "\"say \\\"hi\\\" \\\\ \\195\\188\""),
            (RecordData::Txt(long.into()), want.as_str()),
            (RecordData::Txt("".into()), "\"\""),
            (RecordData::Mx { preference: 10, exchange: "mx.example".into() }, "10 mx.example."),
            (
                RecordData::Https {
                    priority: 1,
                    target: DnsName::root(),
                    hints: vec![[192, 0, 2, 7].into(), "2001:db8::7".parse().expect("address")],
                },
                "1 . ipv4hint=192.0.2.7 ipv6hint=2001:db8::7",
            ),
        ] {
            assert_eq!(value(&data), want);
        }
    }
}
