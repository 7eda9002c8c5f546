//! Amending the text of a file without touching anything else in it.

use thiserror::Error;

use super::head::head;
use super::lines::{Lines, Logical};
use super::{DEFAULT_TTL, Entry, ZoneError, ZoneFile, text, written};
use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData};

/// What becomes of a record when a file is amended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It stays as it is.
    Stays,
    /// It goes, with its lines.
    Gone,
    /// It gets another value.
    Becomes(RecordData),
}

/// Why an amended file is not handed out. It is checked before: it must hold the
/// records of the original, with the edits carried out and nothing else changed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum AmendError {
    /// It cannot be read again.
    #[error(
        "The amended file could not be read again, and is not handed out. Carry out the list by hand. {0}"
    )]
    Unreadable(#[from] ZoneError),
    /// It holds other records than it should.
    #[error(
        "The amended file did not hold what it should at {0}, and is not handed out. Carry out the list by hand."
    )]
    Differs(String),
}

impl ZoneFile {
    /// The file with some records taken out, some values replaced, a comment and
    /// records added at the end. `fate` tells for the index of each record.
    ///
    /// # Errors
    /// [`AmendError`] rather than a file that holds anything else.
    pub fn amended(
        &self,
        fate: impl Fn(usize) -> Fate,
        added: &[Record],
        comment: &str,
    ) -> Result<Self, AmendError> {
        let mut writer = Writer { source: &self.text, ..Writer::default() };
        let mut wanted = Vec::with_capacity(self.entries.len() + added.len());
        for (index, entry) in self.entries.iter().enumerate() {
            let fate = fate(index);
            wanted.extend(Wanted::of(entry, &fate));
            writer.entry(entry, &fate);
        }

        let mut text = writer.finish();
        if !added.is_empty() {
            if !text.is_empty() && !text.ends_with('\n') {
                text.push('\n');
            }
            text.push_str(&format!("; {comment}\n"));
        }
        for record in added {
            text.extend([&text::line("", record), "\n"]);
            wanted.push(Wanted { owner: &record.owner, ttl: record.ttl, data: record.data.clone(), raw: "" });
        }

        let again = Self::parse(&text, &self.origin)?;
        match again.difference(&wanted) {
            None => Ok(again),
            Some(place) => Err(AmendError::Differs(place)),
        }
    }

    /// Where the file holds another record than wanted.
    fn difference(&self, wanted: &[Wanted<'_>]) -> Option<String> {
        let place = |entry: &Entry| format!("line {}", entry.lines.start());
        let differing = self.entries.iter().zip(wanted).find(|(entry, wanted)| !wanted.is(entry));
        match (differing, self.entries.len() == wanted.len()) {
            (Some((entry, _)), _) => Some(place(entry)),
            (None, true) => None,
            (None, false) => Some(self.entries.last().map_or_else(|| "its end".into(), place)),
        }
    }
}

/// A record that the amended file must hold.
struct Wanted<'a> {
    owner: &'a DnsName,
    ttl: u32,
    data: RecordData,
    /// The value as it is written, of a type that is not looked into.
    raw: &'a str,
}

impl<'a> Wanted<'a> {
    fn of(entry: &'a Entry, fate: &Fate) -> Option<Self> {
        let Record { owner, ttl, data } = &entry.record;
        let (data, raw) = match fate {
            Fate::Gone => return None,
            Fate::Stays => (data.clone(), entry.raw.as_str()),
            Fate::Becomes(data) => (data.clone(), ""),
        };
        Some(Self { owner, ttl: *ttl, data, raw })
    }

    fn is(&self, entry: &Entry) -> bool {
        let Record { owner, ttl, data } = &entry.record;
        owner == self.owner && *ttl == self.ttl && *data == self.data && entry.raw == self.raw
    }
}

/// The text that was written so far, and what is in force behind it.
#[derive(Default)]
struct Writer<'a> {
    source: &'a str,
    text: String,
    /// How far the source has been taken over.
    at: usize,
    owner: Option<&'a DnsName>,
    last_ttl: Option<u32>,
}

impl<'a> Writer<'a> {
    fn entry(&mut self, entry: &'a Entry, fate: &Fate) {
        self.text.push_str(&self.source[self.at..entry.span.start]);
        self.at = entry.span.end;
        if *fate == Fate::Gone {
            return;
        }

        let needs_owner = !entry.states_owner && self.owner != Some(&entry.record.owner);
        let needs_ttl = self.needs_ttl(entry);
        let is_anew = entry.grouped && (needs_owner || needs_ttl || matches!(fate, Fate::Becomes(_)));
        match (fate, is_anew) {
            (Fate::Becomes(data), true) => self.anew(entry, &text::value(data)),
            (Fate::Becomes(data), false) => self.in_place(entry, needs_owner, needs_ttl, &text::value(data)),
            (_, true) => self.anew(entry, &self.value_words(entry)),
            (_, false) => self.in_place(entry, needs_owner, needs_ttl, &self.source[entry.value.clone()]),
        }

        self.owner = Some(&entry.record.owner);
        if entry.states_ttl || needs_ttl || is_anew {
            self.last_ttl = Some(entry.record.ttl);
        }
    }

    /// What a record took from the ones before it must be said once they are gone.
    fn needs_ttl(&self, entry: &Entry) -> bool {
        let inherited = self.last_ttl.unwrap_or(DEFAULT_TTL);
        !entry.states_ttl && !entry.has_default && inherited != entry.record.ttl
    }

    /// A line without parentheses: what is missing is put in, and all else stays,
    /// the comment at its end too.
    fn in_place(&mut self, entry: &Entry, needs_owner: bool, needs_ttl: bool, value: &str) {
        if needs_owner {
            self.text.push_str(&format!("{} ", text::absolute(&entry.record.owner)));
        } else {
            self.text.push_str(&self.source[entry.span.start..entry.head]);
        }
        if needs_ttl {
            self.text.push_str(&format!("{} ", entry.record.ttl));
        }
        self.text.push_str(&self.source[entry.head..entry.value.start]);
        self.text.push_str(value);
        self.text.push_str(&self.source[entry.value.end..entry.span.end]);
    }

    /// The whole record as one line of its own.
    fn anew(&mut self, entry: &Entry, value: &str) {
        let Record { owner, ttl, data } = &entry.record;
        self.text.push_str(&format!("{} {ttl} IN {} {value}\n", text::absolute(owner), data.type_name()));
    }

    /// The words of a value, parted by spaces.
    fn value_words(&self, entry: &Entry) -> String {
        let mut line = Logical::empty();
        let read = Lines::new(&self.source[entry.span.clone()]).read(&mut line);
        debug_assert_eq!(read, Ok(true), "it was read before");

        let words = &line.tokens[usize::from(entry.states_owner).min(line.tokens.len())..];
        let rest = head(words).map(|head| head.rest).unwrap_or_default();
        rest.iter().skip(1).map(written).collect::<Vec<_>>().join(" ")
    }

    fn finish(mut self) -> String {
        self.text.push_str(&self.source[self.at..]);
        self.text
    }
}
