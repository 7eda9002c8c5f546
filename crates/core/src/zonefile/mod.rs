//! Reading master files (RFC 1035, section 5), with the place of every record
//! kept, so that a file can be amended without touching anything else in it.

mod amend;
mod binding;
mod fault;
mod generic;
mod head;
mod lines;
pub mod text;
mod types;
mod values;

use std::ops::{Range, RangeInclusive};

use thiserror::Error;

use self::head::{Head, head, ttl};
use self::lines::{Lines, Logical, Token};
use self::types::Kind;
use self::values::{data, name};
use crate::name::dns::DnsName;
use crate::name::plain::shown;
use crate::reading::record::{Record, RecordData};

pub use self::amend::{AmendError, Fate};
pub use self::fault::Fault;
pub use self::values::value;

/// TTL where a file states none and has no SOA to take it from, in seconds.
const DEFAULT_TTL: u32 = 3600;

/// Why a file cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("Line {line}: {fault}")]
pub struct ZoneError {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong there, and what to do.
    #[source]
    pub fault: Fault,
}

/// A master file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ZoneFile {
    /// The zone's apex: the owner of the SOA, else the origin it was read with.
    pub zone: DnsName,
    /// Its records, in order.
    pub entries: Vec<Entry>,
    /// What names are relative to before any `$ORIGIN`.
    origin: DnsName,
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
    /// Octets of the value, words and all between them.
    value: Range<usize>,
    /// The words of the value, of a type that is not looked into.
    raw: String,
    /// Where TTL, class or type begin.
    head: usize,
    states_owner: bool,
    states_ttl: bool,
    /// Whether it has parentheses.
    grouped: bool,
    /// Whether a `$TTL`, or the SOA in its place, is in force for it.
    has_default: bool,
}

impl ZoneFile {
    /// Reads `text`, relative to `origin` until an `$ORIGIN` says otherwise.
    ///
    /// ```
    /// use nomenta_core::zonefile::ZoneFile;
    ///
    /// let text = "$TTL 300\n@ SOA ns1 post 7 3600 600 86400 60\nwww A 192.0.2.7\n";
    /// let file = ZoneFile::parse(text, &"onswick.example".into()).unwrap();
    /// assert_eq!(file.entries[1].record.to_string(), "www.onswick.example A 192.0.2.7");
    /// assert_eq!(file.entries[1].lines, 3..=3);
    ///
    /// let error = ZoneFile::parse("www A nowhere\n", &"onswick.example".into()).unwrap_err();
    /// assert_eq!(error.to_string(), "Line 1: A wants an IPv4 address, and has nowhere.");
    /// ```
    ///
    /// # Errors
    /// [`ZoneError`] with the first line that cannot be read.
    pub fn parse(text: &str, origin: &DnsName) -> Result<Self, ZoneError> {
        let mut reader = Reader::new(origin);
        let mut lines = Lines::new(text);
        let mut line = Logical::empty();
        while lines.read(&mut line)? {
            reader.take(&line)?;
        }

        let soa = reader.entries.iter().find(|e| matches!(e.record.data, RecordData::Soa(_)));
        let zone = soa.map_or(origin, |entry| &entry.record.owner).clone();

        let outside = reader.entries.iter().find(|e| !e.record.owner.is_within(&zone));
        if let Some(entry) = outside {
            let owner = entry.record.owner.to_string();
            let fault = Fault::Outside { owner, zone: zone.to_string() };
            return Err(ZoneError { line: *entry.lines.start(), fault });
        }
        Ok(Self { zone, entries: reader.entries, origin: origin.clone(), text: text.to_owned() })
    }

    /// A file as text.
    ///
    /// # Errors
    /// [`ZoneError`] with the first line that is not UTF-8.
    pub fn text_of(octets: Vec<u8>) -> Result<String, ZoneError> {
        String::from_utf8(octets).map_err(|error| {
            let before = &error.as_bytes()[..error.utf8_error().valid_up_to()];
            let line = 1 + before.iter().filter(|octet| **octet == b'\n').count();
            ZoneError { line, fault: Fault::NotUtf8 }
        })
    }

    /// The text that it was read from.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The records alone.
    pub fn records(&self) -> impl Iterator<Item = &Record> {
        self.entries.iter().map(|e| &e.record)
    }
}

/// What is in force while a file is read.
struct Reader {
    origin: DnsName,
    owner: Option<DnsName>,
    default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    entries: Vec<Entry>,
}

impl Reader {
    fn new(origin: &DnsName) -> Self {
        Self { origin: origin.clone(), owner: None, default_ttl: None, last_ttl: None, entries: Vec::new() }
    }

    fn take(&mut self, line: &Logical<'_>) -> Result<(), ZoneError> {
        let first = &line.tokens[0];
        let is_directive = first.raw.starts_with('$') && !first.quoted && !line.indented;

        let taken = if is_directive { self.direct(line) } else { self.record(line) };
        taken.map_err(|fault| ZoneError { line: *line.lines.start(), fault })
    }

    fn direct(&mut self, line: &Logical<'_>) -> Result<(), Fault> {
        let word = line.tokens[0].raw.to_ascii_uppercase();
        match word.as_str() {
            "$ORIGIN" | "$TTL" => {}
            "$INCLUDE" => return Err(Fault::Include),
            _ => return Err(Fault::Directive(shown(&word))),
        }

        let given = match &line.tokens[1..] {
            [given] if given.quoted => return Err(Fault::Quoted(shown(given.raw))),
            [given] => given.raw,
            [] => return Err(Fault::NoValue(word)),
            [_, rest, ..] => return Err(Fault::Superfluous { word, rest: shown(rest.raw) }),
        };
        match word.as_str() {
            "$ORIGIN" => self.origin = name(given, &self.origin)?,
            _ => self.default_ttl = Some(ttl(given).ok_or_else(|| Fault::NoTime(shown(given)))?),
        }
        Ok(())
    }

    fn record(&mut self, line: &Logical<'_>) -> Result<(), Fault> {
        let owner = self.owner_of(line)?;
        let states_owner = !line.indented;
        let words = &line.tokens[usize::from(states_owner)..];

        let Head { ttl, rest } = head(words)?;
        let (Some(first), Some(rtype)) = (words.first(), rest.first()) else {
            return Err(Fault::NoType(owner.to_string()));
        };
        if rtype.quoted {
            return Err(Fault::Quoted(shown(rtype.raw)));
        }
        let kind = Kind::read(rtype.raw)?;
        let data = data(kind, &rest[1..], &self.origin)?;
        // Where nothing states a TTL, that of the SOA is the default (RFC 2308, section 4).
        if let RecordData::Soa(soa) = &data
            && ttl.or(self.last_ttl).is_none()
        {
            self.default_ttl.get_or_insert(soa.minimum);
        }

        let inherited = self.default_ttl.or(self.last_ttl);
        let effective = ttl.or(inherited).unwrap_or(DEFAULT_TTL);
        self.last_ttl = ttl.or(self.last_ttl);
        self.owner = Some(owner.clone());

        let raw = match &data {
            RecordData::Other(_) => rest[1..].iter().map(written).collect::<Vec<_>>().join(" "),
            _ => String::new(),
        };
        let from = rest.get(1).map_or(rtype.span.end, |t| t.span.start);
        let to = rest.last().map_or(rtype.span.end, |t| t.span.end);
        self.entries.push(Entry {
            record: Record { owner, ttl: effective, data },
            lines: line.lines.clone(),
            span: line.span.clone(),
            value: from..to.max(from),
            raw,
            head: first.span.start,
            states_owner,
            states_ttl: ttl.is_some(),
            grouped: line.grouped,
            has_default: self.default_ttl.is_some(),
        });
        Ok(())
    }

    /// The owner that a line states, or that of the record before it.
    fn owner_of(&self, line: &Logical<'_>) -> Result<DnsName, Fault> {
        if line.indented {
            return self.owner.clone().ok_or(Fault::NoOwner);
        }
        if line.tokens[0].quoted {
            return Err(Fault::QuotedOwner);
        }
        name(line.tokens[0].raw, &self.origin)
    }
}

/// A word with the quotation marks that it had.
fn written(token: &Token<'_>) -> String {
    if token.quoted { format!("\"{}\"", token.raw) } else { token.raw.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Read relative to a zone.
    fn parse(text: &str, origin: &str) -> Result<ZoneFile, ZoneError> {
        ZoneFile::parse(text, &origin.into())
    }

    fn shown(text: &str) -> Vec<String> {
        let file = parse(text, "onswick.example").expect("reads");
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
            [
                "onswick.example 3600 TXT \"v=DKIM1; k=rsa; p=\\\"x\\\";\"",
                "onswick.example 3600 TXT \"bare\"",
            ]
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
            ("@ NS \"\"", 1, "wants a name"),
            ("@ CH A 192.0.2.7", 1, "Only IN"),
            ("www.other.test. A 192.0.2.7", 1, "outside of the zone onswick.example"),
            ("@", 1, "no type"),
            ("\"www\" A 192.0.2.7", 1, "A name stands without them"),
            ("www \"A\" 192.0.2.7", 1, "which only texts have"),
            ("www IN IN A 192.0.2.7", 1, "IN is not a record type"),
            ("www CNAME \"x\"", 1, "in quotation marks"),
            ("www 1m5 A 192.0.2.7", 1, "1m5 is not a time"),
            ("$TTL 300 400", 1, "more behind it than its value: 400"),
            ("$ORIGIN a. b", 1, "more behind it"),
            ("www TXT \"\\999\"", 1, "\\999 is no escape"),
            ("www A \\# 3 c00002", 1, "A has a value that does not fit it"),
            ("www TYPE65280 00", 1, "TYPE65280 has a value"),
            ("fähre A 192.0.2.7", 1, "A zone file has it as xn--fhre-loa."),
            ("www\u{a0}A 192.0.2.7", 1, "Put a space or a letter in its place"),
        ] {
            let error = parse(text, "onswick.example").expect_err(text);
            assert_eq!(error.line, line, "{text}");
            assert!(error.fault.to_string().contains(reason), "{text}: {error}");
        }
        let long = format!("@ TXT \"{}\"", "x".repeat(256));
        assert!(parse(&long, "a.example").expect_err("long").fault.to_string().contains("Split it"));
    }

    #[test]
    fn types_that_are_not_judged_are_taken_as_they_are() {
        let text = "_sip._tcp SRV 1 2 5060 sip\n@ TYPE731 \\# 1 00\n@ CAA \\# 8 0005697373756561\n";
        let file = parse(text, "onswick.example").expect("reads");
        let kinds: Vec<_> = file.records().map(|r| r.data.type_name()).collect();
        assert_eq!(kinds, ["SRV", "TYPE731", "CAA"]);
    }

    fn amended(text: &str, fates: &[(usize, Fate)], added: &[Record]) -> String {
        let file = parse(text, "onswick.example").expect("reads");
        let fate =
            |index| fates.iter().find(|(of, _)| *of == index).map_or(Fate::Stays, |(_, fate)| fate.clone());
        let amended = file.amended(fate, added, "New").unwrap_or_else(|error| panic!("{text}: {error}"));
        amended.text().to_owned()
    }

    #[test]
    fn what_goes_over_several_lines_is_said_anew_where_it_must_be() {
        let text = "www A 192.0.2.1\n  ( A\n 192.0.2.2 )\nx SRV ( 1 2 ; port\n 3 mx )\n";
        assert_eq!(
            amended(text, &[(0, Fate::Gone)], &[]),
            "www.onswick.example. 3600 IN A 192.0.2.2\nx SRV ( 1 2 ; port\n 3 mx )\n"
        );
        let text = "www A 192.0.2.1\n SRV ( 1 2 ; port\n 3 mx )\n";
        assert_eq!(amended(text, &[(0, Fate::Gone)], &[]), "www.onswick.example. 3600 IN SRV 1 2 3 mx\n");

        let text = "www TXT ( \"old\"\n ) \"x\"\nv TXT ( \"a\" )\n";
        let new = Fate::Becomes(RecordData::Txt("new".into()));
        assert_eq!(
            amended(text, &[(0, new)], &[]),
            "www.onswick.example. 3600 IN TXT \"new\"\nv TXT ( \"a\" )\n"
        );
        assert_eq!(amended(text, &[(0, Fate::Gone)], &[]), "v TXT ( \"a\" )\n");
    }

    #[test]
    fn an_owner_that_is_said_anew_is_escaped() {
        let text = "a\\(b A 192.0.2.1\n ( A 192.0.2.2 )\n A 192.0.2.3\n";
        let want = r"a\040b.onswick.example. 3600 IN A 192.0.2.2";
        assert!(amended(text, &[(0, Fate::Gone)], &[]).starts_with(want));
    }

    #[test]
    fn amending_leaves_every_other_record_and_octet_alone() {
        let text = "; head\nwww 60 A 192.0.2.7 ; old\n    A 192.0.2.8\n    TXT \"a\" ( \"b\"\n \"c\" )\nx MX 1 mx ; keep";
        assert_eq!(amended(text, &[], &[]), text);
        let exchange = "mx2.onswick.example".into();
        let fates = [(0, Fate::Gone), (3, Fate::Becomes(RecordData::Mx { preference: 2, exchange }))];
        let data = RecordData::A([192, 0, 2, 9].into());
        let added = Record { owner: "y.onswick.example".into(), ttl: 60, data };
        assert_eq!(
            amended(text, &fates, &[added]),
            "; head\nwww.onswick.example. 60 A 192.0.2.8\n    TXT \"a\" ( \"b\"\n \"c\" )\nx MX 2 mx2.onswick.example. ; keep\n\
             ; New\ny.onswick.example. 60 IN A 192.0.2.9\n"
        );
    }

    #[test]
    fn a_ttl_that_went_with_its_record_is_said_where_it_still_holds() {
        let text = "a 60 A 192.0.2.7\nb 90 A 192.0.2.8\nc A 192.0.2.9\n";
        assert_eq!(amended(text, &[(1, Fate::Gone)], &[]), "a 60 A 192.0.2.7\nc 90 A 192.0.2.9\n");
        let text = "a 90 A 192.0.2.8\nc IN A(192.0.2.9)\n";
        assert_eq!(amended(text, &[(0, Fate::Gone)], &[]), "c.onswick.example. 90 IN A 192.0.2.9\n");
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

    #[test]
    fn a_vertical_tab_parts_no_words_and_is_named() {
        let error = parse("www\u{b}A 192.0.2.7\n", "onswick.example").expect_err("glued");
        assert_eq!(error.line, 1);
        assert!(error.to_string().contains("has a control character in it"), "{error}");
        assert!(error.to_string().contains("www\\u{b}A"), "shown harmless: {error}");
    }
}
