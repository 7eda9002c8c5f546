//! Reading master files (RFC 1035, section 5), with the place of every record
//! kept, so that a file can be amended without touching anything else in it.

mod lines;
mod values;

use std::ops::{Range, RangeInclusive};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::names;
use crate::reading::{Record, RecordData};

use lines::{Lines, Logical};
pub use values::value;
use values::{data, name, seconds};

/// TTL where a file states none and has no SOA to take it from, in seconds.
const DEFAULT_TTL: u32 = 3600;

/// Why a file cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error, Serialize, Deserialize)]
#[error("Line {line}: {reason}")]
pub struct ZoneError {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong there, and what to do.
    pub reason: String,
}

/// A master file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ZoneFile {
    /// The zone's apex: the owner of the SOA, else the origin it was read with.
    pub zone: String,
    /// Its records, in order.
    pub entries: Vec<Entry>,
    text: String,
}

/// One record and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The record. A type that is not judged has its name alone.
    pub record: Record,
    /// Its lines, counted from 1.
    pub lines: RangeInclusive<usize>,
    /// Octets of those lines, their line ends included.
    span: Range<usize>,
    /// Octets of the value.
    value: Range<usize>,
    /// Where TTL, class or type begin.
    head: usize,
    states_owner: bool,
    states_ttl: bool,
    /// Whether a `$TTL` is in force for it.
    has_default: bool,
}

impl ZoneFile {
    /// Reads `text`, relative to `origin` until an `$ORIGIN` says otherwise.
    ///
    /// # Errors
    /// [`ZoneError`] with the first line that cannot be read.
    pub fn parse(text: &str, origin: &str) -> Result<Self, ZoneError> {
        let mut reader = Reader {
            origin: origin.to_owned(),
            owner: None,
            default_ttl: None,
            last_ttl: None,
            soa_minimum: None,
            entries: Vec::new(),
        };
        for line in Lines::new(text) {
            reader.take(&line?)?;
        }
        let soa = reader.entries.iter().find(|e| matches!(e.record.data, RecordData::Soa(_)));
        let zone = soa.map_or_else(|| origin.to_owned(), |e| e.record.owner.clone());
        let outside = reader.entries.iter().find(|e| !names::is_within(&e.record.owner, &zone));
        if let Some(entry) = outside {
            let reason = format!(
                "{} lies outside of the zone {zone}. Check the name and the $ORIGIN above it.",
                entry.record.owner
            );
            return Err(ZoneError { line: *entry.lines.start(), reason });
        }
        Ok(Self { zone, entries: reader.entries, text: text.to_owned() })
    }

    /// The records alone.
    pub fn records(&self) -> impl Iterator<Item = &Record> {
        self.entries.iter().map(|e| &e.record)
    }

    /// The text with some records taken out, some values replaced, and lines
    /// added at the end. `fate` tells for the index of each record; `added`
    /// are whole lines with absolute names.
    pub fn amended(&self, fate: impl Fn(usize) -> Fate, added: &[String]) -> String {
        let mut text = String::with_capacity(self.text.len() + 200);
        let (mut at, mut owner, mut last_ttl, mut soa_minimum) = (0, None, None, None);
        for (index, entry) in self.entries.iter().enumerate() {
            text.push_str(&self.text[at..entry.span.start]);
            at = entry.span.end;
            let fate = fate(index);
            if fate == Fate::Gone {
                continue;
            }
            let record = &entry.record;
            // What a record took from the one before it must be said once that
            // one is gone.
            let names_owner = entry.states_owner || owner == Some(&record.owner);
            if let RecordData::Soa(soa) = &record.data {
                soa_minimum.get_or_insert(soa.minimum);
            }
            let inherited = last_ttl.or(soa_minimum).unwrap_or(DEFAULT_TTL);
            let names_ttl = entry.states_ttl || entry.has_default || inherited == record.ttl;
            let head = &self.text[entry.span.start..entry.head];
            match names_owner {
                true => text.push_str(head),
                false => text.push_str(&format!("{}. ", record.owner)),
            }
            if !names_ttl {
                // A quoted word may follow the owner without a space.
                let space =
                    if !head.is_empty() && !head.ends_with([' ', '\t', '\r', '\n']) { " " } else { "" };
                text.push_str(&format!("{space}{} ", record.ttl));
            }
            text.push_str(&self.text[entry.head..entry.value.start]);
            match fate {
                Fate::Becomes(value) => text.push_str(&value),
                _ => text.push_str(&self.text[entry.value.clone()]),
            }
            text.push_str(&self.text[entry.value.end..entry.span.end]);
            owner = Some(&record.owner);
            if entry.states_ttl || !names_ttl {
                last_ttl = Some(record.ttl);
            }
        }
        text.push_str(&self.text[at..]);
        if !added.is_empty() && !text.is_empty() && !text.ends_with('\n') {
            text.push('\n');
        }
        added.iter().for_each(|line| text.extend([line, "\n"]));
        text
    }
}

/// What becomes of a record when a file is amended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It stays as it is.
    Stays,
    /// It goes, with its lines.
    Gone,
    /// It gets another value, as a master file writes it.
    Becomes(String),
}

/// What is in force while a file is read.
struct Reader {
    origin: String,
    owner: Option<String>,
    default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    soa_minimum: Option<u32>,
    entries: Vec<Entry>,
}

impl Reader {
    fn take(&mut self, line: &Logical) -> Result<(), ZoneError> {
        let wrong = |reason| ZoneError { line: *line.lines.start(), reason };
        let first = &line.tokens[0];
        if first.raw.starts_with('$') && !first.quoted && !line.indented {
            return self.direct(line).map_err(wrong);
        }
        let entry = self.record(line).map_err(wrong)?;
        self.entries.push(entry);
        Ok(())
    }

    fn direct(&mut self, line: &Logical) -> Result<(), String> {
        let word = line.tokens[0].raw.to_ascii_uppercase();
        let given = line.tokens.get(1).map(|t| t.raw.as_str());
        match (word.as_str(), given) {
            ("$ORIGIN", Some(origin)) => self.origin = name(origin, &self.origin)?,
            ("$TTL", Some(text)) => {
                let ttl = seconds(text)
                    .ok_or_else(|| format!("{text} is not a time. Write seconds, such as 3600."))?;
                self.default_ttl = Some(ttl);
            }
            ("$ORIGIN" | "$TTL", None) => return Err(format!("{word} has no value behind it.")),
            ("$INCLUDE", _) => {
                return Err(
                    "$INCLUDE leads to another file, which is not read. Put its lines here instead.".into()
                );
            }
            _ => return Err(format!("{word} is not known. Write out the records that it stands for.")),
        }
        Ok(())
    }

    fn record(&mut self, line: &Logical) -> Result<Entry, String> {
        let states_owner = !line.indented;
        if states_owner && line.tokens[0].quoted {
            return Err("The line begins with quotation marks. A name stands without them.".into());
        }
        let owner = match (states_owner, &self.owner) {
            (true, _) => name(&line.tokens[0].raw, &self.origin)?,
            (false, Some(owner)) => owner.clone(),
            (false, None) => {
                return Err(
                    "The first record has no name before it. Start the line with one, or with @.".into()
                );
            }
        };
        let mut rest = &line.tokens[usize::from(states_owner)..];
        let head = rest.first().map(|t| t.span.start);
        let mut ttl = None;
        // TTL and class come in either order (RFC 1035, section 5.1).
        while let Some(token) = rest.first() {
            match (seconds(&token.raw), token.raw.to_ascii_uppercase().as_str()) {
                (Some(stated), _) if ttl.is_none() => ttl = Some(stated),
                (_, "IN") => {}
                (_, class @ ("CH" | "CS" | "HS")) => {
                    return Err(format!("The class {class} is not of the Internet. Only IN is read."));
                }
                _ => break,
            }
            rest = &rest[1..];
        }
        let (Some(rtype), Some(head)) = (rest.first(), head) else {
            return Err(format!("{owner} has no type and no value behind it."));
        };
        let word = rtype.raw.to_ascii_uppercase();
        let data = data(&word, &rest[1..], &self.origin)?;
        if let RecordData::Soa(soa) = &data {
            self.soa_minimum.get_or_insert(soa.minimum);
        }
        let effective =
            ttl.or(self.default_ttl).or(self.last_ttl).or(self.soa_minimum).unwrap_or(DEFAULT_TTL);
        self.last_ttl = ttl.or(self.last_ttl);
        self.owner = Some(owner.clone());
        let from = rest.get(1).map_or(rtype.span.end, |t| t.span.start);
        let to = rest.last().map_or(rtype.span.end, |t| t.span.end);
        Ok(Entry {
            record: Record { owner, ttl: effective, data },
            lines: line.lines.clone(),
            span: line.span.clone(),
            value: from..to.max(from),
            head,
            states_owner,
            states_ttl: ttl.is_some(),
            has_default: self.default_ttl.is_some(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str) -> Vec<String> {
        let file = ZoneFile::parse(text, "onswick.example").expect("reads");
        file.records().map(|r| format!("{} {} {} {}", r.owner, r.ttl, r.data.type_name(), r.data)).collect()
    }

    #[test]
    fn what_a_line_leaves_out_comes_from_the_lines_before_it() {
        let text = "$TTL 1h\n@ IN SOA ns1 hostmaster ( 7 ; serial\n  1d 2h 1w\n  300 )\n  NS ns1.harrowdns.example.\n\
                    www 60 IN A 192.0.2.7\n\tIN 90 aaaa 2001:DB8:0:0::7\n$ORIGIN sub\nx CNAME @\n";
        assert_eq!(
            shown(text),
            [
                "onswick.example 3600 SOA serial 7, minimum 300",
                "onswick.example 3600 NS ns1.harrowdns.example",
                "www.onswick.example 60 A 192.0.2.7",
                "www.onswick.example 90 AAAA 2001:db8::7",
                "x.sub.onswick.example 3600 CNAME sub.onswick.example",
            ]
        );
    }

    #[test]
    fn texts_keep_quoted_semicolons_and_escapes_and_are_joined() {
        let text = "@ TXT \"v=DKIM1; k=rsa; \" \"p=\\\"x\\\"\\059\"\n@ TXT bare;comment\n";
        assert_eq!(
            shown(text),
            ["onswick.example 3600 TXT \"v=DKIM1; k=rsa; p=\"x\";\"", "onswick.example 3600 TXT \"bare\"",]
        );
    }

    #[test]
    fn without_a_default_the_last_stated_ttl_holds() {
        assert_eq!(shown("a 60 A 192.0.2.7\nb A 192.0.2.8\n")[1], "b.onswick.example 60 A 192.0.2.8");
    }

    #[test]
    fn errors_give_line_and_reason() {
        for (text, line, reason) in [
            ("@ A 192.0.2.7\n@ A 192.0.2\n", 2, "an IPv4 address, and has 192.0.2"),
            ("@ SOA a b (\n1 2 3 4\n", 1, "not closed"),
            ("@ A 192.0.2.7 )", 1, "no opening one"),
            ("\n\n@ TXT \"open\n", 3, "quotation mark"),
            ("@ MX mx.onswick.example.", 1, "2 belong"),
            ("@ ALIAS edge.quaymark.example.", 1, "ALIAS is not a record type"),
            ("$INCLUDE other.zone", 1, "another file"),
            ("$GENERATE 1-9 h$ A 192.0.2.$", 1, "Write out the records"),
            ("  A 192.0.2.7", 1, "no name before it"),
            ("a..b A 192.0.2.7", 1, "two dots"),
            ("@ CH A 192.0.2.7", 1, "Only IN"),
            ("www.other.test. A 192.0.2.7", 1, "outside of the zone onswick.example"),
            ("@", 1, "no type"),
            ("\"www\" A 192.0.2.7", 1, "A name stands without them"),
        ] {
            let error = ZoneFile::parse(text, "onswick.example").expect_err(text);
            assert_eq!(error.line, line, "{text}");
            assert!(error.reason.contains(reason), "{text}: {error}");
        }
        let long = format!("@ TXT \"{}\"", "x".repeat(256));
        assert!(ZoneFile::parse(&long, "a.example").expect_err("long").reason.contains("Split it"));
    }

    #[test]
    fn types_that_are_not_judged_are_taken_as_they_are() {
        let text = "_sip._tcp SRV 1 2 5060 sip\n@ TYPE731 \\# 1 00\n@ CAA \\# 2 0000\n";
        let file = ZoneFile::parse(text, "onswick.example").expect("reads");
        let kinds: Vec<_> = file.records().map(|r| r.data.type_name()).collect();
        assert_eq!(kinds, ["SRV", "TYPE731", "CAA"]);
    }

    #[test]
    fn amending_leaves_every_other_record_and_octet_alone() {
        let text = "; head\nwww 60 A 192.0.2.7 ; old\n    A 192.0.2.8\n    TXT \"a\" ( \"b\"\n \"c\" )\nx MX 1 mx ; keep\n";
        let file = ZoneFile::parse(text, "onswick.example").expect("reads");
        assert_eq!(file.amended(|_| Fate::Stays, &[]), text);
        let amended = file.amended(
            |index| match index {
                0 => Fate::Gone,
                3 => Fate::Becomes("2 mx2.onswick.example.".into()),
                _ => Fate::Stays,
            },
            &["y.onswick.example. 60 IN A 192.0.2.9".into()],
        );
        assert_eq!(
            amended,
            "; head\nwww.onswick.example. 60 A 192.0.2.8\n    TXT \"a\" ( \"b\"\n \"c\" )\nx MX 2 mx2.onswick.example. ; keep\n\
             y.onswick.example. 60 IN A 192.0.2.9\n"
        );
    }

    #[test]
    fn a_ttl_that_went_with_its_record_is_said_where_it_still_holds() {
        let text = "a 60 A 192.0.2.7\nb 90 A 192.0.2.8\nc A 192.0.2.9\n";
        let file = ZoneFile::parse(text, "onswick.example").expect("reads");
        let amended = file.amended(|index| if index == 1 { Fate::Gone } else { Fate::Stays }, &[]);
        assert_eq!(amended, "a 60 A 192.0.2.7\nc 90 A 192.0.2.9\n");
        let file = ZoneFile::parse("a 90 A 192.0.2.8\nc\"A\" 192.0.2.9\n", "onswick.example").expect("reads");
        let amended = file.amended(|index| if index == 0 { Fate::Gone } else { Fate::Stays }, &[]);
        assert_eq!(amended, "c 90 \"A\" 192.0.2.9\n");
    }

    #[test]
    fn values_of_edits_are_read_as_they_are_shown() {
        for (rtype, text, want) in [
            ("A", "192.0.2.7", RecordData::A([192, 0, 2, 7].into())),
            ("CNAME", "edge.quaymark.example", RecordData::Cname("edge.quaymark.example".into())),
            ("TXT", "token=a b", RecordData::Txt("token=a b".into())),
            ("TXT", "\"token=a b\"", RecordData::Txt("token=a b".into())),
            ("MX", "10 mx.example", RecordData::Mx { preference: 10, exchange: "mx.example".into() }),
        ] {
            assert_eq!(value(rtype, text), Ok(want));
        }
        assert!(value("A", "x").is_err());
    }
}
