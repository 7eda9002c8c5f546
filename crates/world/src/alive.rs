//! Whether a name server is there.

use std::net::SocketAddr;

use hickory_proto::op::ResponseCode;
use hickory_proto::rr::RecordType;

use crate::update::ask;

/// Whether a server answers for a zone: an authoritative server with its SOA record,
/// a resolver in any way.
pub(crate) async fn replies_about(address: SocketAddr, zone: &str) -> bool {
    let Ok(message) = ask(address, zone, RecordType::SOA).await else { return false };
    let has_zone = message.answers().iter().any(|record| record.record_type() == RecordType::SOA);
    has_zone || message.recursion_available()
}

/// Whether a name server answers at all.
pub(crate) async fn answers(address: SocketAddr) -> bool {
    let asked = ask(address, "example", RecordType::SOA).await;
    asked.is_ok_and(|m| m.response_code() == ResponseCode::NoError)
}

/// Whether a name server says anything, be it that it has no such zone.
pub(crate) async fn replies(address: SocketAddr) -> bool {
    ask(address, "example", RecordType::SOA).await.is_ok()
}
