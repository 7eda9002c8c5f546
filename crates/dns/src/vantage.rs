//! A recursive resolver, and how it is reached.

use std::net::SocketAddr;
use std::str::FromStr;

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
    type Err = String;

    /// Reads `north=192.0.2.53:53`, `north=tls://192.0.2.53:853#dns.example`
    /// or `north=https://dns.example/dns-query`.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let advice = || {
            format!(
                "{text} is not a vantage. Write it like north=192.0.2.53:53, north=tls://192.0.2.53:853#dns.example \
                 or north=https://dns.example/dns-query."
            )
        };
        let (name, place) = text.split_once('=').filter(|(name, _)| !name.is_empty()).ok_or_else(advice)?;
        let transport = if place.starts_with("https://") {
            Transport::Https { url: place.to_owned() }
        } else if let Some(place) = place.strip_prefix("tls://") {
            let (address, shown) = place.split_once('#').map_or((place, None), |(a, n)| (a, Some(n)));
            let address: SocketAddr = address.parse().map_err(|_| advice())?;
            Transport::Tls { address, name: shown.map_or_else(|| address.ip().to_string(), str::to_owned) }
        } else {
            Transport::Plain(place.parse().map_err(|_| advice())?)
        };
        Ok(Self { name: name.to_owned(), transport })
    }
}

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
            assert!(read(bad).expect_err(bad).contains("Write it like"), "{bad}");
        }
    }
}
