//! Ways to get a sheet wrong, one file for each, named like the finding that it
//! leads to.

mod address_foreign;
mod address_partial;
mod address_surplus;
mod caa_forbids;
mod choices_mixed;
mod cname_at_apex;
mod cname_beside_others;
mod cname_chain_broken;
mod cname_foreign;
mod delegated_away;
mod delegation_mismatch;
mod dnssec_broken;
mod forwarding_elsewhere;
mod fronted;
mod host_doubled;
mod https_record_stray;
mod ipv6_stray;
mod mail_at_risk;
mod mail_lost;
mod name_unregistered;
mod server_lame;
mod servers_disagree;
mod token_altered;
mod token_misplaced;
mod unreachable;
mod value_doubled;
mod wildcard_answers;
mod wrong_type;

use std::net::Ipv4Addr;

use anyhow::ensure;

use crate::customer::Right;
use crate::zones::Change;

nomenta_core::spelled! {
    /// A way to get it wrong.
    pub enum Mistake: "mistake" {
        /// Types the zone into the name box, which the editor appends anyway.
        HostDoubled = "host-doubled",
        /// Leaves the final dot out of a target, so that the editor appends the zone.
        ValueDoubled = "value-doubled",
        /// Copies the token without its end.
        TokenAltered = "token-altered",
        /// Publishes the token at a name without its underscore.
        TokenMisplaced = "token-misplaced",
        /// Publishes the target as text.
        WrongType = "wrong-type",
        /// Lets the registrar forward the host to somewhere else.
        ForwardingElsewhere = "forwarding-elsewhere",
        /// Leads the host through a proxy that passes visitors on.
        Fronted = "fronted",
        /// Leaves the host at the address of the former host.
        AddressForeign = "address-foreign",
        /// Keeps the address of the former host beside the new ones.
        AddressSurplus = "address-surplus",
        /// Publishes some of the addresses only.
        AddressPartial = "address-partial",
        /// Leaves an IPv6 address behind that leads elsewhere.
        Ipv6Stray = "ipv6-stray",
        /// Leads the host to a name of the former host.
        CnameForeign = "cname-foreign",
        /// Leaves text where the CNAME has to stand.
        CnameBesideOthers = "cname-beside-others",
        /// Uses an operator that publishes a CNAME in the place of the zone itself.
        CnameAtApex = "cname-at-apex",
        /// Leads the host to a name that is gone.
        CnameChainBroken = "cname-chain-broken",
        /// Changes one of the two name servers and keeps the other.
        ChoicesMixed = "choices-mixed",
        /// Publishes a wildcard in the place of the host.
        WildcardAnswers = "wildcard-answers",
        /// Has the name cut away into a zone of its own elsewhere.
        DelegatedAway = "delegated-away",
        /// Leaves an HTTPS record behind whose hints lead elsewhere.
        HttpsRecordStray = "https-record-stray",
        /// Has mail at the host, which a CNAME would take away.
        MailAtRisk = "mail-at-risk",
        /// Deletes the mail records along with the others.
        MailLost = "mail-lost",
        /// Lets another certification authority alone issue.
        CaaForbids = "caa-forbids",
        /// Has let the registration run out.
        NameUnregistered = "name-unregistered",
        /// Has the zone delegated to a server that is gone.
        Unreachable = "unreachable",
        /// Names a server that does not serve the zone.
        ServerLame = "server-lame",
        /// Has a server that is behind the other.
        ServersDisagree = "servers-disagree",
        /// Has other servers at the registry than in the zone.
        DelegationMismatch = "delegation-mismatch",
        /// Has a signature announced at the registry that the zone does not have.
        DnssecBroken = "dnssec-broken",
    }
}

impl Mistake {
    pub(super) fn slip(self) -> Slip {
        match self {
            Self::HostDoubled => host_doubled::SLIP,
            Self::ValueDoubled => value_doubled::SLIP,
            Self::TokenAltered => token_altered::SLIP,
            Self::TokenMisplaced => token_misplaced::SLIP,
            Self::WrongType => wrong_type::SLIP,
            Self::ForwardingElsewhere => forwarding_elsewhere::SLIP,
            Self::Fronted => fronted::SLIP,
            Self::AddressForeign => address_foreign::SLIP,
            Self::AddressSurplus => address_surplus::SLIP,
            Self::AddressPartial => address_partial::SLIP,
            Self::Ipv6Stray => ipv6_stray::SLIP,
            Self::CnameForeign => cname_foreign::SLIP,
            Self::CnameBesideOthers => cname_beside_others::SLIP,
            Self::CnameAtApex => cname_at_apex::SLIP,
            Self::CnameChainBroken => cname_chain_broken::SLIP,
            Self::ChoicesMixed => choices_mixed::SLIP,
            Self::WildcardAnswers => wildcard_answers::SLIP,
            Self::DelegatedAway => delegated_away::SLIP,
            Self::HttpsRecordStray => https_record_stray::SLIP,
            Self::MailAtRisk => mail_at_risk::SLIP,
            Self::MailLost => mail_lost::SLIP,
            Self::CaaForbids => caa_forbids::SLIP,
            Self::NameUnregistered => name_unregistered::SLIP,
            Self::Unreachable => unreachable::SLIP,
            Self::ServerLame => server_lame::SLIP,
            Self::ServersDisagree => servers_disagree::SLIP,
            Self::DelegationMismatch => delegation_mismatch::SLIP,
            Self::DnssecBroken => dnssec_broken::SLIP,
        }
    }
}

/// How a mistake is made.
#[derive(Clone, Copy)]
pub(super) struct Slip {
    /// Where it can be made.
    pub place: Place,
    /// What is published instead of what the sheet says.
    pub records: fn(&Right<'_>) -> anyhow::Result<Vec<Change>>,
    /// Who serves the zone afterwards.
    pub serving: fn(&str) -> Serving,
}

/// Where in a zone a mistake can be made.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    Anywhere,
    Apex,
    Subdomain,
}

impl Place {
    /// Refuses a mistake that the sheet has no place for.
    pub(super) fn admit(self, mistake: Mistake, is_apex: bool) -> anyhow::Result<()> {
        ensure!(self != Self::Apex || is_apex, "The mistake {mistake} can be made at an apex only");
        ensure!(self != Self::Subdomain || !is_apex, "The mistake {mistake} can be made at a subdomain only");
        Ok(())
    }
}

/// Who serves a zone, in the zone itself and at the registry.
pub(super) enum Serving {
    /// The operator that it is with.
    Own,
    /// These servers.
    At(Vec<(String, Ipv4Addr)>),
    /// Nobody; the registry names these.
    Delegated(Vec<(String, Ipv4Addr)>),
    /// Its operator, but the registry names these.
    Otherwise(Vec<(String, Ipv4Addr)>),
    /// Its operator, but for the host, which has a zone of its own elsewhere.
    CutAway,
    /// Its operator, with a signature announced at the registry.
    Signed,
}

impl Serving {
    fn by_its_own(_zone: &str) -> Self {
        Self::Own
    }
}
