//! What the record's sets are called, and where the parts of their keys stand.

use super::super::names::TABLE;
use tipstaff_core::plan::{Kind, RuleId};
use tipstaff_core::policy::Record;
use tipstaff_core::program::End;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Expression, Set, registers, set_flags};

/// The set of who came: how often, and by the time that is left, when last.
pub(crate) const CALLERS: &str = "callers";
/// The set that says, by the time that is left, when they came first.
pub(crate) const FIRST: &str = "callers-first";
/// The set of those who have had as many entries as one can have.
pub(crate) const CROWDED: &str = "callers-crowded";
/// The set with the numbers of decisions.
pub(crate) const DECISIONS: &str = "decisions";
/// With this begin the names of the record's chains.
pub(crate) const PREFIX: &str = "record/";

/// How many entries there can be at a time.
pub const MOST: usize = 65_536;
/// How many entries one IPv4 address, or one IPv6 network of 48 bits, can have.
pub(crate) const OF_ONE: u32 = 1_024;
/// So many senders beyond those known are looked at in a second, once as many as there is room for were: whoever
/// invents senders makes nothing slow.
pub(crate) const NEW_A_SECOND: u64 = 1_000;

/// The registers of a key, each of four bytes: the IP version, the protocol, the port (of ICMP, type and code),
/// the decision's number, and an address of 16 bytes, of which IPv4 takes the first four.
pub(crate) const KIND: u32 = registers::FIRST;
pub(crate) const PROTOCOL: u32 = registers::FIRST_WORD + 1;
pub(crate) const PORT: u32 = registers::FIRST_WORD + 2;
pub(crate) const DECISION: u32 = registers::FIRST_WORD + 3;
/// Of 16 bytes each, as the kernel names them.
pub(crate) const ADDRESS: u32 = registers::FIRST + 1;
/// How many bytes a key has.
pub(crate) const KEY: u32 = 32;
/// The registers for the first 64 bits of an address, of which 48 are kept.
pub(crate) const GROUP: u32 = registers::FIRST + 2;
/// How many bytes these have.
pub(crate) const GROUP_KEY: u32 = 8;

/// What stands for the protocol where several of a sender's are counted together: more than a protocol's
/// number can be. Of an IPv6 address, its network of 64 bits is one.
pub(crate) const SEVERAL: [u8; 4] = [0, 1, 0, 0];
/// Likewise, of an IPv6 address its network of 48 bits.
pub(crate) const SEVERAL_OF_MANY: [u8; 4] = [0, 2, 0, 0];

/// A rule's expressions.
pub(super) type Steps = Vec<Expression>;

/// A set of the record, with its number in the batch that makes it.
#[derive(Clone, Copy, Default)]
pub(crate) struct Place {
    pub callers: u32,
    pub first: u32,
    pub crowded: u32,
    /// Of the limiters of reports: of IPv4 senders, of IPv6 ones, and of all together.
    pub reports: [u32; 3],
}

impl Place {
    /// The sets, to be made.
    pub(crate) fn sets(self, record: Record) -> [Set; 3] {
        let set = |name: &str, id, key_length, counted| Set {
            table: TABLE.into(),
            name: name.into(),
            flags: set_flags::DYNAMIC | set_flags::TIMEOUT,
            key_length,
            id,
            size: u32::try_from(MOST).ok(),
            timeout: Some(u64::from(record.keeps) * 1_000),
            counted,
            ..Set::default()
        };
        [
            set(CALLERS, self.callers, KEY, true),
            set(FIRST, self.first, KEY, false),
            set(CROWDED, self.crowded, GROUP_KEY, false),
        ]
    }
}

/// For how long the kernel remembers, in seconds, by the set of those who came.
pub(crate) fn keeps(sets: &[Set]) -> Option<u32> {
    let callers = sets.iter().find(|it| it.table == TABLE && it.name == CALLERS)?;
    u32::try_from(callers.timeout? / 1_000).ok()
}

/// Which end of packets of a direction is the other one: who came, or whom this machine went to.
pub(crate) fn end(direction: Direction) -> End {
    match direction {
        Direction::Outbound => End::Destination,
        Direction::Inbound | Direction::Forwarded => End::Source,
    }
}

/// The word for it in names of chains.
pub(super) fn word(end: End) -> &'static str {
    match end {
        End::Source => "sender",
        End::Destination => "receiver",
    }
}

/// Whether what a decision admits is remembered, where that is wanted: what begins a connection, and not
/// the packets that keep the network going.
pub(crate) fn is_recorded(id: &RuleId) -> bool {
    id.kind != Kind::Baseline || id.name == "ping"
}
