//! Packets, and exact sets of the values their fields can take.

mod address;
mod packet;
mod ranges;
mod traffic;

pub use address::{AddressSet, Block, BlockError, closest};
pub use packet::{ConnectionState, Direction, Family, Packet, StateSet, Transport};
pub use ranges::{Point, RangeSet};
pub use traffic::{ICMP, ICMPV6, IGMP, TCP, TrafficSet, UDP};
