//! The entries of the record: who came for what, how often, first and last.

use super::super::ledger::{Ledger, send};
use super::super::names::TABLE;
use super::decisions::{self, Decided, Decisions};
use super::form::WITH_PORTS;
use super::known::keeps;
use super::layout::{
    ADDRESS, CALLERS, DECISION, DECISIONS, FIRST, KEY, KIND, MOST, PORT, PREFIX, PROTOCOL, Place,
    SEVERAL, SEVERAL_OF_MANY,
};
use crate::LinuxError;
use crate::transport::{Transport, dump};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Record;
use tipstaff_core::space::{Direction, ICMP, ICMPV6};
use tipstaff_wire::nf_tables::{
    self as nf, Batch, Element, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, decode_elements,
    message_kind, registers,
};

const READING: &str = "read who came";

/// The other end of packets: who sent them to this machine or through it, or whom this machine sent them to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Who {
    /// One address.
    Address(IpAddr),
    /// Several of a network, by its first address and prefix length: of one network are no more than 1,024
    /// entries kept apart.
    Network(IpAddr, u8),
}

/// What packets were for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Wanted {
    /// The protocol's number, and the port that they went to.
    Port(u8, u16),
    /// ICMP or ICMPv6, by number, with the type of message and its code.
    Icmp(u8, u8, u8),
    /// A protocol without ports, or one whose ports could not be seen.
    Protocol(u8),
    /// More than are kept apart.
    Several,
}

/// One entry: packets of one sender that were for one thing, and fared alike by one decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Caller {
    /// The direction of the packets.
    pub direction: Direction,
    /// What decided them.
    pub decision: RuleId,
    /// Whether they were admitted.
    pub admitted: bool,
    /// Who it was.
    pub who: Who,
    /// What it wanted.
    pub wanted: Wanted,
    /// How many packets; of a connection that is admitted the first only.
    pub count: u64,
    /// How many milliseconds ago the first came; `None`: longer ago than is remembered, or not asked.
    pub first: Option<u64>,
    /// How many milliseconds ago the last came.
    pub last: u64,
}

/// What the kernel remembers.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Callers {
    /// The entries, in no order.
    pub list: Vec<Caller>,
    /// For how many seconds after they came last.
    pub keeps: u32,
    /// Whether also what is admitted is remembered.
    pub admitted: bool,
    /// Packets for which there was no room.
    pub no_room: u64,
}

/// Reads what the kernel remembers; `None` if it is to remember nothing.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn read(transport: &mut dyn Transport) -> Result<Option<Callers>, LinuxError> {
    let sets: Vec<nf::Set> = dump(
        transport,
        READING,
        |sequence| nf::dump(message_kind::GET_SET, FAMILY_INET, sequence, |_| {}),
        nf::Set::decode,
    )?;
    let Some(keeps) = keeps(&sets) else { return Ok(None) };
    let (callers, first) = (elements(transport, CALLERS)?, elements(transport, FIRST)?);
    let numbers = elements(transport, DECISIONS)?;
    let age = |it: &Element| (u64::from(keeps) * 1_000).saturating_sub(it.expires.unwrap_or(0));
    let first: HashMap<&[u8], u64> = first.iter().map(|it| (&it.key[..], age(it))).collect();
    let decisions = decisions::read(&numbers);
    let one = |it: &Element| {
        let key = Key::parse(&it.key)?;
        let Decided { direction, id, admitted } = decisions.get(&key.decision)?.clone();
        let counted = it.count.unwrap_or_default();
        Some(Caller {
            direction,
            decision: id,
            admitted,
            who: key.who,
            wanted: key.wanted,
            count: key.count(counted.0),
            first: first.get(&it.key[..]).copied().filter(|_| key.wanted != Wanted::Several),
            last: age(it),
        })
    };
    Ok(Some(Callers {
        list: callers.iter().filter_map(one).collect(),
        keeps,
        admitted: decisions::remembers_admitted(&numbers),
        no_room: no_room(transport)?,
    }))
}

/// Has the kernel remember again who came before it was started: what it remembers by now goes first.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub(crate) fn remind(transport: &mut dyn Transport, before: &Callers) -> Result<(), LinuxError> {
    let Some(now) = read(transport)? else { return Ok(()) };
    let record = Record { admitted: now.admitted, keeps: now.keeps };
    let known = decisions::read(&elements(transport, DECISIONS)?);
    let mut numbers = Decisions::of(&known);
    let (had, key) = (known.len(), |it: &Caller| {
        (it.direction, it.decision.clone(), it.admitted, it.who, it.wanted)
    });
    let there: HashSet<_> = now.list.iter().map(key).collect();
    let mut list: Vec<Caller> = before.list.clone();
    list.retain(|it| !there.contains(&key(it)));
    list.sort_by_key(|it| it.last);
    list.truncate((MOST as usize).saturating_sub(now.list.len()));
    let (seen, first, _) = carry(&Callers { list, ..before.clone() }, record, &mut numbers);
    let mut batch = Batch::begin(transport.next_sequence());
    let (set, all) = numbers.set(0, record);
    // The first one says what is remembered.
    batch.new_elements(&set, all.get(had + 1..).unwrap_or_default());
    let [callers, firsts, _] = Place::default().sets(record);
    batch.new_elements(&callers, &seen);
    batch.new_elements(&firsts, &first);
    send(transport, "remember who came", batch, &Ledger::default())
}

fn elements(transport: &mut dyn Transport, name: &str) -> Result<Vec<Element>, LinuxError> {
    let set = nf::Set { table: TABLE.into(), name: name.into(), ..nf::Set::default() };
    let chunks = dump(
        transport,
        READING,
        |sequence| {
            nf::dump(message_kind::GET_ELEMENTS, FAMILY_INET, sequence, |out| {
                set.write_request(out);
            })
        },
        |body| decode_elements(body).map(|it| it.1),
    )?;
    Ok(chunks.into_iter().flatten().collect())
}

/// What the rules have counted that were for those without room.
fn no_room(transport: &mut dyn Transport) -> Result<u64, LinuxError> {
    let rules: Vec<nf::Rule> = dump(
        transport,
        READING,
        |sequence| {
            let only_ours = nf::Rule { table: TABLE.into(), ..nf::Rule::default() };
            nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| {
                only_ours.write_table(out);
            })
        },
        nf::Rule::decode,
    )?;
    let of_record = |it: &&nf::Rule| it.table == TABLE && it.chain.starts_with(PREFIX);
    let mut all = 0;
    for step in rules.iter().filter(of_record).flat_map(|it| &it.expressions) {
        if let Expression::Counter { packets, .. } = step {
            all += packets;
        }
    }
    Ok(all)
}

/// The elements by which the kernel goes on remembering: of those who came, and of when they came first. Where
/// there are more than it has room for, the last ones are kept; gives also how many were not.
pub(crate) fn carry(
    callers: &Callers,
    record: Record,
    numbers: &mut Decisions,
) -> (Vec<Element>, Vec<Element>, u64) {
    let keeps = u64::from(record.keeps) * 1_000;
    let mut left: Vec<&Caller> = callers.list.iter().filter(|it| it.last < keeps).collect();
    left.sort_by_key(|it| it.last);
    let room = usize::try_from(MOST).unwrap_or(usize::MAX);
    let lost = left.iter().skip(room).map(|it| it.count).sum();
    left.truncate(room);
    let (mut seen, mut first) = (Vec::new(), Vec::new());
    for caller in left {
        let Caller { direction, decision, admitted, who, wanted, count, .. } = caller.clone();
        let decision = numbers.number(&Decided { direction, id: decision, admitted });
        let key = Key { who, wanted, decision };
        let (counted, key) = (key.counted(count), key.bytes());
        let at = |age: u64| Element { expires: Some(keeps - age), ..Element::key(key.clone()) };
        // Bytes are not asked for.
        seen.push(Element { count: Some((counted, 0)), ..at(caller.last) });
        first.extend(caller.first.filter(|it| *it < keeps).map(at));
    }
    (seen, first, lost)
}

/// The key of an entry.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Key {
    who: Who,
    wanted: Wanted,
    decision: u32,
}

impl Key {
    /// How many packets an element has met that has counted so many. The first one it counts once, as those do
    /// that come at the same time on another processor; every other one is found, and renews its time, which counts
    /// it twice. What of several networks is counted together is never looked for.
    fn count(self, counted: u64) -> u64 {
        match (self.wanted, self.who) {
            (Wanted::Several, Who::Network(_, 48)) => counted,
            _ => counted / 2 + 1,
        }
    }

    /// What an element has counted that has met so many packets.
    fn counted(self, packets: u64) -> u64 {
        match (self.wanted, self.who) {
            (Wanted::Several, Who::Network(_, 48)) => packets,
            _ => (packets * 2).saturating_sub(1),
        }
    }

    fn bytes(self) -> Vec<u8> {
        let (kind, address) = match self.who {
            Who::Address(it) | Who::Network(it, _) => match it {
                IpAddr::V4(it) => (FAMILY_IPV4, it.octets().to_vec()),
                IpAddr::V6(it) => (FAMILY_IPV6, it.octets().to_vec()),
            },
        };
        let (protocol, port) = match (self.wanted, self.who) {
            (Wanted::Port(protocol, port), _) => ([protocol, 0, 0, 0], port.to_be_bytes()),
            (Wanted::Icmp(protocol, kind, code), _) => ([protocol, 0, 0, 0], [kind, code]),
            (Wanted::Protocol(protocol), _) => ([protocol, 0, 0, 0], [0; 2]),
            (Wanted::Several, Who::Network(_, 48)) => (SEVERAL_OF_MANY, [0; 2]),
            (Wanted::Several, _) => (SEVERAL, [0; 2]),
        };
        let mut key = vec![kind, 0, 0, 0];
        key.extend(protocol);
        key.extend([port[0], port[1], 0, 0]);
        key.extend(self.decision.to_ne_bytes());
        key.extend(address);
        key.resize(KEY as usize, 0);
        key
    }

    fn parse(key: &[u8]) -> Option<Self> {
        let key: &[u8; KEY as usize] = key.try_into().ok()?;
        let word = |register: u32| -> Option<[u8; 4]> {
            let at = (registers::word(register) - registers::FIRST_WORD) as usize * 4;
            key.get(at..at + 4)?.try_into().ok()
        };
        let rest = &key[KEY as usize / 2..];
        let address: IpAddr = match word(KIND)?[0] {
            FAMILY_IPV4 => Ipv4Addr::from(word(ADDRESS)?).into(),
            FAMILY_IPV6 => Ipv6Addr::from(<[u8; 16]>::try_from(rest).ok()?).into(),
            _ => return None,
        };
        let [high, low, ..] = word(PORT)?;
        let protocol = word(PROTOCOL)?;
        let (who, wanted) = match protocol {
            SEVERAL if address.is_ipv6() => (Who::Network(address, 64), Wanted::Several),
            SEVERAL_OF_MANY if address.is_ipv6() => (Who::Network(address, 48), Wanted::Several),
            SEVERAL | SEVERAL_OF_MANY => (Who::Address(address), Wanted::Several),
            [number @ (ICMP | ICMPV6), ..] => {
                (Who::Address(address), Wanted::Icmp(number, high, low))
            }
            [number, ..] if WITH_PORTS.contains(&number) => {
                (Who::Address(address), Wanted::Port(number, u16::from_be_bytes([high, low])))
            }
            [number, ..] => (Who::Address(address), Wanted::Protocol(number)),
        };
        Some(Self { who, wanted, decision: u32::from_ne_bytes(word(DECISION)?) })
    }
}

#[cfg(test)]
mod tests {
    use super::{Key, Wanted, Who};

    #[test]
    fn keys_are_read_as_they_are_written() {
        let address = |text: &str| Who::Address(text.parse().expect("an address"));
        let network = |text: &str, bits| Who::Network(text.parse().expect("an address"), bits);
        for (who, wanted) in [
            (address("10.44.8.30"), Wanted::Port(6, 5432)),
            (address("2001:db8:4::9"), Wanted::Port(17, 53)),
            (address("10.44.8.30"), Wanted::Icmp(1, 8, 0)),
            (address("2001:db8:4::9"), Wanted::Icmp(58, 128, 0)),
            (address("10.44.8.30"), Wanted::Protocol(47)),
            (address("10.44.8.30"), Wanted::Several),
            (network("2001:db8:4:7::", 64), Wanted::Several),
            (network("2001:db8:4::", 48), Wanted::Several),
        ] {
            let key = Key { who, wanted, decision: 70_000 };
            assert_eq!(Key::parse(&key.bytes()), Some(key));
        }
        assert_eq!(Key::parse(&[0; 32]), None);
        assert_eq!(Key::parse(&[2; 31]), None);
    }
}
