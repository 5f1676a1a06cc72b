//! Packets, and exact sets of the values their fields can take.

mod address;
mod hardware;
mod icmp;
mod names;
mod nested;
mod packet;
mod ports;
mod protocol;
mod ranges;
mod region;
mod relation;
mod source_ports;
mod special;
mod traffic;

pub(crate) use address::address_range;
pub use address::{AddressSet, Block, BlockError, RangeError, closest};
pub use hardware::HardwareAddress;
pub(crate) use icmp::ICMP_KINDS;
pub use icmp::{IcmpKind, icmp_kinds};
pub use names::NameSet;
pub use nested::{Nested, nested_words};
pub use packet::{ConnectionState, Direction, Family, Packet, StateSet, Tracking, Transport};
pub use ports::{ByProtocol, PortProtocol};
pub(crate) use protocol::IGMP;
pub use protocol::{ICMP, ICMPV6, TCP, UDP};
pub use ranges::{Point, RangeSet};
pub use region::{Piece, join, without};
pub use relation::{Relation, RelationSet};
pub use source_ports::SourcePorts;
pub use special::{loopback, to_many};
pub use traffic::TrafficSet;
