//! The packet filter's netlink protocol (linux/netfilter/nf_tables.h).

mod chain;
mod copy;
mod expression;
mod foreign;
pub mod message_kind;
mod names;
mod request;
mod rule;
mod set;
mod table;
mod trace;
mod verdict;

pub use chain::{Chain, Hook};
pub use copy::{Copied, KINDS, Kind};
pub use expression::{Expression, Limit};
pub use foreign::{ForeignElement, ForeignSet, foreign_elements};
pub use names::{
    Base, Compare, MetaKey, PROHIBITED, RejectKind, STATE_BITS, SocketKey, ct, fib, nat, registers,
};
pub use request::{Batch, BatchOutput, ask_generation, decode_generation, dump};
pub use rule::Rule;
pub use set::{Element, Set, decode_elements, set_flags};
pub use table::Table;
pub use trace::{Met, TRACE_GROUP, Trace};
pub use verdict::Verdict;

use crate::{Attribute, Attributes, Fields, WireError, Writer};

/// `NFPROTO_INET`: IPv4 and IPv6 together.
pub const FAMILY_INET: u8 = 1;
/// `NFPROTO_IPV4`.
pub const FAMILY_IPV4: u8 = 2;
/// `NFPROTO_NETDEV`.
pub const FAMILY_NETDEV: u8 = 5;
/// `NFPROTO_BRIDGE`.
pub const FAMILY_BRIDGE: u8 = 7;
/// `NFPROTO_IPV6`.
pub const FAMILY_IPV6: u8 = 10;

/// Writes the header of a message: `struct nfgenmsg`.
fn write_header(out: &mut Writer, family: u8, resource: u16) {
    out.raw(&[family, 0]);
    out.raw(&resource.to_be_bytes());
}

/// Reads `struct nfgenmsg`: the family, and the attributes behind it.
fn read_header<'a>(body: &'a [u8], what: &'static str) -> Result<(u8, Attributes<'a>), WireError> {
    let mut fields = Fields::new(body, "struct nfgenmsg");
    let family = fields.byte()?;
    fields.take(3)?;
    Ok((family, Attributes::new(fields.rest(), what)))
}

fn owned(attribute: &Attribute<'_>, what: &'static str) -> Result<String, WireError> {
    attribute.text(what).map(str::to_owned)
}
