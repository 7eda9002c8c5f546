//! Who is told what happens, and how.

use std::path::PathBuf;

use anyhow::Context;
use chrono::TimeDelta;
use clap::{Args, Subcommand};
use nomenta_api::handoff::Language;
use nomenta_api::notice::DeliveryState;
use nomenta_core::notice::{NoticeKind, QuietHours};
use nomenta_service::{MailConfig, NoticesConfig};
use uuid::Uuid;

#[derive(Subcommand)]
pub(crate) enum HookVerb {
    /// Have a system called, and print the secret that its calls are signed with.
    Add {
        /// Where it is called: https://…
        #[arg(value_name = "URL")]
        to: String,
        /// Only about these kinds; repeat for each.
        #[arg(long, value_name = "KIND")]
        kind: Vec<NoticeKind>,
    },
    /// List hooks.
    List,
    /// Give a hook another secret; for a day calls are signed with the former one too.
    Rotate {
        /// The hook's id, as listed.
        id: Uuid,
    },
    /// Call a hook no more.
    Remove {
        /// The hook's id, as listed.
        id: Uuid,
    },
}

#[derive(Subcommand)]
pub(crate) enum NoticeVerb {
    /// List what was told to whom.
    List {
        /// Only those of which this came: due, delivered or dead.
        #[arg(long)]
        state: Option<DeliveryState>,
        /// Only those to this hook or recipient.
        #[arg(long, value_name = "ID")]
        receiver: Option<Uuid>,
        /// Lines at most.
        #[arg(long, default_value_t = 100, value_name = "LINES")]
        most: usize,
    },
    /// Send again what nobody took: one notice, or all to a hook or recipient.
    Redeliver {
        /// The notice's id, as listed; or the receiver's, with --all.
        id: Uuid,
        /// All that this hook or recipient did not take.
        #[arg(long)]
        all: bool,
    },
    /// Print a mail as it would be written: text, or HTML with --html.
    Preview {
        /// Of what: token-issued, blocked, live and so on.
        kind: NoticeKind,
        /// In which language: en, de or ar.
        #[arg(long, default_value_t)]
        language: Language,
        /// About so many things at once.
        #[arg(long, default_value_t = 1)]
        count: usize,
        /// As HTML.
        #[arg(long)]
        html: bool,
    },
    /// Write to somebody when something happens.
    Tell {
        /// Their mail address.
        address: String,
        /// Only about these kinds; repeat for each.
        #[arg(long, value_name = "KIND")]
        kind: Vec<NoticeKind>,
        /// In this language; that of the account if left out.
        #[arg(long)]
        language: Option<Language>,
        /// Not in these hours: "22:00-07:00 UTC".
        #[arg(long, value_name = "HOURS")]
        quiet: Option<QuietHours>,
    },
    /// List whoever is written to.
    Recipients,
    /// Write to somebody no more.
    Untell {
        /// The recipient's id, as listed.
        id: Uuid,
    },
}

/// How people and systems are told what happens.
#[derive(Args)]
pub(crate) struct NoticeOptions {
    /// Mail server that takes mail for everybody, as host:port; without one no mail is sent.
    #[arg(long, value_name = "HOST:PORT")]
    pub mail_server: Option<String>,
    /// The address that mails come from.
    #[arg(long, value_name = "ADDRESS", requires = "mail_server")]
    pub mail_from: Option<String>,
    /// Name that the mail server wants, with the password.
    #[arg(long, value_name = "NAME", requires = "mail_server")]
    pub mail_user: Option<String>,
    /// Password for the mail server.
    #[arg(long, env = "NOMENTA_MAIL_PASSWORD", hide_env_values = true, value_name = "PASSWORD")]
    pub mail_password: Option<String>,
    /// Speak to the mail server in the clear, without STARTTLS; for one on the same machine.
    #[arg(long)]
    pub mail_plain: bool,
    /// Folder with mail.txt or mail.html, which replace the templates of mails.
    #[arg(long, value_name = "FOLDER")]
    pub mail_templates: Option<PathBuf>,
    /// Seconds for which mails are gathered, so that one tells what happened together.
    #[arg(long, default_value_t = 300, value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(0..=86_400))]
    pub mail_gather: u32,
}

impl NoticeOptions {
    /// The same as the service has it.
    pub(crate) fn notices(&self) -> anyhow::Result<NoticesConfig> {
        Ok(NoticesConfig {
            mail: self.mail_server.as_deref().map(|server| self.mail(server)).transpose()?,
            templates: self.mail_templates.clone(),
            gather: TimeDelta::seconds(self.mail_gather.into()),
        })
    }

    fn mail(&self, server: &str) -> anyhow::Result<MailConfig> {
        let shape =
            || format!("{server} is no mail server. Give it as host:port, such as mail.quaymark.example:587");
        let (host, port) = server.rsplit_once(':').with_context(shape)?;
        let login = match (&self.mail_user, &self.mail_password) {
            (Some(user), Some(password)) => Some((user.clone(), password.clone())),
            (Some(_), None) => anyhow::bail!("--mail-user needs a password: set NOMENTA_MAIL_PASSWORD"),
            (None, _) => None,
        };
        Ok(MailConfig {
            host: host.trim_matches(['[', ']']).to_owned(),
            port: port.parse().with_context(shape)?,
            is_plain: self.mail_plain,
            login,
            from: self
                .mail_from
                .clone()
                .context("--mail-server needs --mail-from, the address that mails come from")?,
        })
    }
}
