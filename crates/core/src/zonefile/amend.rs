//! Amending the text of a file without touching anything else in it.

use super::{DEFAULT_TTL, Entry, ZoneFile};
use crate::name::dns::DnsName;
use crate::reading::record::RecordData;

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

impl ZoneFile {
    /// The text with some records taken out, some values replaced, and lines
    /// added at the end. `fate` tells for the index of each record; `added`
    /// are whole lines with absolute names.
    pub fn amended(&self, fate: impl Fn(usize) -> Fate, added: &[String]) -> String {
        let mut writer = Writer { source: &self.text, ..Writer::default() };
        for (index, entry) in self.entries.iter().enumerate() {
            writer.entry(entry, fate(index));
        }

        let mut text = writer.finish();
        if !added.is_empty() && !text.is_empty() && !text.ends_with('\n') {
            text.push('\n');
        }
        added.iter().for_each(|line| text.extend([line, "\n"]));
        text
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
    soa_minimum: Option<u32>,
}

impl<'a> Writer<'a> {
    fn entry(&mut self, entry: &'a Entry, fate: Fate) {
        self.text.push_str(&self.source[self.at..entry.span.start]);
        self.at = entry.span.end;
        if fate == Fate::Gone {
            return;
        }

        self.head(entry);
        self.text.push_str(&self.source[entry.head..entry.value.start]);
        match fate {
            Fate::Becomes(value) => self.text.push_str(&value),
            _ => self.text.push_str(&self.source[entry.value.clone()]),
        }
        self.text.push_str(&self.source[entry.value.end..entry.span.end]);
        self.owner = Some(&entry.record.owner);
    }

    /// Owner and TTL. What a record took from the one before it must be said
    /// once that one is gone.
    fn head(&mut self, entry: &Entry) {
        let record = &entry.record;
        let head = &self.source[entry.span.start..entry.head];
        if entry.states_owner || self.owner == Some(&record.owner) {
            self.text.push_str(head);
        } else {
            // Parentheses that open before the type close behind it.
            let gap = if head.contains('(') { head } else { " " };
            self.text.push_str(&format!("{}.{gap}", record.owner));
        }

        if let RecordData::Soa(soa) = &record.data {
            self.soa_minimum.get_or_insert(soa.minimum);
        }
        let inherited = self.last_ttl.or(self.soa_minimum).unwrap_or(DEFAULT_TTL);
        let names_ttl = entry.states_ttl || entry.has_default || inherited == record.ttl;
        if !names_ttl {
            // A quoted word may follow the owner without a space.
            let is_glued = !head.is_empty() && !head.ends_with([' ', '\t', '\r', '\n']);
            let space = if is_glued { " " } else { "" };
            self.text.push_str(&format!("{space}{} ", record.ttl));
        }
        if entry.states_ttl || !names_ttl {
            self.last_ttl = Some(record.ttl);
        }
    }

    fn finish(mut self) -> String {
        self.text.push_str(&self.source[self.at..]);
        self.text
    }
}
