//! Real packets: what they meet, and how that was seen.

mod connect;
mod crafted;
mod echo;
mod overhear;
mod sweep;

pub use connect::{Attempt, Observation, State, attempt};
pub use crafted::{Account, Fate, Range, Shot};
pub use echo::echo;
pub use overhear::Overhearing;
pub use sweep::{Ends, Met, Sweep};
use tipstaff_core::space::PortProtocol;
pub use tipstaff_wire::packet::Payload;

/// The control bit of the segment that opens a TCP connection (RFC 9293 section 3.1).
const SYN: u8 = 2;

/// The first packet of a client.
#[must_use]
pub fn first_packet(protocol: PortProtocol, source: u16, destination: u16) -> Payload {
    match protocol {
        PortProtocol::Tcp => Payload::Tcp { source, destination, flags: SYN },
        PortProtocol::Udp => Payload::Udp { source, destination },
        PortProtocol::Sctp => Payload::Sctp { source, destination },
    }
}
