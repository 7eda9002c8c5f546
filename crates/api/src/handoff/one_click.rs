//! What a customer is told of one click: that it is to be had, and what came of it.

use super::words::Speaker;
use super::{Language, Link, OneClickOffer, Said};

/// What is known of an operator's offer.
#[derive(Clone, Debug, Default)]
pub struct Offered {
    /// The operator, as it calls itself.
    pub operator: Option<String>,
    /// The signed link, where it is offered.
    pub url: Option<String>,
    /// Where the operator's customers edit records.
    pub control_panel: Option<String>,
    /// Why it is not offered.
    pub because: Option<String>,
}

impl OneClickOffer {
    /// As it is told in a language.
    pub fn of(offered: Offered, language: Language) -> Self {
        let speaker = Speaker(language);
        let operator = offered.operator.as_deref().unwrap_or_default();
        let is_offered = offered.url.is_some();

        let said = [speaker.one_click(operator), speaker.one_click_said()];
        let link = offered.url.map(|url| Link { url, said: speaker.one_click_link(operator) });
        let control_panel = offered.control_panel.map(|url| Link { url, said: speaker.place_link(operator) });
        Self {
            offered: is_offered,
            said: if is_offered { said.to_vec() } else { Vec::new() },
            link,
            control_panel,
            because: offered.because,
            operator: offered.operator,
        }
    }
}

nomenta_core::spelled! {
    /// How a customer comes back to the page of their link. It proves nothing: only DNS does.
    pub enum Returned: "way back" {
        /// The operator says that it is done.
        Done = "done",
        /// The customer refused, or it failed.
        Refused = "refused",
        /// With what belongs to no link.
        Other = "other",
        /// The list was written with a key.
        Written = "written",
        /// What was written was taken back.
        Undone = "undone",
    }
}

impl Returned {
    /// What is said of it.
    pub fn said(self, language: Language) -> Said {
        let speaker = Speaker(language);
        match self {
            Self::Done => speaker.returned_done(),
            Self::Refused => speaker.returned_refused(),
            Self::Other => speaker.returned_other(),
            Self::Written => speaker.returned_written(),
            Self::Undone => speaker.returned_undone(),
        }
    }
}
