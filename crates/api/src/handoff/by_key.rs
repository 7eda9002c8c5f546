//! What a customer is told who has their list written with a key of their own.

use super::words::Speaker;
use super::{Language, Said};
use crate::publication::{PublicationPlan, WriteAct, ZoneKey};

/// The words of the page on which a key is given.
#[derive(Clone, Debug)]
pub struct KeyPage {
    /// What leads there.
    pub way: Said,
    /// Its heading.
    pub title: Said,
    /// What it is about.
    pub said: Said,
    /// Above the box of the key, and below it.
    pub field: [Said; 2],
    /// Above the box of the server's address, and below it.
    pub server: [Said; 2],
    /// On the button that shows what would be written.
    pub show: Said,
    /// What holds for all of it.
    pub whole: Said,
    /// On the buttons that write it, take it back, and forget the key.
    pub write: Said,
    /// See `write`.
    pub undo: Said,
    /// See `write`.
    pub forget: Said,
    /// Instead of all that, where somebody else gave a key.
    pub of_others: Said,
    /// What leads back.
    pub back: Said,
    speaker: Speaker,
}

/// Why nothing was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyRefusal {
    /// The server did not take the key, or it is none.
    Key,
    /// The zone is not what was previewed.
    Changed,
    /// Anything else.
    Other,
}

impl KeyPage {
    /// In a language.
    pub fn of(language: Language, platform: &str, zone: &str) -> Self {
        let speaker = Speaker(language);
        Self {
            way: speaker.key_way(),
            title: speaker.key_title(platform),
            said: speaker.key_said(zone),
            field: [speaker.key_field(), speaker.key_hint()],
            server: [speaker.key_server(), speaker.key_server_hint()],
            show: speaker.key_show(),
            whole: speaker.key_whole(),
            write: speaker.key_write(),
            undo: speaker.key_undo(),
            forget: speaker.key_forget(),
            of_others: speaker.key_of_others(platform, zone),
            back: speaker.key_back(),
            speaker,
        }
    }

    /// Of a key that is kept.
    pub fn kept(&self, key: &ZoneKey) -> Said {
        self.speaker.key_kept(&key.name, &key.zone)
    }

    /// Above what would be written.
    pub fn plan(&self, plan: &PublicationPlan) -> Said {
        self.speaker.key_plan(&plan.server)
    }

    /// What is done with a record.
    pub fn act(&self, act: WriteAct) -> Said {
        match act {
            WriteAct::Remove => self.speaker.key_remove(),
            WriteAct::Add => self.speaker.key_add(),
        }
    }

    /// Why nothing was written.
    pub fn refused(&self, why: KeyRefusal) -> Said {
        match why {
            KeyRefusal::Key => self.speaker.key_refused(),
            KeyRefusal::Changed => self.speaker.key_changed(),
            KeyRefusal::Other => self.speaker.key_not_written(),
        }
    }
}
