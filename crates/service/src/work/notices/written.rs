//! A mail's form: templates that the platform can replace, filled with what is said.

use std::path::Path;

use anyhow::Context;
use chrono::Utc;
use minijinja::{Environment, UndefinedBehavior};
use nomenta_api::handoff::{Face, Language};
use nomenta_api::notice::{Letter, Told, WrittenMail};
use nomenta_core::notice::NoticeKind;
use serde::Serialize;

/// The two forms of a mail; a file of that name in the platform's folder replaces one.
const TEXT: &str = "mail.txt";
const HTML: &str = "mail.html";

/// The forms of mails.
#[derive(Debug)]
pub(crate) struct Forms(Environment<'static>);

/// What a form is filled with.
#[derive(Serialize)]
struct Filled {
    language: &'static str,
    direction: &'static str,
    face: Named,
    subject: String,
    lines: Vec<FilledLine>,
    has_headings: bool,
    more: Option<String>,
    open: Option<Leads>,
    ask: Option<String>,
    why: String,
    stop: Option<Leads>,
}

/// The platform, as a form may show it.
#[derive(Serialize)]
struct Named {
    name: String,
    colour: Option<String>,
    logo: Option<String>,
    support: Option<String>,
}

#[derive(Serialize)]
struct FilledLine {
    heading: String,
    kind: Option<&'static str>,
    said: Vec<String>,
}

#[derive(Serialize)]
struct Leads {
    url: String,
    said: String,
}

impl Forms {
    /// Those of the service, with what a folder replaces; each is tried on every kind of notice.
    ///
    /// # Errors
    /// If one cannot be read or filled.
    pub(crate) fn read(folder: Option<&Path>, face: &Face) -> anyhow::Result<Self> {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        for (name, built_in) in
            [(TEXT, include_str!("templates/mail.txt")), (HTML, include_str!("templates/mail.html"))]
        {
            let own = folder.map(|folder| folder.join(name)).filter(|path| path.exists());
            let text = match &own {
                Some(path) => std::fs::read_to_string(path)
                    .with_context(|| format!("Cannot read the template {}", path.display()))?,
                None => built_in.to_owned(),
            };
            environment.add_template_owned(name, text).with_context(|| broken(name))?;
        }

        let forms = Self(environment);
        for language in Language::ALL {
            for kind in NoticeKind::ALL {
                let letter = Letter::of(&samples(*kind, 2), face, *language);
                forms.write(&letter, face, None, None)?;
            }
        }
        Ok(forms)
    }

    /// A mail, with where its links lead.
    ///
    /// # Errors
    /// If a form cannot be filled.
    pub(crate) fn write(
        &self,
        letter: &Letter,
        face: &Face,
        open: Option<&str>,
        stop: Option<&str>,
    ) -> anyhow::Result<WrittenMail> {
        let leads = |url: &str, said: String| Leads { url: url.to_owned(), said };
        let filled = Filled {
            language: letter.language.as_str(),
            direction: letter.language.direction().as_str(),
            face: Named {
                name: face.name.clone(),
                colour: face.colour.clone(),
                logo: face.logo.clone(),
                support: face.support.clone(),
            },
            subject: letter.subject.plain(),
            lines: letter
                .lines
                .iter()
                .map(|line| FilledLine {
                    heading: line.heading.clone(),
                    kind: line.kind.map(NoticeKind::as_str),
                    said: line.said.clone(),
                })
                .collect(),
            has_headings: letter.has_headings,
            more: letter.more.as_ref().map(|said| said.plain()),
            open: open.map(|url| leads(url, letter.open.plain())),
            ask: letter.ask.as_ref().map(|said| said.plain()),
            why: letter.why.plain(),
            stop: stop.map(|url| leads(url, letter.stop.plain())),
        };
        let fill = |name: &str| -> anyhow::Result<String> {
            let filled = minijinja::value::Serde(&filled);
            self.0.get_template(name).and_then(|form| form.render(filled)).with_context(|| broken(name))
        };
        Ok(WrittenMail { text: fill(TEXT)?, html: fill(HTML)?, subject: filled.subject })
    }
}

fn broken(name: &str) -> String {
    format!("The template {name} cannot be filled. Mend it, or take it out of the folder")
}

/// What a sample mail tells.
pub(crate) fn samples(kind: NoticeKind, count: usize) -> Vec<Told> {
    let code = match kind {
        NoticeKind::Blocked => Some(nomenta_core::judge::code::Code::AddressForeign),
        _ => None,
    };
    let host = |place| match place {
        0 => "timetable.onswick.example".to_owned(),
        place => format!("line-{place}.onswick.example"),
    };
    (0..count).map(|place| Told { host: host(place), kind, code, at: Utc::now() }).collect()
}
