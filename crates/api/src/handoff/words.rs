//! The words of each language, a file of Fluent messages for each, and the speaker that says
//! them.

use std::sync::LazyLock;

use fluent_bundle::concurrent::FluentBundle;
use fluent_bundle::{FluentArgs, FluentResource, FluentValue};
use nomenta_core::judge::code::Code;
use unic_langid::LanguageIdentifier;
use utoipa::ToSchema;

use super::said::{Given, Piece, Said};

nomenta_core::spelled! {
    /// A language that customers are spoken to in (BCP 47).
    #[derive(Default, ToSchema)]
    pub enum Language: "language" {
        /// English.
        #[default]
        English = "en",
        /// German.
        German = "de",
        /// Arabic.
        Arabic = "ar",
    }
}

nomenta_core::spelled! {
    /// Which way a language is written, as HTML has it.
    #[derive(ToSchema)]
    pub enum Direction: "direction" {
        /// From left to right.
        Ltr = "ltr",
        /// From right to left.
        Rtl = "rtl",
    }
}

impl Language {
    /// The language that a tag is of, by its first part: `de` for `de-AT`.
    pub fn of_tag(tag: &str) -> Option<Self> {
        tag.split('-').next()?.trim().to_ascii_lowercase().parse().ok()
    }

    /// The one that a reader wants most, of those that there are (RFC 9110, section 12.5.4).
    pub fn accepted(header: &str) -> Option<Self> {
        let mut wanted: Vec<(Self, f32)> = header.split(',').filter_map(weighed).collect();
        // The order decides between equals.
        wanted.sort_by(|(_, one), (_, other)| other.total_cmp(one));
        wanted.first().map(|(language, _)| *language)
    }

    /// Which way it is written.
    pub fn direction(self) -> Direction {
        match self {
            Self::English | Self::German => Direction::Ltr,
            Self::Arabic => Direction::Rtl,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::English => include_str!("../../words/en.ftl"),
            Self::German => include_str!("../../words/de.ftl"),
            Self::Arabic => include_str!("../../words/ar.ftl"),
        }
    }
}

/// A language of the header with its weight, if it is spoken here and wanted at all.
fn weighed(entry: &str) -> Option<(Language, f32)> {
    let (tag, weight) = entry.split_once(';').unwrap_or((entry, "q=1"));
    let weight = weight.trim().strip_prefix("q=")?.trim().parse().ok()?;
    let language = Language::of_tag(tag.trim())?;
    (weight > 0.0).then_some((language, weight))
}

type Words = FluentBundle<FluentResource>;

/// The words of each language, in the order of [`Language::ALL`].
static WORDS: LazyLock<Vec<Words>> =
    LazyLock::new(|| Language::ALL.iter().map(|language| read(*language)).collect());

/// A mistake in a file leaves out what it spoils; tests find it.
fn read(language: Language) -> Words {
    let words = FluentResource::try_new(language.words().to_owned()).unwrap_or_else(|(words, _)| words);
    let id: LanguageIdentifier = language.as_str().parse().unwrap_or_default();

    let mut bundle = FluentBundle::new_concurrent(vec![id]);
    // Names are set apart by whoever shows them, not by characters in the text.
    bundle.set_use_isolating(false);
    bundle.add_resource_overriding(words);
    bundle
}

/// Stands on both sides of the number of a place in a sentence: a character that no text
/// has.
const MARK: char = '\u{E000}';

/// Says things in one language.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Speaker(pub(crate) Language);

impl Speaker {
    /// What is said of a finding.
    pub(crate) fn finding(self, code: Code, platform: &str) -> Said {
        self.say(&finding_id(code), &[("platform", Given::Name(platform.to_owned()))])
    }

    /// What is said of a mistake before it is made.
    pub(crate) fn beware_of(self, code: Code, zone: &str, platform: &str) -> Said {
        let given =
            [("zone", Given::Record(zone.to_owned())), ("platform", Given::Name(platform.to_owned()))];
        self.say(&beware_id(code), &given)
    }

    /// A message with what was given in its places. What a language has not is said in
    /// English.
    fn say(self, id: &str, given: &[(&'static str, Given)]) -> Said {
        let own = WORDS.get(self.0 as usize).filter(|words| words.has_message(id));
        let Some(words) = own.or(WORDS.first()) else { return Said::default() };
        let Some(pattern) = words.get_message(id).and_then(|message| message.value()) else {
            return Said::default();
        };

        let mut args = FluentArgs::new();
        for (place, (name, given)) in given.iter().enumerate() {
            args.set(*name, value(place, given));
        }

        let text = words.format_pattern(pattern, Some(&args), &mut Vec::new()).into_owned();
        Said(pieces(&text, given))
    }
}

/// Finding texts are messages by the code of the finding.
fn finding_id(code: Code) -> String {
    format!("finding-{code}")
}

/// So are warnings of the mistakes that it comes of.
fn beware_id(code: Code) -> String {
    format!("beware-{code}")
}

fn value(place: usize, given: &Given) -> FluentValue<'static> {
    match given {
        Given::Count(count) => FluentValue::from(*count),
        _ => FluentValue::from(format!("{MARK}{place}{MARK}")),
    }
}

/// The text, parted at the places.
fn pieces(text: &str, given: &[(&'static str, Given)]) -> Vec<Piece> {
    let mut pieces = Vec::new();
    for (turn, part) in text.split(MARK).enumerate() {
        let place = (turn % 2 == 1).then(|| part.parse::<usize>().ok()).flatten();
        let piece = match place {
            Some(place) => given.get(place).and_then(|(_, given)| given.piece()),
            None => Some(Piece::Text(part.to_owned())),
        };
        pieces.extend(piece.filter(|piece| *piece != Piece::Text(String::new())));
    }
    pieces
}

/// Defines what can be said: a method for each message, with what its places take.
macro_rules! sayings {
    ($( $name:ident = $id:literal ( $( $place:ident: $kind:ident ),* ), )+) => {
        impl Speaker {
            $(
                pub(crate) fn $name(self $(, $place: sayings!(@takes $kind))*) -> Said {
                    self.say($id, &[$( (stringify!($place), Given::$kind(sayings!(@given $kind $place))), )*])
                }
            )+
        }

        /// Every message with its places.
        #[cfg(test)]
        const SAYINGS: &[(&str, &[&str])] = &[$( ($id, &[$( stringify!($place) ),*]), )+];
    };
    (@takes Name) => { &str };
    (@takes Record) => { &str };
    (@takes Time) => { chrono::DateTime<chrono::Utc> };
    (@takes Count) => { usize };
    (@given Name $place:ident) => { $place.to_owned() };
    (@given Record $place:ident) => { $place.to_owned() };
    (@given Time $place:ident) => { $place };
    (@given Count $place:ident) => { $place };
}

sayings! {
    language_name = "language-name"(),
    title = "title"(host: Record, platform: Name),
    title_zone = "title-zone"(zone: Record, platform: Name),
    intro = "intro"(zone: Record),
    expires = "expires"(time: Time),
    link_ended_title = "link-ended-title"(),
    link_ended = "link-ended"(platform: Name),
    ask = "ask"(support: Name),
    print = "print"(),
    more_domains = "more-domains"(count: Count),
    stands_unseen = "stands-unseen"(),
    stands_steps = "stands-steps"(count: Count),
    stands_stuck = "stands-stuck"(),
    stands_spreading = "stands-spreading"(),
    stands_working = "stands-working"(),
    stands_live = "stands-live"(host: Record),
    stands_paused = "stands-paused"(),
    stands_left = "stands-left"(host: Record, platform: Name),
    said_unseen = "said-unseen"(),
    said_steps = "said-steps"(),
    said_again = "said-again"(),
    said_stuck = "said-stuck"(),
    said_until = "said-until"(time: Time),
    said_some = "said-some"(),
    said_working = "said-working"(),
    said_ours = "said-ours"(),
    said_live = "said-live"(),
    said_paused = "said-paused"(platform: Name),
    said_left = "said-left"(platform: Name),
    next_look = "next-look"(time: Time),
    looking_now = "looking-now"(),
    no_look = "no-look"(),
    looked = "looked"(time: Time),
    open_site = "open-site"(host: Record),
    gate_ownership = "gate-ownership"(),
    gate_routing = "gate-routing"(),
    gate_certificate = "gate-certificate"(),
    gate_serving = "gate-serving"(),
    post_waiting = "post-waiting"(),
    post_passed = "post-passed"(),
    post_blocked = "post-blocked"(),
    post_lapsed = "post-lapsed"(),
    post_since = "post-since"(time: Time),
    place = "where"(zone: Record),
    place_operator = "where-operator"(operator: Name),
    place_servers = "where-servers"(servers: Record),
    place_unknown = "where-unknown"(),
    place_link = "where-link"(operator: Name),
    step_count = "step-count"(number: Count, count: Count),
    step_add = "step-add"(rtype: Record),
    step_change = "step-change"(rtype: Record),
    step_delete = "step-delete"(rtype: Record),
    step_registrar = "step-registrar"(),
    steps_done = "steps-done"(),
    steps_keep = "steps-keep"(),
    mail_stays = "mail-stays"(zone: Record),
    span_minutes = "span-minutes"(count: Count),
    span_hours = "span-hours"(count: Count),
    span_days = "span-days"(count: Count),
    usual_served = "usual-served"(operator: Name, span: Name),
    usual_seen = "usual-seen"(operator: Name, span: Name, long: Name),
    usual_seen_even = "usual-seen-even"(operator: Name, span: Name),
    beware = "beware"(),
    why_ownership = "why-ownership"(),
    why_routing = "why-routing"(),
    why_certificate = "why-certificate"(),
    why_delete = "why-delete"(),
    box_type = "box-type"(),
    box_host = "box-host"(),
    box_value = "box-value"(),
    box_was = "box-was"(),
    box_ttl = "box-ttl"(),
    box_empty = "box-empty"(),
    host_at = "host-at"(zone: Record),
    host_blank = "host-blank"(zone: Record),
    host_short = "host-short"(zone: Record),
    host_unsure = "host-unsure"(zone: Record, owner: Record),
    host_full = "host-full"(),
    ttl_lowest = "ttl-lowest"(),
    alias_type = "alias-type"(),
    copy = "copy"(),
    copy_of = "copy-of"(label: Name, value: Record),
    copied = "copied"(),
    look_again = "look-again"(),
    looking = "looking"(),
    look_soon = "look-soon"(seconds: Name),
    offline = "offline"(),
    reload = "reload"(),
    found = "found"(),
    one_click = "one-click"(operator: Name),
    one_click_said = "one-click-said"(),
    one_click_link = "one-click-link"(operator: Name),
    returned_done = "returned-done"(),
    returned_refused = "returned-refused"(),
    returned_other = "returned-other"(),
    returned_written = "returned-written"(),
    returned_undone = "returned-undone"(),
    key_way = "key-way"(),
    key_title = "key-title"(platform: Name),
    key_said = "key-said"(zone: Record),
    key_kept = "key-kept"(key: Record, zone: Record),
    key_of_others = "key-of-others"(platform: Name, zone: Record),
    key_field = "key-field"(),
    key_hint = "key-hint"(),
    key_server = "key-server"(),
    key_server_hint = "key-server-hint"(),
    key_show = "key-show"(),
    key_plan = "key-plan"(server: Record),
    key_whole = "key-whole"(),
    key_remove = "key-remove"(),
    key_add = "key-add"(),
    key_write = "key-write"(),
    key_undo = "key-undo"(),
    key_forget = "key-forget"(),
    key_back = "key-back"(),
    key_refused = "key-refused"(),
    key_changed = "key-changed"(),
    key_not_written = "key-not-written"(),
    tell_me = "tell-me"(),
    tell_field = "tell-field"(),
    tell_hint = "tell-hint"(),
    tell_sent = "tell-sent"(),
    tell_refused = "tell-refused"(),
    told_confirmed = "told-confirmed"(),
    told_stop = "told-stop"(platform: Name),
    told_stopped = "told-stopped"(),
    notice_token = "notice-token"(host: Record, platform: Name),
    notice_token_said = "notice-token-said"(),
    notice_blocked = "notice-blocked"(host: Record),
    notice_blocked_said = "notice-blocked-said"(),
    notice_waiting = "notice-waiting"(host: Record),
    notice_waiting_said = "notice-waiting-said"(),
    notice_claimed = "notice-claimed"(host: Record),
    notice_claimed_said = "notice-claimed-said"(platform: Name),
    notice_live = "notice-live"(host: Record),
    notice_live_said = "notice-live-said"(),
    notice_lapsed = "notice-lapsed"(host: Record),
    notice_lapsed_said = "notice-lapsed-said"(),
    notice_expiring = "notice-expiring"(host: Record),
    notice_expiring_said = "notice-expiring-said"(),
    notice_left = "notice-left"(host: Record, platform: Name),
    notice_left_said = "notice-left-said"(platform: Name),
    mail_several = "mail-several"(count: Count, host: Record),
    mail_many = "mail-many"(count: Count, platform: Name),
    mail_more = "mail-more"(count: Count),
    mail_open = "mail-open"(),
    mail_ask = "mail-ask"(support: Name),
    mail_why = "mail-why"(platform: Name),
    mail_stop = "mail-stop"(),
    mail_question = "mail-question"(host: Record),
    mail_question_said = "mail-question-said"(platform: Name),
    mail_confirm = "mail-confirm"(),
    mail_unasked = "mail-unasked"(),
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use chrono::DateTime;
    use nomenta_core::learned::mistake::MISTAKES;

    use super::*;

    /// The messages of a language's file, each with the places that it leaves.
    fn messages(language: Language) -> Vec<(String, BTreeSet<String>)> {
        let mut messages: Vec<(String, BTreeSet<String>)> = Vec::new();
        for line in language.words().lines().filter(|line| !line.starts_with('#') && !line.is_empty()) {
            if let Some((id, _)) = line.split_once(" = ").filter(|_| line.starts_with(char::is_alphabetic)) {
                messages.push((id.to_owned(), BTreeSet::new()));
            }
            let named = line.split("{ $").skip(1).filter_map(|rest| rest.split([' ', '}']).next());
            let (_, places) = messages.last_mut().expect("a message");
            places.extend(named.map(str::to_owned));
        }
        messages
    }

    #[test]
    fn no_language_leaves_anything_out_or_has_anything_that_is_never_said() {
        let mut wanted: BTreeSet<String> = SAYINGS.iter().map(|(id, _)| (*id).to_owned()).collect();
        wanted.extend(Code::ALL.iter().map(|code| finding_id(*code)));
        wanted.extend(MISTAKES.iter().map(|code| beware_id(*code)));
        for language in Language::ALL {
            FluentResource::try_new(language.words().to_owned()).expect("sound Fluent");
            let has: Vec<_> = messages(*language).into_iter().map(|(id, _)| id).collect();
            let set: BTreeSet<_> = has.iter().cloned().collect();
            assert_eq!(set.len(), has.len(), "{language}: a message is there twice");
            assert_eq!(set.difference(&wanted).collect::<Vec<_>>(), Vec::<&String>::new(), "{language}");
            assert_eq!(wanted.difference(&set).collect::<Vec<_>>(), Vec::<&String>::new(), "{language}");
        }
    }

    #[test]
    fn every_language_has_the_same_places_in_a_message() {
        for language in Language::ALL {
            for (id, places) in messages(*language) {
                let (_, english) =
                    messages(Language::English).into_iter().find(|(of, _)| *of == id).expect("there");
                assert_eq!(places, english, "{language}: {id}");
                if let Some((_, told)) = SAYINGS.iter().find(|(of, _)| *of == id) {
                    assert_eq!(places, told.iter().map(|place| (*place).to_owned()).collect(), "{id}");
                }
            }
        }
    }

    #[test]
    fn places_become_pieces_and_numbers_are_counted_as_the_language_does() {
        let english = Speaker(Language::English);
        let at = DateTime::UNIX_EPOCH;
        let said = english.said_until(at);
        assert_eq!(said.0[1], Piece::Time(at));
        assert_eq!(
            english.title("www.onswick.example", "Quaymark").plain(),
            "Connect www.onswick.example to Quaymark"
        );
        assert_eq!(english.stands_steps(1).plain(), "One change to make");
        assert_eq!(Speaker(Language::German).stands_steps(3).plain(), "3 Änderungen sind zu machen");
        assert_eq!(Speaker(Language::Arabic).stands_steps(2).plain(), "تغييران مطلوبان");
        assert_eq!(Speaker(Language::Arabic).stands_steps(5).plain(), "5 تغييرات مطلوبة");
    }

    #[test]
    fn a_reader_gets_the_language_that_they_want_most_of_those_there_are() {
        for (header, want) in [
            ("de-AT,de;q=0.9,en;q=0.8", Some(Language::German)),
            ("fi, ar;q=0.4, en;q=0.2", Some(Language::Arabic)),
            ("de;q=0, en", Some(Language::English)),
            ("en, de", Some(Language::English)),
            ("fi", None),
            ("", None),
            ("*", None),
            ("de;q=x", None),
        ] {
            assert_eq!(Language::accepted(header), want, "{header}");
        }
    }
}
