//! The codes of findings, each spelled once.

crate::spelled! {
    /// Code of a finding, stable for machines. What each means stands with its
    /// detector, in [`findings`](crate::judge::findings).
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Code: "finding" {
        /// The platform takes no claim of this name.
        NameReserved = "name-reserved",
        /// Nobody has registered the domain.
        NameUnregistered = "name-unregistered",
        /// The registry keeps the domain out of DNS.
        RegistrationOnHold = "registration-on-hold",
        /// The registration of the domain runs out.
        RegistrationExpiring = "registration-expiring",
        /// None of the zone's servers answers.
        Unreachable = "unreachable",
        /// A zone asks for more than one look may cost.
        SurveyCutShort = "survey-cut-short",
        /// Resolvers that check signatures refuse the zone.
        DnssecBroken = "dnssec-broken",
        /// A server turns EDNS away, and resolvers do not cope.
        EdnsRefused = "edns-refused",
        /// An answer does not fit a packet and is not to be had by TCP.
        TcpClosed = "tcp-closed",
        /// A DNAME record above makes whatever is read.
        DnameAbove = "dname-above",
        /// The name lies in a zone of its own, elsewhere.
        DelegatedAway = "delegated-away",
        /// The servers answer other questions, and fail at one.
        NameUnanswered = "name-unanswered",
        /// A listed name server does not serve the zone.
        ServerLame = "server-lame",
        /// By turns or by region, visitors are led elsewhere.
        AnswersVary = "answers-vary",
        /// Some of the zone's servers hold the records, others not.
        ServersDisagree = "servers-disagree",
        /// A full name was typed into a box that adds the zone.
        HostDoubled = "host-doubled",
        /// A token from before the last rotation is published.
        TokenSuperseded = "token-superseded",
        /// The right token at the wrong name.
        TokenMisplaced = "token-misplaced",
        /// A wildcard stands in for a record that is missing.
        WildcardAnswers = "wildcard-answers",
        /// Something stands at the challenge label that is not the token.
        TokenAltered = "token-altered",
        /// The right value in a record of the wrong type.
        WrongType = "wrong-type",
        /// The editor added the zone to a target.
        ValueDoubled = "value-doubled",
        /// A CNAME where the zone's own records stand.
        CnameAtApex = "cname-at-apex",
        /// Parts of two choices.
        ChoicesMixed = "choices-mixed",
        /// Registry and zone list different name servers.
        DelegationMismatch = "delegation-mismatch",
        /// Other records stand where the CNAME goes.
        CnameBesideOthers = "cname-beside-others",
        /// A proxy in front passes visitors on.
        Fronted = "fronted",
        /// The alias leads to a name without an address.
        CnameChainBroken = "cname-chain-broken",
        /// The name is an alias of somebody else's host.
        CnameForeign = "cname-foreign",
        /// Web forwarding sends visitors away.
        ForwardingElsewhere = "forwarding-elsewhere",
        /// Every address is somebody else's.
        AddressForeign = "address-foreign",
        /// Ours are there, and others beside them.
        AddressSurplus = "address-surplus",
        /// Some of our addresses are missing.
        AddressPartial = "address-partial",
        /// The IPv6 side is not ours.
        Ipv6Stray = "ipv6-stray",
        /// An HTTPS record leads browsers elsewhere.
        HttpsRecordStray = "https-record-stray",
        /// The name takes mail, which a CNAME would end.
        MailAtRisk = "mail-at-risk",
        /// Mail records of the baseline are gone.
        MailLost = "mail-lost",
        /// A CAA record lets only others issue.
        CaaForbids = "caa-forbids",
        /// Nobody answers whether CAA records forbid it.
        CaaUnreadable = "caa-unreadable",
        /// What the CA would fetch does not arrive.
        ChallengeBlocked = "challenge-blocked",
        /// Orders wait for the CA or the budget.
        IssuerThrottled = "issuer-throttled",
        /// The CA turned the order down.
        IssuerRefused = "issuer-refused",
        /// A certificate runs out, and nothing has replaced it.
        CertificateExpiring = "certificate-expiring",
        /// Visitors get another certificate than ours.
        CertificateForeign = "certificate-foreign",
        /// Search engines may list the default host.
        DefaultHostListed = "default-host-listed",
        /// Nothing has moved for long.
        Stalled = "stalled",
        /// One of a pair is not begun.
        PairIncomplete = "pair-incomplete",
        /// Two claims of one name are proved.
        ClaimedTwice = "claimed-twice",
        /// The name lies inside one that another account holds.
        InsideHeldName = "inside-held-name",
        /// The account has more domains than its plan grants.
        AllowanceReached = "allowance-reached",
        /// Records still lead to the platform after the domain has left.
        LeftBehind = "left-behind",
    }
}

impl Code {
    /// What tells of domains of other accounts: whoever sees the domains of one account alone learns
    /// of none.
    pub const OF_OTHERS: [Self; 1] = [Self::InsideHeldName];

    /// Whether it tells of domains of other accounts.
    pub fn is_of_others(self) -> bool {
        Self::OF_OTHERS.contains(&self)
    }

    /// Whether what mends it changes what stands at the names of the sheet's lines, so that a look
    /// that reads no more than those sees it.
    pub(crate) fn is_mended_at_its_lines(self) -> bool {
        matches!(
            self,
            Self::AddressForeign
                | Self::AddressPartial
                | Self::AddressSurplus
                | Self::ChoicesMixed
                | Self::CnameAtApex
                | Self::CnameBesideOthers
                | Self::CnameChainBroken
                | Self::CnameForeign
                | Self::DnameAbove
                | Self::ForwardingElsewhere
                | Self::Fronted
                | Self::HostDoubled
                | Self::Ipv6Stray
                | Self::MailAtRisk
                | Self::ServersDisagree
                | Self::Stalled
                | Self::TokenAltered
                | Self::TokenMisplaced
                | Self::TokenSuperseded
                | Self::ValueDoubled
                | Self::WildcardAnswers
                | Self::WrongType
        )
    }
}
