//! A recursive resolver, and how it is reached.

use std::net::SocketAddr;
use std::str::FromStr;

use thiserror::Error;

/// A recursive resolver.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vantage {
    /// Name shown beside its readings.
    pub name: String,
    /// How it is reached.
    pub transport: Transport,
}

/// How a resolver is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Transport {
    /// UDP, and TCP for what is truncated.
    Plain(SocketAddr),
    /// TLS (RFC 7858).
    Tls {
        /// Where it listens.
        address: SocketAddr,
        /// The name or address that its certificate must have.
        name: String,
    },
    /// HTTPS (RFC 8484).
    Https {
        /// Where questions are posted.
        url: String,
    },
}

impl FromStr for Vantage {
    type Err = VantageError;

    /// Reads `north=192.0.2.53:53`, `north=tls://192.0.2.53:853#dns.example`
    /// or `north=https://dns.example/dns-query`.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = VantageError(text.to_owned());
        match text.split_once('=') {
            Some((name, place)) if !name.is_empty() => {
                let transport = Transport::read(place).ok_or(error)?;
                Ok(Self { name: name.to_owned(), transport })
            }
            _ => Err(error),
        }
    }
}

impl Transport {
    fn read(place: &str) -> Option<Self> {
        if place.starts_with("https://") {
            return Some(Self::Https { url: place.to_owned() });
        }
        let Some(place) = place.strip_prefix("tls://") else { return place.parse().ok().map(Self::Plain) };

        match place.split_once('#') {
            Some((address, name)) => {
                Some(Self::Tls { address: address.parse().ok()?, name: name.to_owned() })
            }
            None => {
                let address: SocketAddr = place.parse().ok()?;
                Some(Self::Tls { address, name: address.ip().to_string() })
            }
        }
    }
}

/// A text that is no vantage.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error(
    "{0} is not a vantage. Write it like north=192.0.2.53:53, north=tls://192.0.2.53:853#dns.example or \
     north=https://dns.example/dns-query."
)]
pub struct VantageError(String);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_three_ways_are_told_apart_and_others_refused() {
        let read = |text: &str| text.parse::<Vantage>().map(|v| v.transport);
        let address: SocketAddr = "192.0.2.53:853".parse().expect("address");
        assert_eq!(read("north=192.0.2.53:853"), Ok(Transport::Plain(address)));
        let tls = |name: &str| Ok(Transport::Tls { address, name: name.into() });
        assert_eq!(read("north=tls://192.0.2.53:853#dns.example"), tls("dns.example"));
        assert_eq!(read("north=tls://192.0.2.53:853"), tls("192.0.2.53"));
        let url = "https://dns.example/dns-query".to_owned();
        assert_eq!(read(&format!("north={url}")), Ok(Transport::Https { url }));
        for bad in ["north", "north=127.0.0.1", "=x", "north=tls://dns.example"] {
            assert!(read(bad).expect_err(bad).to_string().contains("Write it like"), "{bad}");
        }
    }
}
