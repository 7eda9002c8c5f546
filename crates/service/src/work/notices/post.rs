//! Mail by SMTP.

use std::path::Path;
use std::time::Duration;

use anyhow::Context;
use lettre::address::AddressError;
use lettre::message::header::{ContentType, HeaderName, HeaderValue};
use lettre::message::{Mailbox, MultiPart, SinglePart};
use lettre::transport::smtp::PoolConfig;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{Address, AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use nomenta_api::notice::WrittenMail;
use nomenta_store::NotTaken;

/// Longest that the mail server may take for one step.
const STEP: Duration = Duration::from_secs(10);
/// Connections to it at once.
const CONNECTIONS: u32 = 4;

/// How mail is sent.
#[derive(Clone)]
pub struct MailConfig {
    /// Host of the server.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Whether it is spoken to in the clear; otherwise by STARTTLS (RFC 3207).
    pub is_plain: bool,
    /// Name and password, where it wants them.
    pub login: Option<(String, String)>,
    /// The address that mails come from.
    pub from: String,
}

impl std::fmt::Debug for MailConfig {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The password is nobody's to read.
        f.debug_struct("MailConfig")
            .field("host", &self.host)
            .field("from", &self.from)
            .finish_non_exhaustive()
    }
}

/// Sends mail.
pub(crate) struct Post {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
}

/// Why a server did not take a mail.
fn returned(error: &lettre::transport::smtp::Error) -> NotTaken {
    let answered = error.status().is_some();
    NotTaken {
        because: error.to_string(),
        not_before: None,
        is_silent: !answered,
        // Whom the server does not know today it does not know tomorrow (RFC 5321, section 4.2.1).
        is_final: error.is_permanent() && answered,
    }
}

/// What may be mended here, and is tried again.
pub(super) fn not_now(error: impl ToString) -> NotTaken {
    NotTaken { because: error.to_string(), not_before: None, is_silent: true, is_final: false }
}

fn unwritable(error: &impl ToString) -> NotTaken {
    NotTaken { because: error.to_string(), not_before: None, is_silent: false, is_final: true }
}

impl Post {
    /// Trusts the roots in `trust`.
    ///
    /// # Errors
    /// If they cannot be read, or the sender's address is none.
    pub(crate) fn new(config: &MailConfig, name: &str, trust: &Path) -> anyhow::Result<Self> {
        let mut builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&config.host)
            .port(config.port)
            .timeout(Some(STEP))
            .pool_config(PoolConfig::new().max_size(CONNECTIONS));
        if !config.is_plain {
            let pem = std::fs::read(trust).with_context(|| format!("Cannot read {}", trust.display()))?;
            let mut tls =
                TlsParameters::builder(config.host.clone()).certificate_store(CertificateStore::None);
            tls = tls.add_root_certificate(Certificate::from_pem(&pem)?);
            builder = builder.tls(Tls::Required(tls.build_rustls()?));
        }
        if let Some((name, password)) = &config.login {
            builder = builder.credentials(Credentials::new(name.clone(), password.clone()));
        }

        let from: Address =
            config.from.parse().with_context(|| format!("{} is no mail address", config.from))?;
        Ok(Self { transport: builder.build(), from: Mailbox::new(Some(name.to_owned()), from) })
    }

    /// Sends a mail; `id` is the same whenever it is sent again, `stop` ends such mails at one
    /// press (RFC 8058).
    pub(crate) async fn send(
        &self,
        to: &str,
        mail: WrittenMail,
        id: &str,
        stop: Option<&str>,
    ) -> Result<(), NotTaken> {
        let to: Address = to.parse().map_err(|error: AddressError| unwritable(&error))?;
        let mut message = Message::builder()
            .from(self.from.clone())
            .to(Mailbox::new(None, to))
            .subject(mail.subject)
            .message_id(Some(format!("<{id}@{}>", self.from.email.domain())))
            .raw_header(header("Auto-Submitted", "auto-generated"));
        if let Some(stop) = stop {
            message = message
                .raw_header(header("List-Unsubscribe", &format!("<{stop}>")))
                .raw_header(header("List-Unsubscribe-Post", "List-Unsubscribe=One-Click"));
        }

        let part = |kind: ContentType, body: String| SinglePart::builder().header(kind).body(body);
        let parts = MultiPart::alternative()
            .singlepart(part(ContentType::TEXT_PLAIN, mail.text))
            .singlepart(part(ContentType::TEXT_HTML, mail.html));
        let message = message.multipart(parts).map_err(|error| unwritable(&error))?;
        self.transport.send(message).await.map(drop).map_err(|error| returned(&error))
    }
}

fn header(name: &'static str, value: &str) -> HeaderValue {
    HeaderValue::new(HeaderName::new_from_ascii_str(name), value.to_owned())
}

/// Whether a text is an address that a mail can be sent to.
///
/// # Errors
/// What is wrong with it.
pub(crate) fn checked(address: &str) -> Result<String, AddressError> {
    let address: Address = address.trim().parse()?;
    Ok(address.to_string())
}
