//! What writing our table and reading it must agree on.

use std::hash::Hasher;
use tipstaff_core::fnv::Fnv;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::{Taken, Time};
use tipstaff_core::space::{ConnectionState, Direction, Family};
use tipstaff_wire::nf_tables::{Element, Expression, Hook, Rule, STATE_BITS, Set};

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
/// `IP_CT_DIR_ORIGINAL` (linux/netfilter/nf_conntrack_tuple_common.h): the way in which a connection was made.
pub(crate) const AS_IT_BEGAN: u8 = 0;
/// `NFT_LOOKUP_F_INV`.
pub(crate) const NOT_IN: u32 = 1;

/// The set with the networks of an IP version that this machine is on.
pub(crate) fn links(family: Family) -> &'static str {
    match family {
        Family::V4 => "on-link-v4",
        Family::V6 => "on-link-v6",
    }
}

/// Behind the name of a set it makes the name of the one that takes its place.
pub(super) const OTHER: char = '~';

/// The name without that.
pub(super) fn plain(name: &str) -> &str {
    name.strip_suffix(OTHER).unwrap_or(name)
}

/// The part of a step that looks into a set: `set`, its name, or `id`, its number in the batch that makes it.
macro_rules! of_set {
    ($step:expr, $part:ident) => {{
        use tipstaff_wire::nf_tables::Expression as Step;
        match $step {
            Step::Lookup { $part, .. }
            | Step::Find { $part, .. }
            | Step::Dynset { $part, .. }
            | Step::DynsetCounts { $part, .. }
            | Step::DynsetAdds { $part, .. } => Some($part),
            _ => None,
        }
    }};
}
pub(super) use of_set;

/// The set that a step looks into.
pub(super) fn set_of(step: &Expression) -> Option<&str> {
    of_set!(step, set).map(String::as_str)
}

/// The counters of a rule, as packets and bytes.
pub(super) fn counters(steps: &mut [Expression]) -> impl Iterator<Item = (&mut u64, &mut u64)> {
    steps.iter_mut().filter_map(|it| match it {
        Expression::Counter { packets, bytes } => Some((packets, bytes)),
        _ => None,
    })
}

/// Leaves out what a rule has counted.
pub(super) fn forget_counts(steps: &mut [Expression]) {
    counters(steps).for_each(|(packets, bytes)| (*packets, *bytes) = (0, 0));
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

/// The set that says whose policy our table is. What a table itself says of that stays as long as the table does.
pub(super) const ABOUT: &str = "about";

pub(super) fn about_set() -> Set {
    Set { table: TABLE.into(), name: ABOUT.into(), key_length: 8, ..Set::default() }
}

/// What is in it.
pub(super) fn about(host: &str, taken: Option<&Taken>) -> Element {
    let user_data = of_itself(host, taken);
    let mut hasher = Fnv::default();
    hasher.write(&user_data);
    Element { user_data, ..Element::key(hasher.finish().to_ne_bytes().to_vec()) }
}

/// User data holds so many bytes (`NFT_USERDATA_MAXLEN`).
const MOST_DATA: usize = 256;

/// What our table says of itself: the host whose policy it is, and the posture that it is in.
fn of_itself(host: &str, taken: Option<&Taken>) -> Vec<u8> {
    let Some(Taken { name, since, until, why, then }) = taken else { return user_data(host) };
    let until = until.map(|it| it.seconds().to_string()).unwrap_or_default();
    // What is behind it has no end.
    let then = match then {
        Some(then) => format!("{}\n{}", then.name, then.since.seconds()),
        None => "\n".to_owned(),
    };
    let mut text = format!("{host}\n{name}\n{}\n{until}\n{then}\n", since.seconds());
    // The reason is for readers, and gives way.
    let room = (MOST_DATA - 1).saturating_sub(text.len());
    text.extend(
        why.char_indices().take_while(|(at, it)| at + it.len_utf8() <= room).map(|it| it.1),
    );
    user_data(&text)
}

/// Reads that.
pub(super) fn read_about(data: &[u8]) -> (String, Option<Taken>) {
    let text = text_of(data).unwrap_or_default();
    let mut parts = text.splitn(7, '\n');
    let host = parts.next().unwrap_or_default().to_owned();
    let time = |it: &str| it.parse().ok().map(Time::from_seconds);
    let mut taken = || {
        let [name, since, until, then, then_since, why] = [(); 6].map(|()| parts.next());
        let (until, then) = (until?, then?);
        let behind = Taken {
            name: then.to_owned(),
            since: time(then_since?).unwrap_or(Time::from_seconds(0)),
            until: None,
            why: String::new(),
            then: None,
        };
        Some(Taken {
            name: name?.to_owned(),
            since: time(since?)?,
            until: if until.is_empty() { None } else { Some(time(until)?) },
            why: why?.to_owned(),
            then: (!then.is_empty()).then(|| Box::new(behind)),
        })
    };
    (host, taken())
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Whatever it is, the host is read back, and the posture but for the end of a long reason.
    #[test]
    fn a_table_says_whose_it_is_and_in_which_posture() {
        let taken = |until, why: &str| Taken {
            name: "sealed".into(),
            since: Time::from_seconds(1_800_000_000),
            until,
            why: why.into(),
            then: None,
        };
        assert_eq!(read_about(&of_itself("bench", None)), ("bench".into(), None));
        for until in [None, Some(Time::from_seconds(1_800_000_600))] {
            for why in ["", "at a café\nabroad"] {
                let taken = taken(until, why);
                assert_eq!(
                    read_about(&of_itself("bench", Some(&taken))),
                    ("bench".into(), Some(taken))
                );
            }
        }
        let long = of_itself(&"b".repeat(63), Some(&taken(None, &"é".repeat(300))));
        assert!(long.len() <= MOST_DATA);
        let (host, read) = read_about(&long);
        assert_eq!(host.len(), 63);
        let why = read.expect("a posture").why;
        assert!(why.len() > 150 && why.chars().all(|it| it == 'é'), "{why}");
        for damaged in ["bench\nsealed", "bench\nsealed\nsoon\n\n", "bench\nsealed\n1\nlate\n"] {
            assert_eq!(read_about(&user_data(damaged)), ("bench".into(), None));
        }
    }
}
