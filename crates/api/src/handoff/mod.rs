//! The handoff: what a customer sees of their own domain, in their language.
//!
//! [`HandoffView`] is decided once, by [`HandoffView::of`], for everything that shows it: the
//! page, the mail, the text for a ticket, and the JSON for a platform's own pages.

mod by_key;
mod compose;
mod markdown;
mod one_click;
mod said;
mod steps;
mod tell;
mod usual;
mod words;

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::EditKind;
use nomenta_core::judge::finding::Severity;
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::name::dns::DnsName;
use nomenta_core::one_click::template::Template;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

pub use self::by_key::{KeyPage, KeyRefusal};
pub use self::compose::{Customer, Scene, ended};
pub use self::one_click::{Offered, Returned};
pub use self::said::{Piece, Said};
pub use self::tell::TellPage;
pub(crate) use self::words::Speaker;
pub use self::words::{Direction, Language};

/// How the platform shows itself to its customers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Face {
    /// Its name.
    pub name: String,
    /// Where its logo is: an HTTPS URL, or a path of the service.
    pub logo: Option<String>,
    /// Its colour, as `#rrggbb`.
    pub colour: Option<String>,
    /// Whom customers write to when they are stuck: a mail address or an HTTPS URL.
    pub support: Option<String>,
}

/// Everything that a handoff link shows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoffView {
    /// The language that it is in.
    pub language: Language,
    /// Which way that is written.
    pub direction: Direction,
    /// The languages that there are.
    pub languages: Vec<LanguageView>,
    /// The platform.
    pub face: Face,
    /// What it is about.
    pub title: Said,
    /// What there is to do, in a sentence; nothing, where nothing is.
    pub intro: Option<Said>,
    /// The domains.
    pub domains: Vec<CustomerDomain>,
    /// Said where there are more than are shown.
    pub more: Option<Said>,
    /// Whom to ask.
    pub ask: Option<Said>,
    /// Until when the link shows anything.
    pub expires: Said,
    /// Leads to where somebody asks to be told by mail; nothing, where no mail is sent.
    pub tell_me: Option<Said>,
    /// Leads to where a key of their own name server is given.
    pub by_key: Said,
    /// What stands on buttons and beside lists.
    pub labels: Labels,
}

/// A language, by its own name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LanguageView {
    /// Which one.
    pub language: Language,
    /// What it calls itself.
    pub name: String,
}

/// Words of the page itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Labels {
    /// On a button that copies what is beside it.
    pub copy: String,
    /// On it, once it has.
    pub copied: String,
    /// On the button that asks for a look.
    pub look_again: String,
    /// On it, while one is on its way.
    pub looking: String,
    /// Said where one was asked for a moment ago; `%s` stands for the seconds to wait.
    pub look_soon: String,
    /// Said while the service cannot be reached.
    pub offline: String,
    /// Said where no script runs.
    pub reload: String,
    /// On the button that prints.
    pub print: String,
    /// Above what was found.
    pub found: String,
    /// Above what often goes wrong.
    pub beware: String,
    /// Above what is in place already.
    pub done: String,
    /// Above what is to be left alone.
    pub keep: String,
    /// In place of a value where a box stays empty.
    pub empty: String,
}

nomenta_core::spelled! {
    /// Where a domain stands for its customer.
    #[derive(ToSchema)]
    pub enum Standing: "standing" {
        /// Nobody has looked yet.
        Unseen = "unseen",
        /// There is something to change.
        Steps = "steps",
        /// Something is in the way that no change of theirs takes away.
        Stuck = "stuck",
        /// Their records are right, and not everybody sees them yet.
        Spreading = "spreading",
        /// Everybody sees them; the platform does the rest.
        Working = "working",
        /// It is connected.
        Live = "live",
        /// Nothing is looked at.
        Paused = "paused",
        /// It has left the platform.
        Left = "left",
    }
}

/// A domain as its customer sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CustomerDomain {
    /// The name.
    pub host: DnsName,
    /// The name in its own script.
    pub shown: String,
    /// Where it stands.
    pub standing: Standing,
    /// The same as a heading.
    pub heading: Said,
    /// What that means, and what comes next.
    pub said: Vec<Said>,
    /// When it was looked at, and when it is again.
    pub looks: Vec<Said>,
    /// Where it is served, once it is.
    pub link: Option<Link>,
    /// The four posts, in order.
    pub posts: Vec<Post>,
    /// What was found, in plain words.
    pub found: Vec<Found>,
    /// Where its records are edited.
    pub place: PlaceView,
    /// Said before anything that mail depends on is touched.
    pub warning: Option<Said>,
    /// What to change, in order.
    pub steps: Vec<Step>,
    /// What is in place already.
    pub done: Vec<Row>,
    /// What is to be left alone.
    pub keep: Vec<Row>,
}

/// Something to open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// Where it leads.
    pub url: String,
    /// What it says.
    pub said: Said,
}

/// One of the four posts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Post {
    /// The gate that it is for.
    pub gate: GateName,
    /// Where that stands.
    pub state: GateState,
    /// What it is called.
    pub name: String,
    /// Where it stands, in a word.
    pub word: String,
    /// Since when, once it is not waiting.
    pub since: Option<Said>,
}

/// A problem, in plain words.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// Which.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// What it is.
    pub said: Said,
}

/// Where records are edited.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlaceView {
    /// The zone.
    pub zone: DnsName,
    /// What to open.
    pub heading: Said,
    /// Where that is.
    pub said: Said,
    /// A way there, where it is known.
    pub link: Option<Link>,
    /// How long a change takes there.
    pub usual: Vec<Said>,
    /// What often goes wrong there.
    pub beware: Vec<Beware>,
}

/// A mistake to be warned of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Beware {
    /// What would be found.
    pub code: Code,
    /// What to mind.
    pub said: Said,
}

/// One change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// What kind.
    pub kind: EditKind,
    /// Which of how many.
    pub count: Said,
    /// What to do.
    pub heading: Said,
    /// What for.
    pub why: Said,
    /// What goes into each box of the editor, or stands in it.
    pub boxes: Vec<BoxView>,
    /// What else there is to know.
    pub notes: Vec<Said>,
}

nomenta_core::spelled! {
    /// A box of a DNS editor.
    #[derive(ToSchema)]
    pub enum BoxKind: "box" {
        /// The type of the record.
        Type = "type",
        /// Its name.
        Host = "host",
        /// The value that it has, of one that is to get another.
        Was = "was",
        /// Its value.
        Value = "value",
        /// Its time to live.
        Ttl = "ttl",
    }
}

/// What goes into a box, or stands in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BoxView {
    /// Which box.
    pub kind: BoxKind,
    /// What it is called.
    pub label: String,
    /// What goes in; empty where it stays empty.
    pub value: String,
    /// What a button that copies it is called, where copying is of use.
    pub copy: Option<String>,
    /// How it is meant.
    pub hint: Option<Said>,
}

/// A record of which nothing is to be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Row {
    /// Its type.
    pub rtype: String,
    /// What stands in the host box.
    pub host: String,
    /// Its value.
    pub value: String,
}

/// Whether a domain can be set up in one click at the operator of its DNS, by the open Domain
/// Connect protocol.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OneClickOffer {
    /// Whether it can.
    pub offered: bool,
    /// The operator, as it calls itself.
    pub operator: Option<String>,
    /// That it can, as a heading, and what it is.
    pub said: Vec<Said>,
    /// Where to go: the operator asks its customer, and publishes.
    pub link: Option<Link>,
    /// Where the operator's customers edit records, whether it can or not.
    pub control_panel: Option<Link>,
    /// Why it cannot, for the engineer.
    pub because: Option<String>,
}

/// What the platform gives a DNS operator, so that its customers can set domains up in one
/// click.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OneClickTemplates {
    /// The templates of the ingress, for hosts and for apexes.
    pub templates: Vec<Template>,
    /// The name at which the public key is to be published.
    pub key_name: DnsName,
    /// The TXT records to publish there.
    pub key_texts: Vec<String>,
}

/// A link to be made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "language": "de", "days": 14 }))]
pub struct NewHandoff {
    /// The language that it is shown in at first; the account's if left out.
    #[serde(default)]
    pub language: Option<Language>,
    /// Days for which it shows anything; 30 if left out.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 365)]
    pub days: Option<u32>,
    /// Whether it shows every domain of the account in the same zone.
    #[serde(default)]
    pub whole_zone: bool,
    /// Mail address of the customer, who is sent the link with every step in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 3, max_length = 254)]
    pub mail_to: Option<String>,
}

/// A link that was made; only now is it shown.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeHandoff {
    /// Identifies it in listings.
    pub id: Uuid,
    /// The link, to be sent to the customer.
    pub link: String,
    /// Its secret, as bearer for a platform's own pages.
    pub secret: String,
    /// Until when it shows anything.
    pub expires_at: DateTime<Utc>,
    /// To whom it was sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mailed_to: Option<String>,
}

/// A link, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Handoff {
    /// Identifies it.
    pub id: Uuid,
    /// The account.
    pub account: String,
    /// The domain that it was made for.
    pub host: DnsName,
    /// The zone, where it shows every domain of the account in it.
    pub zone: Option<DnsName>,
    /// The language that it is shown in at first.
    pub language: Option<Language>,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Until when it shows anything.
    pub expires_at: DateTime<Utc>,
    /// When it was opened last, to the minute.
    pub opened_at: Option<DateTime<Utc>>,
    /// Since when it shows nothing, if it was taken back.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Which links to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HandoffsQuery {
    /// Only those of this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those that were made for this domain.
    #[param(max_length = 253)]
    pub host: Option<String>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// In which language an offer is to be told.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct OfferQuery {
    /// The domain, of those that the link shows; the one that it was made for if left out.
    #[param(max_length = 253)]
    pub host: Option<String>,
    /// In this language; else as the reader's browser asks, else as the link was made.
    #[param(value_type = Option<Language>)]
    pub language: Option<String>,
}

/// How a link is to be shown.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ShowQuery {
    /// In this language; else as the reader's browser asks, else as the link was made.
    #[param(value_type = Option<Language>)]
    pub language: Option<String>,
    /// With `If-None-Match`: seconds to wait for a change, at most 55.
    #[param(minimum = 0, maximum = 55)]
    pub wait: Option<u64>,
}
