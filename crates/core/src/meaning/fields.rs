//! The fields of a packet, in the order in which diagrams ask them.

use super::diagram::{Diagram, Diagrams, Way, low_bits};
use crate::plan::{InterfaceTest, LOOPBACK};
use crate::space::{
    AddressSet, ConnectionState, Direction, Family, ICMP, ICMPV6, Packet, Point, PortProtocol,
    RangeSet, Relation, RelationSet, StateSet, Transport,
};
use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A field: its first bit among those of a packet, by which it is called, and how many it has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Field {
    pub bit: u16,
    pub width: u16,
}

const fn after(field: Field, width: u16) -> Field {
    Field { bit: field.bit + field.width, width }
}

// The order matters for the size. What most rules test comes early; the interface, which the
// baseline tests of every packet, comes late, so that it does not double all that is below it.
pub(super) const STATE: Field = Field { bit: 0, width: 3 };
pub(crate) const FAMILY: Field = after(STATE, 1);
pub(super) const SOURCE: Field = after(FAMILY, 128);
pub(super) const DESTINATION: Field = after(SOURCE, 128);
pub(super) const PROTOCOL: Field = after(DESTINATION, 8);
pub(super) const PORT: Field = after(PROTOCOL, 16);
pub(super) const SOURCE_PORT: Field = after(PORT, 16);
pub(super) const ICMP_TYPE: Field = after(SOURCE_PORT, 8);
pub(crate) const IN_INTERFACE: Field = after(ICMP_TYPE, 16);
pub(crate) const OUT_INTERFACE: Field = after(IN_INTERFACE, 16);
pub(super) const SOURCE_IS: Field = after(OUT_INTERFACE, 2);
pub(super) const DESTINATION_IS: Field = after(SOURCE_IS, 2);
pub(super) const PROGRAM: Field = after(DESTINATION_IS, 16);
pub(super) const USER: Field = after(PROGRAM, 16);
/// The port that was asked for where the packet was led elsewhere; 0 where it was not.
pub(super) const ASKED: Field = after(USER, 16);

/// Of a port each half is asked by itself: long lists name hundreds of ports, and what differs from them in one has all
/// others in common, which is not to be said again for each.
const HALF_OF_PORT: u16 = PORT.width / 2;

/// The source address; IPv4 addresses have 32 of the bits.
pub(super) const fn source(family: Family) -> Field {
    Field { width: width(family), ..SOURCE }
}

/// The destination address, likewise.
pub(super) const fn destination(family: Family) -> Field {
    Field { width: width(family), ..DESTINATION }
}

const fn width(family: Family) -> u16 {
    if matches!(family, Family::V4) { 32 } else { 128 }
}

/// The number of ICMP in packets of an IP version.
pub(super) fn icmp(family: Family) -> u8 {
    if family == Family::V4 { ICMP } else { ICMPV6 }
}

/// Names as numbers. Number 0 stands for all that nobody names.
#[derive(Clone, Debug, Default)]
pub(super) struct Names {
    list: Vec<String>,
    numbers: HashMap<String, u128>,
}

impl Names {
    pub(super) fn number(&mut self, name: &str) -> u128 {
        if let Some(&number) = self.numbers.get(name) {
            return number;
        }
        self.list.push(name.to_owned());
        let number = self.list.len() as u128;
        self.numbers.insert(name.to_owned(), number);
        number
    }

    /// All names with their numbers.
    pub(super) fn numbered(&self) -> impl Iterator<Item = (u128, &str)> {
        (1..).zip(self.list.iter().map(String::as_str))
    }

    /// Names as ways that all lead to the same.
    pub(super) fn ways(&mut self, names: &[String], then: Diagram) -> Vec<Way> {
        let mut numbers: Vec<u128> = names.iter().map(|it| self.number(it)).collect();
        numbers.sort_unstable();
        numbers.dedup();
        numbers.into_iter().map(|it| (it, it, then)).collect()
    }

    fn known(&self, name: Option<&str>) -> u128 {
        name.and_then(|name| self.numbers.get(name)).copied().unwrap_or(0)
    }

    fn name(&self, number: u128) -> Option<String> {
        let at = usize::try_from(number).ok()?.checked_sub(1)?;
        self.list.get(at).cloned()
    }
}

/// The names that packets and tests carry.
#[derive(Clone, Debug, Default)]
pub(super) struct Vocabulary {
    pub interfaces: Names,
    pub programs: Names,
    pub users: Names,
}

/// One value for each field.
#[derive(Clone, Copy, Debug)]
pub(super) struct Values {
    state: u128,
    family: u128,
    source: u128,
    destination: u128,
    protocol: u128,
    port: u128,
    source_port: u128,
    icmp_type: u128,
    in_interface: u128,
    out_interface: u128,
    source_is: u128,
    destination_is: u128,
    program: u128,
    user: u128,
    asked: u128,
}

impl Vocabulary {
    /// The values of a packet's fields. Fields that it does not have are 0.
    pub(super) fn values(&self, packet: &Packet) -> Values {
        let address = |address: IpAddr| match address {
            IpAddr::V4(address) => u128::from(address.to_bits()),
            IpAddr::V6(address) => address.to_bits(),
        };
        let (source_port, port) = packet.ports().unwrap_or((0, 0));
        Values {
            state: packet.state as u128,
            family: u128::from(packet.family() == Family::V6),
            source: address(packet.source),
            destination: address(packet.destination),
            protocol: packet.protocol().into(),
            port: port.into(),
            source_port: source_port.into(),
            icmp_type: match packet.transport {
                Transport::Icmp { kind } => kind.into(),
                _ => 0,
            },
            in_interface: self.interfaces.known(packet.in_interface.as_deref()),
            out_interface: self.interfaces.known(packet.out_interface.as_deref()),
            source_is: packet.source_is.number().into(),
            destination_is: packet.destination_is.number().into(),
            program: self.programs.known(packet.program.as_deref()),
            user: self.users.known(packet.user.as_deref()),
            asked: packet.asked.unwrap_or(0).into(),
        }
    }

    /// The packet of some values.
    pub(super) fn packet(&self, values: &Values, direction: Direction) -> Packet {
        // Each value fits its field.
        let short = |value: u128| u16::try_from(value & 0xffff).unwrap_or_default();
        let byte = |value: u128| u8::try_from(value & 0xff).unwrap_or_default();
        let v6 = values.family == 1;
        let family = if v6 { Family::V6 } else { Family::V4 };
        let address = |value: u128| -> IpAddr {
            if v6 {
                Ipv6Addr::from_bits(value).into()
            } else {
                Ipv4Addr::from_bits(u32::try_from(value).unwrap_or_default()).into()
            }
        };
        let (source, destination) = (short(values.source_port), short(values.port));
        let state = usize::try_from(values.state).unwrap_or_default();
        let last = ConnectionState::ALL.len() - 1;
        Packet {
            direction,
            in_interface: self.interfaces.name(values.in_interface),
            out_interface: self.interfaces.name(values.out_interface),
            source: address(values.source),
            destination: address(values.destination),
            transport: match byte(values.protocol) {
                number if number == icmp(family) => {
                    Transport::Icmp { kind: byte(values.icmp_type) }
                }
                number => match PortProtocol::of_number(number) {
                    Some(protocol) => Transport::Ports { protocol, source, destination },
                    None => Transport::Other { protocol: number },
                },
            },
            state: ConnectionState::ALL[state.min(last)],
            program: self.programs.name(values.program),
            user: self.users.name(values.user),
            asked: Some(short(values.asked)).filter(|it| *it > 0),
            source_is: relation(values.source_is),
            destination_is: relation(values.destination_is),
        }
    }
}

impl Values {
    fn field(&mut self, bit: u16) -> (&mut u128, Field) {
        let list = [
            (&mut self.state, STATE),
            (&mut self.family, FAMILY),
            (&mut self.source, SOURCE),
            (&mut self.destination, DESTINATION),
            (&mut self.protocol, PROTOCOL),
            (&mut self.port, PORT),
            (&mut self.source_port, SOURCE_PORT),
            (&mut self.icmp_type, ICMP_TYPE),
            (&mut self.in_interface, IN_INTERFACE),
            (&mut self.out_interface, OUT_INTERFACE),
            (&mut self.source_is, SOURCE_IS),
            (&mut self.destination_is, DESTINATION_IS),
            (&mut self.program, PROGRAM),
            (&mut self.user, USER),
        ];
        let found = list.into_iter().find(|(_, field)| bit < field.bit + field.width);
        found.unwrap_or((&mut self.asked, ASKED))
    }

    /// The value of what is asked with a bit.
    pub(super) fn value(&self, bit: u16) -> u128 {
        let mut values = *self;
        let (value, field) = values.field(bit);
        let (place, width) = field.asked_with(bit);
        *value >> place & low_bits(width)
    }

    /// How many bits that has in a packet of this IP version.
    pub(super) fn width(&self, bit: u16) -> u16 {
        if bit == SOURCE.bit || bit == DESTINATION.bit {
            return width(if self.family == 1 { Family::V6 } else { Family::V4 });
        }
        let mut values = *self;
        values.field(bit).1.asked_with(bit).1
    }

    /// Sets the value. Addresses of another IP version begin with the same bits.
    pub(super) fn set(&mut self, bit: u16, to: u128) {
        let was = self.family;
        let (value, field) = self.field(bit);
        let (place, width) = field.asked_with(bit);
        *value = *value & !(low_bits(width) << place) | to << place;
        for address in [&mut self.source, &mut self.destination] {
            match (was, self.family) {
                (0, 1) => *address <<= 96,
                (1, 0) => *address >>= 96,
                _ => {}
            }
        }
    }
}

/// The ranges of a set as ways that all lead to the same.
pub(super) fn ways<T: Point + Into<u128>>(set: &RangeSet<T>, then: Diagram) -> Vec<Way> {
    set.ranges().iter().map(|it| (it.0.into(), it.1.into(), then)).collect()
}

/// The addresses of one IP version as ways that all lead to the same.
pub(crate) fn address_ways(set: &AddressSet, family: Family, then: Diagram) -> Vec<Way> {
    match family {
        Family::V4 => ways(&set.v4, then),
        Family::V6 => ways(&set.v6, then),
    }
}

/// The states of a set as ways. Numbers beyond the last state stand for that state.
pub(crate) fn state_ways(states: StateSet, then: Diagram) -> Vec<Way> {
    let way = |state: ConnectionState| {
        let number = state as u128;
        let last = if state == ConnectionState::Untracked { 7 } else { number };
        (number, last, then)
    };
    states.iter().map(way).collect()
}

/// What an address is to the host, by its number.
pub(super) fn relation(number: u128) -> Relation {
    Relation { own: number & 2 != 0, on_link: number & 1 != 0 }
}

/// The relations of a set as ways.
pub(super) fn relation_ways(set: RelationSet, then: Diagram) -> Vec<Way> {
    set.iter().map(|it| (it.number().into(), it.number().into(), then)).collect()
}

impl Vocabulary {
    /// The interfaces that pass a test as ways; `None` if all do.
    pub(crate) fn interface_ways(
        &mut self,
        test: &InterfaceTest,
        then: Diagram,
    ) -> Option<Vec<Way>> {
        let last = low_bits(IN_INTERFACE.width);
        let (number, is) = match test {
            InterfaceTest::Any => return None,
            InterfaceTest::Is(name) => (self.interfaces.number(name), true),
            InterfaceTest::IsNot(name) => (self.interfaces.number(name), false),
        };
        Some(if is {
            vec![(number, number, then)]
        } else {
            vec![(0, number - 1, then), (number + 1, last, then)]
        })
    }

    /// Makes the loopback interface known, so that an unnamed one is never it.
    pub(crate) fn knows_loopback(&mut self) {
        self.interfaces.number(LOOPBACK);
    }
}

impl Field {
    /// Leads the values of this field their ways.
    pub(super) fn fork(self, diagrams: &mut Diagrams, ways: &[Way], otherwise: Diagram) -> Diagram {
        if self.asked_at_once() < self.width {
            return self.fork_by_halves(diagrams, ways, otherwise);
        }
        diagrams.fork(self.bit, low_bits(self.width), ways, otherwise)
    }

    fn fork_by_halves(self, diagrams: &mut Diagrams, ways: &[Way], otherwise: Diagram) -> Diagram {
        let [first, second] = self.halves();
        let last = low_bits(second.width);
        // What begins or ends within a first half, by that, and what leaves the second half open.
        let mut inside: BTreeMap<u128, Vec<Way>> = BTreeMap::new();
        let mut firsts: Vec<Way> = Vec::new();
        for &(low, high, then) in ways {
            let (from, to) = (low >> second.width, high >> second.width);
            let mut cut = |at, low, high| inside.entry(at).or_default().push((low, high, then));
            if from == to {
                cut(from, low & last, high & last);
                continue;
            }
            cut(from, low & last, last);
            cut(to, 0, high & last);
            firsts.extend((from + 1 < to).then(|| (from + 1, to - 1, then)));
        }
        for (at, ways) in inside {
            let then = diagrams.fork(second.bit, last, &ways, otherwise);
            firsts.push((at, at, then));
        }
        firsts.sort_unstable_by_key(|it| it.0);
        diagrams.fork(first.bit, low_bits(first.width), &firsts, otherwise)
    }

    /// So many of its bits are asked at once.
    pub(super) fn asked_at_once(self) -> u16 {
        if self == PORT { HALF_OF_PORT } else { self.width }
    }

    /// The two halves of a field.
    pub(super) fn halves(self) -> [Self; 2] {
        let width = self.width / 2;
        [Self { bit: self.bit, width }, Self { bit: self.bit + width, width }]
    }

    /// Of a value of the field what is asked with a bit: so many bits from the last on, and how many.
    pub(super) fn asked_with(self, bit: u16) -> (u16, u16) {
        let width = self.asked_at_once();
        (self.bit + self.width - bit - width, width)
    }

    /// Leads the values of a field of one bit to one of two.
    pub(super) fn either(self, diagrams: &mut Diagrams, low: Diagram, high: Diagram) -> Diagram {
        diagrams.ask(self.bit, vec![(0, low), (1, high)])
    }

    /// Whether a diagram asks nothing before the end of this field.
    pub(crate) fn precedes(self, diagrams: &Diagrams, diagram: Diagram) -> bool {
        self.bit + self.width <= diagrams.first_bit(diagram)
    }
}
