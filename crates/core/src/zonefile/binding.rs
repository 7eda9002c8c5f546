//! Service bindings and their parameters (RFC 9460).

use std::net::IpAddr;

use super::fault::Fault;
use super::lines::Token;
use super::values::Words;
use crate::reading::record::RecordData;

/// Parameters of a service binding that hold addresses, and whether of IPv4.
const HINTS: [(&str, bool); 2] = [("ipv4hint", true), ("ipv6hint", false)];
/// Parameters of a service binding (RFC 9460, section 14.3.2, and later).
const KEYS: [&str; 9] =
    ["mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ech", "ipv6hint", "dohpath", "ohttp"];

impl Words<'_> {
    /// Priority, target and, of the parameters, the address hints (RFC 9460,
    /// section 2.1).
    pub(super) fn https(&self) -> Result<RecordData, Fault> {
        let [priority, target, rest @ ..] = self.tokens else {
            return Err(self.nothing("a priority and a target"));
        };
        let priority = self.number(priority, "a priority")?;
        let target = self.name(target)?;

        let mut hints: Vec<IpAddr> = Vec::new();
        let mut keys = Vec::new();
        let mut needed = Vec::new();
        for Param { key, value } in params(rest) {
            if !is_key(key) || keys.contains(&key) {
                return Err(self.unfit("parameters that are known, each once", key));
            }
            keys.push(key);
            if key == "port" && value.parse::<u16>().is_err() {
                return Err(self.unfit("a port from 0 to 65535", value));
            }
            if key == "mandatory" {
                needed.extend(value.split(','));
            }
            if key == "no-default-alpn" {
                needed.push("alpn");
            }
            if let Some((_, is_v4)) = HINTS.iter().find(|(own, _)| *own == key) {
                hints.extend(self.addresses(value, *is_v4)?);
            }
        }

        // Some parameters mean nothing without others (RFC 9460, sections 7.1 and 8).
        match needed.into_iter().find(|key| !keys.contains(key)) {
            Some(missing) => Err(self.unfit("the parameters that others need", missing)),
            None => Ok(RecordData::Https { priority, target, hints }),
        }
    }

    fn addresses(&self, list: &str, is_v4: bool) -> Result<Vec<IpAddr>, Fault> {
        let addresses: Result<Vec<IpAddr>, _> = list.split(',').map(str::parse).collect();
        let fits = addresses.ok().filter(|all| all.iter().all(|one| one.is_ipv4() == is_v4));
        fits.ok_or_else(|| self.unfit("addresses of one family as hints", list))
    }
}

/// One parameter of a service binding.
struct Param<'a> {
    key: &'a str,
    value: &'a str,
}

/// The parameters of a service binding; a quoted value follows its key at once.
fn params<'a>(tokens: &'a [Token<'a>]) -> Vec<Param<'a>> {
    let mut params: Vec<Param<'a>> = Vec::new();
    for (index, token) in tokens.iter().enumerate() {
        let before = index.checked_sub(1).and_then(|before| tokens.get(before));
        let is_glued =
            before.is_some_and(|before| before.span.end == token.span.start && before.raw.ends_with('='));
        match (params.last_mut(), token.raw.split_once('=')) {
            (Some(param), _) if token.quoted && is_glued => param.value = token.raw,
            (_, Some((key, value))) if !token.quoted => params.push(Param { key, value }),
            _ => params.push(Param { key: token.raw, value: "" }),
        }
    }
    params
}

/// Whether a parameter has a name that the registry knows, or its number (RFC
/// 9460, sections 2.1 and 14.3).
fn is_key(key: &str) -> bool {
    let number = key.strip_prefix("key").and_then(|number| number.parse::<u16>().ok());
    number.is_some() || KEYS.contains(&key)
}
