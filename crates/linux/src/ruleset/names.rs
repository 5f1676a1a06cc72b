//! What writing our table and reading it must agree on.

use tipstaff_core::plan::RuleId;
use tipstaff_core::space::{ConnectionState, Direction, Family};
use tipstaff_wire::nf_tables::{Hook, Rule, STATE_BITS};

/// The name of our table.
pub const TABLE: &str = "tipstaff";

/// So begin the names of the tables by which decisions are watched; each who watches has one.
pub(crate) const WATCH_TABLES: &str = "tipstaff-watch/";

/// The group to which packets are reported that a rule is to log.
pub const LOG_GROUP: u16 = 8_484;
/// So many bytes of a reported packet: its headers, and a little of what they carry.
pub(crate) const LOGGED_BYTES: u32 = 256;
/// Interface names are compared whole, padded with NUL (`IFNAMSIZ`).
pub(crate) const INTERFACE_NAME: usize = 16;
/// The first byte of user data: the version of what follows.
pub(crate) const USER_DATA_VERSION: u8 = 1;
/// How many places those share for which there is no room.
pub(crate) const CROWDS: u32 = 16_384;
/// `NFT_LOOKUP_F_INV`.
pub(crate) const NOT_IN: u32 = 1;

/// The set with the networks of an IP version that this machine is on.
pub(crate) fn links(family: Family) -> &'static str {
    match family {
        Family::V4 => "on-link-v4",
        Family::V6 => "on-link-v6",
    }
}

pub(super) fn user_data(text: &str) -> Vec<u8> {
    let mut data = vec![USER_DATA_VERSION];
    data.extend_from_slice(text.as_bytes());
    data
}

/// The hook at which packets of a direction can be decided.
pub(crate) fn hook_number(direction: Direction) -> u32 {
    match direction {
        Direction::Inbound => Hook::LOCAL_IN,
        Direction::Outbound => Hook::LOCAL_OUT,
        Direction::Forwarded => Hook::FORWARD,
    }
}

/// The names of our chains begin with the direction of the packets that come there.
pub(crate) fn direction_of(chain: &str) -> Option<Direction> {
    Direction::parse(chain.split('/').next().unwrap_or_default())
}

/// The kernel's bits for a set of states, in the order of [`ConnectionState::ALL`]'s meaning.
pub(crate) fn state_bit(state: ConnectionState) -> u32 {
    let [invalid, established, related, new, untracked] = STATE_BITS;
    match state {
        ConnectionState::New => new,
        ConnectionState::Established => established,
        ConnectionState::Related => related,
        ConnectionState::Invalid => invalid,
        ConnectionState::Untracked => untracked,
    }
}

/// An interface name as the kernel compares it.
pub(crate) fn interface_key(name: &str) -> Vec<u8> {
    let mut key = name.as_bytes().to_vec();
    key.resize(INTERFACE_NAME, 0);
    key
}

/// The text in user data of ours.
pub(super) fn text_of(user_data: &[u8]) -> Option<&str> {
    let (version, text) = user_data.split_first()?;
    (*version == USER_DATA_VERSION).then(|| std::str::from_utf8(text).ok())?
}

/// The decision that a rule of ours serves.
pub(crate) fn named(rule: &Rule) -> Option<RuleId> {
    text_of(&rule.user_data).filter(|it| !it.is_empty()).map(RuleId::parse)
}
