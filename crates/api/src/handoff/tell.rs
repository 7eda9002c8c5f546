//! What a customer is told who wants to be told by mail.

use super::words::Speaker;
use super::{Language, Said};

/// The words of the pages on which somebody asks to be told, says so, and ends it.
#[derive(Clone, Debug)]
pub struct TellPage {
    /// What leads there, and its heading.
    pub ask: Said,
    /// Above the box of the address.
    pub field: Said,
    /// Below it.
    pub hint: Said,
    /// Once the mailbox was asked.
    pub sent: Said,
    /// Where it could not be.
    pub refused: Said,
    /// On the button that says yes.
    pub confirm: Said,
    /// Once somebody has.
    pub confirmed: Said,
    /// Whether it is to end.
    pub stop: Said,
    /// On the button that ends it.
    pub end: Said,
    /// Once it has.
    pub stopped: Said,
    /// What leads back.
    pub back: Said,
}

impl TellPage {
    /// In a language.
    pub fn of(language: Language, platform: &str) -> Self {
        let speaker = Speaker(language);
        Self {
            ask: speaker.tell_me(),
            field: speaker.tell_field(),
            hint: speaker.tell_hint(),
            sent: speaker.tell_sent(),
            refused: speaker.tell_refused(),
            confirm: speaker.mail_confirm(),
            confirmed: speaker.told_confirmed(),
            stop: speaker.told_stop(platform),
            end: speaker.mail_stop(),
            stopped: speaker.told_stopped(),
            back: speaker.key_back(),
        }
    }
}
