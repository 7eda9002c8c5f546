//! The key that an update is signed with.

use std::fmt;

use data_encoding::BASE64;
use thiserror::Error;

use crate::name::dns::DnsName;

crate::spelled! {
    /// How an update is signed (RFC 8945, section 6): those that must or should be used.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Algorithm: "algorithm of a key" {
        /// HMAC with SHA-256.
        HmacSha256 = "hmac-sha256",
        /// HMAC with SHA-384.
        HmacSha384 = "hmac-sha384",
        /// HMAC with SHA-512.
        HmacSha512 = "hmac-sha512",
    }
}

/// Least and most octets of a secret: shorter is guessed, longer is no key.
const SECRET: std::ops::RangeInclusive<usize> = 16..=512;

/// A key of a zone's server, as its owner hands it over.
#[derive(Clone, PartialEq, Eq)]
pub struct UpdateKey {
    /// The name that the server knows it by.
    pub name: DnsName,
    /// How it signs.
    pub algorithm: Algorithm,
    /// What only its owner and the server know.
    pub secret: Vec<u8>,
}

impl fmt::Debug for UpdateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Whatever is logged, the secret is not.
        f.debug_struct("UpdateKey").field("name", &self.name).field("algorithm", &self.algorithm).finish()
    }
}

/// Why a text is no key.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum KeyError {
    /// It has another shape.
    #[error(
        "This is no key. Give it as hmac-sha256:name:secret on one line, or as the key statement of the server: \
         key \"name\" {{ algorithm hmac-sha256; secret \"…\"; }};"
    )]
    Shape,
    /// Its algorithm is not used.
    #[error(
        "The algorithm {0} is not used. Have the server make a key for hmac-sha256, hmac-sha384 or hmac-sha512"
    )]
    Algorithm(String),
    /// Its name is none.
    #[error("{0} is no name of a key")]
    Name(String),
    /// Its secret cannot be read.
    #[error("The secret of the key is not base64. Copy all of it, and nothing else")]
    Secret,
    /// Its secret has another length.
    #[error("The secret of the key has {0} octets; 16 to 512 are taken")]
    Length(usize),
}

impl UpdateKey {
    /// Reads a key as `algorithm:name:secret`, or as the statement that name servers keep it in.
    ///
    /// # Errors
    /// [`KeyError`].
    pub fn parse(text: &str) -> Result<Self, KeyError> {
        let text = text.trim();
        let (name, algorithm, secret) =
            statement(text).or_else(|| on_one_line(text)).ok_or(KeyError::Shape)?;

        let algorithm = algorithm.trim_end_matches('.').to_ascii_lowercase();
        let algorithm = algorithm.parse().map_err(|_| KeyError::Algorithm(algorithm))?;
        let is_name = !name.is_empty() && name.len() < 255 && name.bytes().all(|b| b.is_ascii_graphic());
        if !is_name || name.contains("..") {
            return Err(KeyError::Name(name.to_owned()));
        }

        let secret = BASE64.decode(secret.as_bytes()).map_err(|_| KeyError::Secret)?;
        if !SECRET.contains(&secret.len()) {
            return Err(KeyError::Length(secret.len()));
        }
        Ok(Self { name: DnsName::new(name), algorithm, secret })
    }

    /// As [`parse`](Self::parse) reads it.
    pub fn to_line(&self) -> String {
        format!("{}:{}:{}", self.algorithm, self.name, BASE64.encode(&self.secret))
    }
}

fn on_one_line(text: &str) -> Option<(&str, &str, &str)> {
    let mut parts = text.split(':');
    let (algorithm, name, secret) = (parts.next()?, parts.next()?, parts.next()?);
    parts.next().is_none().then_some((name.trim(), algorithm.trim(), secret.trim()))
}

/// `key "name" { algorithm …; secret "…"; };`
fn statement(text: &str) -> Option<(&str, &str, &str)> {
    let rest = text.strip_prefix("key")?;
    let (name, body) = rest.split_once('{')?;
    let (body, _) = body.split_once('}')?;

    let value = |word: &str| {
        let parts = body.split(';').map(str::trim);
        let found = parts.filter_map(|part| part.strip_prefix(word)).next()?;
        found.starts_with([' ', '\t', '"']).then(|| unquoted(found))
    };
    Some((unquoted(name), value("algorithm")?, value("secret")?))
}

fn unquoted(word: &str) -> &str {
    word.trim().trim_matches('"')
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECRET: &str = "bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh";

    #[test]
    fn a_key_is_read_from_a_line_and_from_a_statement() {
        let line = format!("hmac-sha256:Onswick-Key.:{SECRET}");
        let statement =
            format!("key \"onswick-key\" {{\n  algorithm hmac-sha256;\n  secret \"{SECRET}\";\n}};\n");
        let read = UpdateKey::parse(&line).expect("a key");
        assert_eq!(UpdateKey::parse(&statement), Ok(read.clone()));
        assert_eq!(UpdateKey::parse(&read.to_line()), Ok(read.clone()));
        assert_eq!((read.name.as_str(), read.algorithm), ("onswick-key", Algorithm::HmacSha256));
        assert!(!format!("{read:?}").contains("made"), "the secret is not logged");
    }

    #[test]
    fn what_is_no_key_says_what_one_looks_like() {
        for (text, part) in [
            ("", "hmac-sha256:name:secret"),
            ("onswick-key", "hmac-sha256:name:secret"),
            ("hmac-md5:k:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh", "hmac-md5 is not used"),
            ("hmac-sha256:k k:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh", "no name of a key"),
            ("hmac-sha256:k:???", "not base64"),
            ("hmac-sha256:k:c2hvcnQ=", "5 octets"),
        ] {
            let told = UpdateKey::parse(text).expect_err(text).to_string();
            assert!(told.contains(part), "{text}: {told}");
        }
    }
}
