//! Where packets to this machine end up that others lead elsewhere: what the policy says of them is what it says of them there.

use crate::{Failure, Loaded};
use std::collections::{BTreeSet, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::ops::RangeInclusive;
use std::sync::Mutex;
use tipstaff_core::analysis::Published as Opening;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::Verdict;
use tipstaff_core::rehearsal::CLIENT_PORT;
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, RangeSet, Relation, Transport,
};
use tipstaff_linux::ruleset::Whose;
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::translation::{Course, Translations, Traveller};
use tipstaff_linux::{Link, Machine};

/// Where a packet ends up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Led {
    /// There, by the table of that name; the port is 0 where there are none.
    To(SocketAddr, String),
    /// It cannot be told, for that table; and why, as the end of a sentence.
    NotKnown(String, String),
}

/// Where something is led, in words: the port only if there is one.
pub(crate) fn end_words(to: &SocketAddr) -> String {
    if to.port() == 0 { to.ip().to_string() } else { to.to_string() }
}

impl Led {
    /// The table.
    pub(crate) fn by(&self) -> &str {
        match self {
            Self::To(_, by) | Self::NotKnown(by, _) => by,
        }
    }
}

/// What leads packets elsewhere on this machine; nothing, where no machine is looked at.
#[derive(Default)]
pub(crate) struct Ways<'m> {
    translations: Translations,
    machine: Option<&'m dyn Machine>,
    links: Vec<Link>,
    /// By which link an address is reached, as far as that was asked.
    out: Mutex<HashMap<IpAddr, Option<String>>>,
    /// Whose the sockets are that listen.
    pub whose: HashMap<(PortProtocol, u16), Whose>,
}

/// Ports that others lead elsewhere, all of them alike, whoever comes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Published {
    pub protocol: PortProtocol,
    pub ports: RangeInclusive<u16>,
    /// The table, where somebody of whom it was tried is led by one.
    pub by: String,
    /// Whether each port leads to its own.
    pub to_its_own: bool,
}

/// Where somebody is led who comes to some ports: to an address, and to one port or each to its own.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Shape {
    To(IpAddr, Option<u16>, String),
    NotKnown(String),
}

impl<'m> Ways<'m> {
    /// Reads them of a machine.
    ///
    /// # Errors
    /// [`Failure`] if the kernel does not let us read.
    pub(crate) fn of(machine: &'m dyn Machine) -> Result<Self, Failure> {
        Ok(Self {
            translations: machine.translations()?,
            machine: Some(machine),
            links: machine.links()?,
            ..Self::default()
        })
    }

    /// Whether packets are led elsewhere at all.
    pub(crate) fn lead(&self) -> bool {
        !self.translations.is_empty()
    }

    /// What tells senders apart of what is led elsewhere: those who lead it, and the rules there.
    pub(crate) fn telling(&self, plan: &HostPlan) -> Vec<AddressSet> {
        if !self.lead() {
            return Vec::new();
        }
        let decisions = plan.chain(Direction::Forwarded).decisions.iter();
        let conditions = decisions.filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
        let mut found: Vec<AddressSet> = self.translations.sources();
        found.extend(conditions.map(|it| it.source.clone()));
        found
    }

    /// What tells senders apart.
    pub(crate) fn decider(&self) -> &Translations {
        &self.translations
    }

    /// The links by which packets come.
    pub(crate) fn links(&self) -> impl Iterator<Item = &str> {
        self.links.iter().map(|it| it.name.as_str())
    }

    fn is_own(&self, address: IpAddr) -> bool {
        let mut all = self.links.iter().flat_map(|it| &it.addresses);
        address.is_loopback() || all.any(|it| it.0 == address)
    }

    fn link_to(&self, address: IpAddr) -> Option<String> {
        let ask = || self.machine.and_then(|it| it.way_to(address).ok()).and_then(|it| it.link);
        let Ok(mut known) = self.out.lock() else { return ask() };
        known.entry(address).or_insert_with(ask).clone()
    }

    /// An inbound packet as it is where it ends up, and whether that is elsewhere.
    pub(crate) fn arrive(&self, packet: &Packet) -> (Packet, Option<Led>) {
        let same = || (packet.clone(), None);
        if !self.lead() || packet.direction != Direction::Inbound {
            return same();
        }
        let (protocol, ports) = match packet.transport {
            Transport::Ports { protocol, source, destination } => {
                (protocol.number(), Some((source, destination)))
            }
            Transport::Icmp { .. } if packet.destination.is_ipv4() => (1, None),
            Transport::Icmp { .. } => (58, None),
            Transport::Other { protocol } => (protocol, None),
        };
        let course = self.translations.course(&Traveller {
            // Where nobody says it, packets come by the link by which those to their sender leave.
            in_interface: packet.in_interface.clone().or_else(|| self.link_to(packet.source)),
            source: packet.source,
            destination: packet.destination,
            protocol,
            ports,
        });
        match course {
            Course::AsItIs | Course::KeptOut(_) => same(),
            Course::Unknown { by, why } => (packet.clone(), Some(Led::NotKnown(by.table, why))),
            Course::Translated { to, port, by } => {
                let asked = packet.ports().map(|it| it.1).filter(|it| *it > 0);
                let mut there = Packet { destination: to, asked, ..packet.clone() };
                if let (Transport::Ports { destination, .. }, Some(port)) =
                    (&mut there.transport, port)
                {
                    *destination = port;
                }
                if self.is_own(to) {
                    if let Transport::Ports { protocol, destination, .. } = there.transport {
                        let whose = self.whose.get(&(protocol, destination)).cloned();
                        Whose { program: there.program, user: there.user } =
                            whose.unwrap_or_default();
                    }
                } else {
                    there.direction = Direction::Forwarded;
                    there.out_interface = self.link_to(to);
                    (there.program, there.user) = (None, None);
                }
                let to = SocketAddr::new(to, port.unwrap_or_default());
                (there, Some(Led::To(to, by.table)))
            }
        }
    }

    /// The ports of this machine at which somebody is led elsewhere. Tried are all that anything tells apart.
    pub(crate) fn published(&self, loaded: &Loaded, senders: &[&AddressSet]) -> Vec<Published> {
        let mut found: Vec<(Published, Vec<Option<Shape>>)> = Vec::new();
        if !self.lead() {
            return Vec::new();
        }
        let starts = self.translations.ports();
        let ends = starts.iter().skip(1).map(|it| it - 1).chain([u16::MAX]);
        let segments: Vec<(u16, u16)> = starts.iter().copied().zip(ends).collect();
        let callers = self.callers(loaded, senders);
        for protocol in PortProtocol::ALL {
            for &(first, last) in &segments {
                let first = first.max(1);
                let shapes = self.shapes(protocol, (first, last), &callers);
                let Some(Shape::To(_, _, by) | Shape::NotKnown(by)) =
                    shapes.iter().flatten().next()
                else {
                    continue;
                };
                let own = |it: &Shape| matches!(it, Shape::To(_, None, _));
                let to_its_own = shapes.iter().flatten().any(own);
                let ports = first..=last;
                let published = Published { protocol, ports, by: by.clone(), to_its_own };
                match found.last_mut() {
                    Some((before, of))
                        if *of == shapes
                            && before.protocol == protocol
                            && before.ports.end().checked_add(1) == Some(first) =>
                    {
                        before.ports = *before.ports.start()..=last;
                    }
                    _ => found.push((published, shapes)),
                }
            }
        }
        found.into_iter().flat_map(|it| told_apart(loaded, &it.0)).collect()
    }

    /// The ports of this machine that lead elsewhere, and what becomes of packets there, each once.
    pub(crate) fn openings(&self, loaded: &Loaded, senders: &[&AddressSet]) -> Vec<Opening> {
        let callers = self.callers(loaded, senders);
        let mut found: Vec<Opening> = Vec::new();
        for published in self.published(loaded, senders) {
            let (protocol, ports) = (published.protocol, &published.ports);
            for caller in &callers {
                let transport =
                    Transport::Ports { protocol, source: CLIENT_PORT, destination: *ports.start() };
                let (there, led) = self.arrive(&Packet { transport, ..caller.clone() });
                let Some(Led::To(to, by)) = led else { continue };
                let there = loaded.plan.related(there);
                let decided = loaded.plan.evaluate(&there);
                let opening = Opening {
                    protocol,
                    ports: (*ports.start(), *ports.end()),
                    by,
                    to,
                    direction: there.direction,
                    decided_by: decided.by,
                    open: decided.verdict == Verdict::Allow,
                };
                if !found.contains(&opening) {
                    found.push(opening);
                }
            }
        }
        found
    }

    /// Packets that stand for all that are told apart: by whom, to which own address, by which link.
    fn callers(&self, loaded: &Loaded, senders: &[&AddressSet]) -> Vec<Packet> {
        let mut callers = Vec::new();
        for family in Family::BOTH {
            let own: BTreeSet<IpAddr> = (self.links.iter().flat_map(|it| &it.addresses))
                .map(|it| it.0)
                .chain(loaded.plan.addresses.iter().copied())
                .filter(|it| Family::of(*it) == family && !it.is_loopback())
                .collect();
            let mut sources: BTreeSet<IpAddr> =
                senders.iter().filter_map(|it| it.first(family)).collect();
            for set in self.translations.sources() {
                sources.extend(set.first(family));
            }
            for link in self.links() {
                for &source in &sources {
                    for &destination in &own {
                        callers.push(Packet {
                            direction: Direction::Inbound,
                            in_interface: Some(link.to_owned()),
                            out_interface: None,
                            source,
                            destination,
                            transport: Transport::Other { protocol: 0 },
                            state: ConnectionState::New,
                            program: None,
                            user: None,
                            asked: None,
                            source_is: Relation::default(),
                            destination_is: Relation::default(),
                        });
                    }
                }
            }
        }
        callers
    }

    /// Where each caller is led who comes to some ports.
    fn shapes(
        &self,
        protocol: PortProtocol,
        (first, last): (u16, u16),
        callers: &[Packet],
    ) -> Vec<Option<Shape>> {
        let at = |caller: &Packet, destination: u16| {
            let transport = Transport::Ports { protocol, source: CLIENT_PORT, destination };
            self.arrive(&Packet { transport, ..caller.clone() }).1
        };
        let shape = |caller: &Packet| {
            Some(match at(caller, first)? {
                Led::NotKnown(by, _) => Shape::NotKnown(by),
                Led::To(to, by) => {
                    let own =
                        |led: Option<Led>| matches!(led, Some(Led::To(to, _)) if to.port() == last);
                    let own = to.port() == first && (first == last || own(at(caller, last)));
                    Shape::To(to.ip(), (!own).then_some(to.port()), by)
                }
            })
        };
        callers.iter().map(shape).collect()
    }
}

/// Where each of several ports leads to its own, the policy may tell those apart.
fn told_apart(loaded: &Loaded, published: &Published) -> Vec<Published> {
    let (first, last) = (*published.ports.start(), *published.ports.end());
    let mut starts = BTreeSet::from([first]);
    if published.to_its_own {
        let decisions = loaded.plan.decisions().flat_map(|it| &it.1.conditions);
        let ports = decisions.map(|it| &it.traffic.ports[published.protocol]);
        for &(from, to) in ports.flat_map(RangeSet::ranges) {
            starts.extend([Some(from), to.checked_add(1)].into_iter().flatten());
        }
    }
    let starts: Vec<u16> = starts.range(first..=last).copied().collect();
    let ends = starts.iter().skip(1).map(|it| it - 1).chain([last]);
    let part = |(first, last): (&u16, u16)| Published { ports: *first..=last, ..published.clone() };
    starts.iter().zip(ends).map(part).collect()
}
