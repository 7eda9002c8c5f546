//! DNS messages by TCP, each with its length before it (RFC 1035, section 4.2.2).

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// The next message; `None` where the other side ends.
pub(crate) async fn read(stream: &mut TcpStream) -> Option<Vec<u8>> {
    let length = stream.read_u16().await.ok()?;
    let mut message = vec![0; length.into()];
    stream.read_exact(&mut message).await.ok()?;
    Some(message)
}

/// Sends one; `None` where it cannot be sent.
pub(crate) async fn write(stream: &mut TcpStream, message: &[u8]) -> Option<()> {
    let length = u16::try_from(message.len()).ok()?;
    stream.write_all(&[&length.to_be_bytes(), message].concat()).await.ok()
}
