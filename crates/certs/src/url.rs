//! Where a redirect leads: the few parts of a web address that matter here.

use std::net::IpAddr;

/// The host part of a web address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    Host(String),
    Address(IpAddr),
}

/// A web address (RFC 3986), cut down to what a visit needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Target {
    pub secure: bool,
    pub place: Place,
    pub port: Option<u16>,
    /// Path and query.
    pub path: String,
}

impl Target {
    /// Reads an absolute address; `None` for other schemes and nonsense.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let url = hyper::Uri::try_from(text.trim()).ok()?;
        let secure = match url.scheme_str()? {
            "https" => true,
            "http" => false,
            _ => return None,
        };
        let host = url.host()?.trim_start_matches('[').trim_end_matches(']');
        let place = match host.parse() {
            Ok(address) => Place::Address(address),
            Err(_) => Place::Host(host.trim_end_matches('.').to_ascii_lowercase()),
        };
        let path = url.path_and_query().map_or("/", |p| p.as_str());
        let path = if path.is_empty() { "/" } else { path };
        Some(Self { secure, place, port: url.port_u16(), path: path.to_owned() })
    }

    /// Where `location` leads from here; it may be a path alone.
    pub(crate) fn join(&self, location: &str) -> Option<Self> {
        match location.strip_prefix('/') {
            Some(rest) if rest.starts_with('/') => {
                Self::parse(&format!("{}:{location}", if self.secure { "https" } else { "http" }))
            }
            Some(_) => Some(Self { path: location.to_owned(), ..self.clone() }),
            None => Self::parse(location),
        }
    }

    /// Its host, unless it is a bare address.
    pub(crate) fn host(&self) -> Option<&str> {
        match &self.place {
            Place::Host(host) => Some(host),
            Place::Address(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(target: Option<Target>) -> String {
        target
            .map_or_else(|| "none".into(), |t| format!("{} {:?} {:?} {}", t.secure, t.place, t.port, t.path))
    }

    #[test]
    fn addresses_are_cut_to_what_a_visit_needs() {
        for (text, want) in [
            ("https://WWW.Onswick.example./a?b=c", "true Host(\"www.onswick.example\") None /a?b=c"),
            ("http://onswick.example:8080", "false Host(\"onswick.example\") Some(8080) /"),
            ("http://169.254.169.254/latest", "false Address(169.254.169.254) None /latest"),
            ("https://[::ffff:10.0.0.1]/", "true Address(::ffff:10.0.0.1) None /"),
            ("ftp://onswick.example/", "none"),
            ("not an address", "none"),
        ] {
            assert_eq!(shown(Target::parse(text)), want, "{text}");
        }
    }

    #[test]
    fn a_location_may_be_relative() {
        let at = Target::parse("http://onswick.example/a").expect("an address");
        assert_eq!(shown(at.join("/b")), "false Host(\"onswick.example\") None /b");
        assert_eq!(shown(at.join("//www.onswick.example/c")), "false Host(\"www.onswick.example\") None /c");
        assert_eq!(shown(at.join("https://onswick.example/d")), "true Host(\"onswick.example\") None /d");
    }
}
