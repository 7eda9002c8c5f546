//! Where the records of the chain of trust are asked for (RFC 4035).

use std::net::SocketAddr;

use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::survey::Authority;
use nomenta_core::reading::trust::{Signed, Trust};
use tokio::time::timeout_at;

use crate::Surveyor;
use crate::ask::{Ask, Got};
use crate::budget::Round;
use crate::signing::TrustRecord;
use crate::wire::Mode;

/// Servers that are asked for one part of the chain.
const ASKED: usize = 3;

impl Surveyor {
    /// What can be seen of the zone's chain of trust.
    pub(crate) async fn trust(&self, apex: &DnsName, servers: &[Authority], round: Round<'_>) -> Trust {
        let above = self.walker.above(apex);
        let (signers, keys, soa) = tokio::join!(
            self.trust_records(&above, apex, RecordType::Ds, round),
            self.trust_records(servers, apex, RecordType::Dnskey, round),
            self.trust_records(servers, apex, RecordType::Soa, round),
        );

        let mut trust = Trust { keys: keys.as_ref().map(|_| Vec::new()), ..Trust::default() };
        for record in [signers, keys, soa].into_iter().flatten().flatten() {
            match record {
                TrustRecord::Signer(signer) => trust.signers.push(signer),
                TrustRecord::Key(key) => trust.keys.get_or_insert_default().push(key),
                TrustRecord::Signature(signature) => trust.signatures.push(signature),
            }
        }
        trust
    }

    /// Whether the zone above vouches for keys of the zone.
    pub(crate) async fn signed(&self, apex: &DnsName, round: Round<'_>) -> Signed {
        let above = self.walker.above(apex);
        match self.trust_records(&above, apex, RecordType::Ds, round).await {
            None => Signed::Untold,
            Some(records) => {
                let is_signer = |record: &TrustRecord| matches!(record, TrustRecord::Signer(_));
                if records.iter().any(is_signer) { Signed::Signed } else { Signed::Unsigned }
            }
        }
    }

    /// What the first server that answers has of one type, with its signatures.
    async fn trust_records(
        &self,
        servers: &[Authority],
        apex: &DnsName,
        rtype: RecordType,
        round: Round<'_>,
    ) -> Option<Vec<TrustRecord>> {
        let admitted = servers.iter().filter(|server| self.config.egress.admits(server.address));
        let asks = admitted.take(ASKED).map(|server| {
            let at = SocketAddr::new(server.address, self.config.authority_port);
            Ask::new(at, apex, rtype, Mode::Signed)
        });

        let answers =
            timeout_at(round.deadline, self.exchange.ask_all(asks.collect(), round.budget)).await.ok()?;
        answers.into_iter().find_map(|(got, _)| match got {
            // A server of both zones may have no delegation from one to the other.
            Got::Reply(reply)
                if reply.authoritative && matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) =>
            {
                Some(reply.trust)
            }
            _ => None,
        })
    }
}
