//! Handoff links, and how the platform's customers are met.

use std::path::{Path, PathBuf};

use anyhow::{Context, ensure};
use clap::{Args, Subcommand};
use data_encoding::BASE64;
use nomenta_api::handoff::{Face, Language};
use nomenta_certs::sign::QuerySigner;
use nomenta_core::one_click::template::Provider;
use nomenta_service::{OneClick, Reception};
use thiserror::Error;
use uuid::Uuid;

use super::ServeOptions;

/// Largest logo that is put into every page, in octets.
const MOST_LOGO: usize = 65_536;

#[derive(Subcommand)]
pub(crate) enum HandoffVerb {
    /// Make a link by which the customer sees what to do, and how it goes.
    Make {
        /// The domain.
        host: String,
        /// Show every domain of the account in the same zone.
        #[arg(long)]
        whole_zone: bool,
        /// The language that it is shown in at first: en, de or ar.
        #[arg(long)]
        language: Option<Language>,
        /// Days for which it shows anything.
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=365))]
        days: u32,
        /// Send it to the customer by mail, with every step in it.
        #[arg(long, value_name = "ADDRESS")]
        mail_to: Option<String>,
    },
    /// List links.
    List {
        /// Only those that were made for this domain.
        #[arg(long)]
        host: Option<String>,
    },
    /// Make a link show nothing from now on, wherever it is open.
    Revoke {
        /// The link's id, as listed.
        id: Uuid,
    },
    /// Say whether a domain can be set up in one click at the operator of its DNS.
    Offer {
        /// The domain.
        host: String,
    },
    /// Print what a link shows, as the customer reads it: Markdown, or JSON with --as json.
    Read {
        /// The link, or its secret.
        link: String,
        /// The language: en, de or ar.
        #[arg(long)]
        language: Option<Language>,
    },
}

/// How the platform's customers are met.
#[derive(Args)]
pub(crate) struct ReceptionOptions {
    /// Base URL at which customers reach the service; where it listens if left out.
    #[arg(long, value_name = "URL", value_parser = read_url)]
    pub public_url: Option<String>,
    /// The platform's name, as customers know it; its brand if left out.
    #[arg(long, value_name = "NAME")]
    pub face_name: Option<String>,
    /// Its logo: an SVG, PNG or JPEG file, put into the pages.
    #[arg(long, value_name = "FILE")]
    pub face_logo: Option<PathBuf>,
    /// Its colour, as #rrggbb.
    #[arg(long, value_name = "COLOUR", value_parser = read_colour)]
    pub face_colour: Option<String>,
    /// The language of customers who ask for none that there is: en, de or ar.
    #[arg(long, default_value_t, value_name = "LANGUAGE")]
    pub face_language: Language,
    /// Whom customers write to when they are stuck: a mail address or an HTTPS URL.
    #[arg(long, value_name = "ADDRESS")]
    pub support: Option<String>,
    /// Origin that may show the handoff page in a frame; repeat for each.
    #[arg(long, value_name = "ORIGIN", value_parser = read_url)]
    pub framed_by: Vec<String>,
    /// PEM file of the RSA key that signs what customers are sent to their DNS operator with
    /// (Domain Connect); without one nothing is offered in one click.
    #[arg(long, value_name = "FILE")]
    pub one_click_key: Option<PathBuf>,
    /// Label of that key under the key domain.
    #[arg(long, default_value = "k1", value_name = "LABEL")]
    pub one_click_label: String,
    /// Name under which its public part stands in TXT records; one-click and the platform's
    /// zone if left out.
    #[arg(long, value_name = "NAME")]
    pub one_click_domain: Option<String>,
    /// Origin whose pages may read handoff links by script; repeat for each.
    #[arg(long, value_name = "ORIGIN", value_parser = read_url)]
    pub read_by: Vec<String>,
}

/// What was given is no colour.
#[derive(Debug, Error)]
#[error("{0} is no colour. Give it as #rrggbb, such as #14605c.")]
pub(crate) struct NoColour(String);

fn read_colour(given: &str) -> Result<String, NoColour> {
    let digits = given.strip_prefix('#').unwrap_or_default();
    let is_sound = digits.len() == 6 && digits.chars().all(|digit| digit.is_ascii_hexdigit());
    if is_sound { Ok(given.to_ascii_lowercase()) } else { Err(NoColour(given.to_owned())) }
}

/// What was given is no URL that customers could reach.
#[derive(Debug, Error)]
#[error("{0} is no URL. Give one with its scheme, such as https://domains.quaymark.example.")]
pub(crate) struct NoUrl(String);

fn read_url(given: &str) -> Result<String, NoUrl> {
    let rest = given.strip_prefix("https://").or_else(|| given.strip_prefix("http://")).unwrap_or_default();
    let has_odd =
        given.chars().any(|letter| !letter.is_ascii_graphic() || matches!(letter, ';' | ',' | '"' | '\''));
    if rest.is_empty() || has_odd {
        return Err(NoUrl(given.to_owned()));
    }
    Ok(given.trim_end_matches('/').to_owned())
}

impl ReceptionOptions {
    /// The same as the service has it.
    pub(crate) fn reception(&self, serve: &ServeOptions) -> anyhow::Result<Reception> {
        let face = Face {
            name: self.face_name.clone().unwrap_or_else(|| serve.brand.clone()),
            logo: self.face_logo.as_deref().map(read_logo).transpose()?,
            colour: self.face_colour.clone(),
            support: self.support.clone(),
        };
        Ok(Reception {
            face,
            language: self.face_language,
            public_url: self.public_url.clone().unwrap_or_else(|| format!("http://{}", serve.listen)),
            framed_by: self.framed_by.clone(),
            origins: self.read_by.clone(),
        })
    }
}

impl ReceptionOptions {
    /// The platform as a provider of templates, if it signs anything.
    pub(crate) fn one_click(&self, serve: &ServeOptions) -> anyhow::Result<Option<OneClick>> {
        let Some(path) = &self.one_click_key else { return Ok(None) };
        let pem = std::fs::read_to_string(path).with_context(|| format!("Cannot read {}", path.display()))?;
        let signer = QuerySigner::from_pem(&pem).with_context(|| format!("In {}", path.display()))?;

        let reception = self.reception(serve)?;
        let (_, host) = reception.public_url.split_once("://").unwrap_or_default();
        let host = host.split([':', '/']).next().unwrap_or_default().to_owned();
        let key_domain = self.one_click_domain.clone();
        Ok(Some(OneClick {
            provider: Provider {
                name: reception.face.name,
                key_domain: key_domain.unwrap_or_else(|| format!("one-click.{}", serve.platform_zone)),
                redirect_host: host,
            },
            key_label: self.one_click_label.clone(),
            signer,
        }))
    }
}

/// A logo as a `data:` URL (RFC 2397), so that a page needs nothing from elsewhere.
fn read_logo(path: &Path) -> anyhow::Result<String> {
    let kind = match path.extension().and_then(|end| end.to_str()) {
        Some("svg") => "image/svg+xml",
        Some("png") => "image/png",
        Some("jpg" | "jpeg") => "image/jpeg",
        _ => anyhow::bail!("{} is no logo. Give an .svg, .png or .jpg file.", path.display()),
    };

    let octets = std::fs::read(path).with_context(|| format!("Cannot read {}", path.display()))?;
    ensure!(
        octets.len() <= MOST_LOGO,
        "{} has {} octets. Give a logo of {MOST_LOGO} at most.",
        path.display(),
        octets.len()
    );
    Ok(format!("data:{kind};base64,{}", BASE64.encode(&octets)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_break_out_of_a_header_or_a_style_is_refused() {
        assert_eq!(read_url("https://a.example/").expect("a URL"), "https://a.example");
        for bad in ["a.example", "https://", "https://a.example; script-src *", "https://a.example,x"] {
            assert!(read_url(bad).is_err(), "{bad}");
        }
        assert_eq!(read_colour("#14605C").expect("a colour"), "#14605c");
        for bad in ["14605c", "#fff", "#14605c;x", "red"] {
            assert!(read_colour(bad).is_err(), "{bad}");
        }
    }
}
