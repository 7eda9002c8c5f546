//! What a mail says, in its reader's language.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::notice::NoticeKind;

use super::kind_of;
use crate::event::Event;
use crate::handoff::{Face, HandoffView, Language, Said, Speaker, Step};

/// Things that one mail tells one by one; the rest is counted.
const MOST: usize = 30;

/// Something that somebody is told.
#[derive(Clone, Debug)]
pub struct Told {
    /// The domain.
    pub host: String,
    /// Of what.
    pub kind: NoticeKind,
    /// The finding, where one was opened.
    pub code: Option<Code>,
    /// When.
    pub at: DateTime<Utc>,
}

impl Told {
    /// Of an event; `None`, where nobody is told of it.
    pub fn of(host: &str, at: DateTime<Utc>, event: &Event) -> Option<Self> {
        let code = match event {
            Event::FindingOpened { code, .. } => Some(*code),
            _ => None,
        };
        Some(Self { host: host.to_owned(), kind: kind_of(event)?, code, at })
    }
}

/// One thing in a mail.
#[derive(Clone, Debug)]
pub struct LetterLine {
    /// What it is about: a domain, or a step.
    pub heading: String,
    /// Of what kind, where something happened.
    pub kind: Option<NoticeKind>,
    /// What happened, and what to do.
    pub said: Vec<String>,
}

/// What a mail says, without its form.
#[derive(Clone, Debug)]
pub struct Letter {
    /// Its language.
    pub language: Language,
    /// Its subject.
    pub subject: Said,
    /// What happened, each.
    pub lines: Vec<LetterLine>,
    /// Whether their headings are shown: of one alone the subject says it.
    pub has_headings: bool,
    /// Said where there is more than is told.
    pub more: Option<Said>,
    /// On what leads to the customer's page.
    pub open: Said,
    /// Whom to ask.
    pub ask: Option<Said>,
    /// Why they are written to.
    pub why: Said,
    /// On what ends it.
    pub stop: Said,
}

impl Letter {
    /// A mail about what happened, one thing or many.
    pub fn of(told: &[Told], face: &Face, language: Language) -> Self {
        let speaker = Speaker(language);
        let subject = match told {
            [] => Said::default(),
            [one] => heading(speaker, one, &face.name),
            [first, ..] if told.iter().all(|one| one.host == first.host) => {
                speaker.mail_several(told.len(), &first.host)
            }
            several => speaker.mail_many(several.len(), &face.name),
        };
        let line = |one: &Told| {
            let mut said = vec![text(speaker, one.kind, &face.name).plain()];
            if let Some(code) = one.code {
                said.push(speaker.finding(code, &face.name).plain());
            }
            LetterLine { heading: one.host.clone(), kind: Some(one.kind), said }
        };

        Self {
            language,
            subject,
            lines: told.iter().take(MOST).map(line).collect(),
            has_headings: told.len() > 1,
            more: (told.len() > MOST).then(|| speaker.mail_more(told.len() - MOST)),
            open: speaker.mail_open(),
            ask: face.support.as_deref().map(|support| speaker.mail_ask(support)),
            why: speaker.mail_why(&face.name),
            stop: speaker.mail_stop(),
        }
    }

    /// A mail that asks whether somebody wants to be told.
    pub fn question(host: &str, face: &Face, language: Language) -> Self {
        let speaker = Speaker(language);
        Self {
            language,
            subject: speaker.mail_question(host),
            lines: vec![LetterLine {
                heading: host.to_owned(),
                kind: None,
                said: vec![speaker.mail_question_said(&face.name).plain()],
            }],
            has_headings: false,
            more: None,
            open: speaker.mail_confirm(),
            ask: None,
            why: speaker.mail_unasked(),
            stop: speaker.mail_stop(),
        }
    }
}

impl Letter {
    /// A mail that hands a customer's page over, with every step in it.
    pub fn page(view: &HandoffView) -> Self {
        let speaker = Speaker(view.language);
        let intro = view.intro.iter().map(|intro| LetterLine {
            heading: String::new(),
            kind: None,
            said: vec![intro.plain()],
        });
        let steps = view.domains.iter().flat_map(|domain| &domain.steps);
        Self {
            language: view.language,
            subject: view.title.clone(),
            lines: intro.chain(steps.take(MOST).map(of_step)).collect(),
            has_headings: true,
            more: view.more.clone(),
            open: speaker.mail_open(),
            ask: view.ask.clone(),
            why: view.expires.clone(),
            stop: speaker.mail_stop(),
        }
    }
}

/// What to do, and what goes into each box.
fn of_step(step: &Step) -> LetterLine {
    let boxes = step.boxes.iter().filter(|one| !one.value.is_empty());
    let mut said = vec![step.why.plain()];
    said.extend(boxes.map(|one| format!("{}: {}", one.label, one.value)));
    said.extend(step.notes.iter().map(Said::plain));
    LetterLine { heading: format!("{}: {}", step.count.plain(), step.heading.plain()), kind: None, said }
}

fn heading(speaker: Speaker, one: &Told, platform: &str) -> Said {
    let host = one.host.as_str();
    match one.kind {
        NoticeKind::TokenIssued => speaker.notice_token(host, platform),
        NoticeKind::Blocked => speaker.notice_blocked(host),
        NoticeKind::WaitingLong => speaker.notice_waiting(host),
        NoticeKind::ClaimedTwice => speaker.notice_claimed(host),
        NoticeKind::Live => speaker.notice_live(host),
        NoticeKind::Lapsed => speaker.notice_lapsed(host),
        NoticeKind::CertificateExpiring => speaker.notice_expiring(host),
        NoticeKind::LeftBehind => speaker.notice_left(host, platform),
    }
}

fn text(speaker: Speaker, kind: NoticeKind, platform: &str) -> Said {
    match kind {
        NoticeKind::TokenIssued => speaker.notice_token_said(),
        NoticeKind::Blocked => speaker.notice_blocked_said(),
        NoticeKind::WaitingLong => speaker.notice_waiting_said(),
        NoticeKind::ClaimedTwice => speaker.notice_claimed_said(platform),
        NoticeKind::Live => speaker.notice_live_said(),
        NoticeKind::Lapsed => speaker.notice_lapsed_said(),
        NoticeKind::CertificateExpiring => speaker.notice_expiring_said(),
        NoticeKind::LeftBehind => speaker.notice_left_said(platform),
    }
}
