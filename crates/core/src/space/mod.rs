//! Packets, and exact sets of the values their fields can take.

mod address;
mod hardware;
mod icmp;
mod names;
mod packet;
mod ports;
mod protocol;
mod ranges;
mod region;
mod traffic;

pub use address::{AddressSet, Block, BlockError, RangeError, address_range, closest};
pub use hardware::HardwareAddress;
pub use icmp::{ICMP_KINDS, IcmpKind};
pub use names::NameSet;
pub use packet::{ConnectionState, Direction, Family, Packet, StateSet, Tracking, Transport};
pub use ports::{ByProtocol, PortProtocol};
pub use protocol::{ICMP, ICMPV6, IGMP, TCP, UDP};
pub use ranges::{Point, RangeSet};
pub use region::{Piece, SourcePorts, join, without};
pub use traffic::TrafficSet;
