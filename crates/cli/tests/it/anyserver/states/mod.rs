//! States that zones and their servers are found in, and what is to be said of
//! each: judged by hand before anything was run.

mod beyond;
mod caa;
mod octets;
mod routing;
mod servers;
mod tokens;

use nomenta_core::judge::code::Code;
use nomenta_world::stub::Habit;

/// Who serves a zone.
#[derive(Clone, Copy, Debug)]
pub(super) enum At {
    /// The DNS operator's two servers.
    Operator,
    /// A server with a habit, alone.
    Stub(Habit),
    /// The operator's first server, and one with a habit.
    Beside(Habit),
    /// A name server of this name alone.
    Named(&'static str),
    /// The operator's first server, and one of this name.
    AlsoNamed(&'static str),
}

/// What is known beside the zone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Known {
    Nothing,
    /// There was mail when the domain was taken in.
    Mail,
    /// Plain HTTP is sent on to somewhere else.
    Forwarding,
}

/// One state, and what is to be said of it.
pub(super) struct State {
    pub name: &'static str,
    /// The host, relative to the zone.
    pub host: &'static str,
    pub at: At,
    /// Master file lines. `TOKEN`, `BARE` and `OLD` stand for the token with and
    /// without its start and for one from before; `CANONICAL` for where a CNAME
    /// is to lead; `ZONE` for the zone.
    pub zone: &'static [&'static str],
    pub want: &'static [Code],
    /// The same where resolvers are stricter: those that do not ask again without
    /// EDNS.
    pub strict: &'static [Code],
    pub known: Known,
}

const fn strict(state: State, strict: &'static [Code]) -> State {
    State { strict, ..state }
}

const fn state(
    name: &'static str,
    host: &'static str,
    at: At,
    zone: &'static [&'static str],
    want: &'static [Code],
) -> State {
    State { name, host, at, zone, want, strict: want, known: Known::Nothing }
}

const fn knowing(known: Known, state: State) -> State {
    State { known, ..state }
}

const APEX: &[&str] = &["_quaymark-challenge TXT TOKEN", "@ A 127.77.0.10", "@ A 127.77.0.11", "@ AAAA ::1"];
const WWW: &[&str] = &["_quaymark-challenge.www TXT TOKEN", "www CNAME CANONICAL"];

/// All of them, in an order that stays.
pub(super) fn all() -> impl Iterator<Item = &'static State> {
    [servers::STATES, tokens::STATES, routing::STATES, caa::STATES, octets::STATES, beyond::STATES]
        .into_iter()
        .flatten()
}
