//! What is tried: as much as can be done in good time.

use super::order::{Ranges, Try};
use std::collections::{BTreeSet, HashMap};
use tipstaff_core::plan::{Condition, HostPlan};
use tipstaff_core::rehearsal::{CLIENT_PORT, Course, Judge, Role, Stand};
use tipstaff_core::space::{
    ByProtocol, ConnectionState, Direction, Packet, PortProtocol, RangeSet, Relation, TrafficSet,
    Transport,
};
use tipstaff_linux::ruleset::Whose;

/// More packets than this, some 40 seconds' worth, are tried only where nothing less will do.
const MOST_PACKETS: u64 = 16_000_000;
/// An owner is tried at no more ports than this of each protocol: each takes a socket.
const MOST_DOORS: usize = 200;

/// Of these protocols every port is tried; of another only if a rule tells its ports apart.
const COMMON: [PortProtocol; 2] = [PortProtocol::Tcp, PortProtocol::Udp];

/// Whether an inbound decision is about some ports of a protocol, and not about others.
fn is_told_apart(plan: &HostPlan, protocol: PortProtocol) -> bool {
    let decisions = plan.chain(Direction::Inbound).decisions.iter();
    let mut ports = decisions.flat_map(|it| &it.conditions).map(|it| &it.traffic.ports[protocol]);
    ports.any(|it| !it.is_empty() && !it.is_full())
}

/// Which ports are tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Depth {
    /// Every port, from those who speak for all that fare alike.
    Every,
    /// Those that any rule tells apart.
    AnyRule,
    /// For each sender those that rules about it tell apart.
    OwnRules,
}

/// What to try: all that there is, as long as that can be done in good time.
pub(super) fn tries(
    plan: &HostPlan,
    course: &Course,
    wanted: &TrafficSet,
    quick: bool,
) -> (Depth, Vec<Ranges>, Vec<Try>) {
    [Depth::Every, Depth::AnyRule]
        .into_iter()
        .filter(|it| !quick || *it != Depth::Every)
        .map(|depth| (depth, tries_at(depth, plan, course, wanted)))
        .find(|(_, (packets, tries))| {
            tries.iter().map(|it| packets[it.packets].count()).sum::<u64>() <= MOST_PACKETS
        })
        .map_or_else(
            || {
                let (packets, tries) = tries_at(Depth::OwnRules, plan, course, wanted);
                (Depth::OwnRules, packets, tries)
            },
            |(depth, (packets, tries))| (depth, packets, tries),
        )
}

fn tries_at(
    depth: Depth,
    plan: &HostPlan,
    course: &Course,
    wanted: &TrafficSet,
) -> (Vec<Ranges>, Vec<Try>) {
    let narrowed = |ports: &RangeSet<u16>| TrafficSet {
        ports: ByProtocol::new(|it| wanted.ports[it].intersection(ports)),
        ..wanted.clone()
    };
    let telling = narrowed(&course.telling);
    let every = TrafficSet {
        ports: ByProtocol::new(|it| {
            // Whoever asks for some traffic gets all of that.
            let all = COMMON.contains(&it) || is_told_apart(plan, it) || !wanted.is_any();
            if all { wanted.ports[it].clone() } else { telling.ports[it].clone() }
        }),
        ..wanted.clone()
    };
    let mut packets: Vec<Ranges> = Vec::new();
    // What many stands share is kept once.
    let mut places: HashMap<(Role, bool), usize> = HashMap::new();
    let mut tries = Vec::with_capacity(course.stands.len());
    for stand in &course.stands {
        let own;
        let traffic = match (stand.role, depth) {
            (Role::Speaker, Depth::Every) => &every,
            (_, Depth::Every | Depth::AnyRule) => &telling,
            (_, Depth::OwnRules) => {
                own = narrowed(&Judge::between(plan, &packet(plan, stand)).telling());
                &own
            }
        };
        let ranges = || {
            let mut ranges = Ranges::within(traffic, stand.family());
            if stand.role == Role::OtherPort {
                // Without ports there is no other source port to try.
                ranges.icmp.clear();
            }
            ranges
        };
        let mut add = || {
            packets.push(ranges());
            packets.len() - 1
        };
        let place = match depth {
            Depth::OwnRules => add(),
            _ => *places.entry((stand.role, stand.source.is_ipv4())).or_insert_with(add),
        };
        tries.push(a_try(stand, place));
    }
    (packets, tries)
}

pub(crate) fn a_try(stand: &Stand, packets: usize) -> Try {
    Try {
        link: stand.interface.clone(),
        source: stand.source,
        destination: stand.destination,
        source_port: stand.source_port,
        packets,
        whose: Whose::default(),
    }
}

/// The conditions of inbound rules that name programs or users.
fn about_owners(plan: &HostPlan) -> impl Iterator<Item = &Condition> {
    let decisions = plan.chain(Direction::Inbound).decisions.iter();
    let conditions = decisions.filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
    conditions.filter(|it| it.names_owners())
}

/// Whose sockets are tried: each program, each user, and the programs as the users that one rule names
/// together.
pub(crate) fn named_owners(plan: &HostPlan) -> BTreeSet<Whose> {
    let mut found = BTreeSet::new();
    for condition in about_owners(plan) {
        let programs = || condition.programs.iter().cloned().map(Some).chain([None]);
        let users = condition.users.iter().cloned().map(Some).chain([None]);
        let pairs = users
            .flat_map(|user| programs().map(move |program| Whose { user: user.clone(), program }));
        found.extend(pairs);
    }
    found.remove(&Whose::default());
    found
}

/// What is tried where named programs and users wait.
pub(super) struct Owned {
    /// Whether all their ports are tried.
    pub whole: bool,
    pub packets: Vec<Ranges>,
    /// For each try, the place of its stand.
    pub at: Vec<usize>,
    pub tries: Vec<Try>,
}

/// The same for all owners that rules name; their packets come behind so many others.
pub(super) fn owned(plan: &HostPlan, course: &Course, wanted: &TrafficSet, behind: usize) -> Owned {
    let mut all = Owned { whole: true, packets: Vec::new(), at: Vec::new(), tries: Vec::new() };
    for whose in named_owners(plan) {
        let (ports, whole) = doors(plan, &whose, wanted);
        all.whole &= whole;
        for (at, stand) in course.stands.iter().enumerate() {
            if stand.role == Role::Member || stand.source_port != CLIENT_PORT {
                continue;
            }
            let place = behind + all.packets.len();
            all.packets.push(Ranges::within(&ports, stand.family()));
            all.at.push(at);
            all.tries.push(Try { whose: whose.clone(), ..a_try(stand, place) });
        }
    }
    all
}

fn concerns(condition: &Condition, whose: &Whose) -> bool {
    let among =
        |name: &Option<String>, list: &[String]| name.as_ref().is_some_and(|it| list.contains(it));
    among(&whose.program, &condition.programs) || among(&whose.user, &condition.users)
}

/// The ports at which an owner's socket is tried: all that rules for it are about, or where those are
/// too many, the first and the last of each run; and whether those are all.
fn doors(plan: &HostPlan, whose: &Whose, wanted: &TrafficSet) -> (TrafficSet, bool) {
    let its = about_owners(plan).filter(|it| concerns(it, whose));
    let all = its.fold(TrafficSet::empty(), |all, it| all.union(&it.traffic));
    let few = |ports: &RangeSet<u16>, wanted: &RangeSet<u16>| {
        let ports = ports.intersection(wanted);
        let count = |set: &RangeSet<u16>| -> usize {
            set.ranges().iter().map(|it| usize::from(it.1 - it.0) + 1).sum()
        };
        if count(&ports) <= MOST_DOORS {
            return ports;
        }
        let ends = ports.ranges().iter().flat_map(|&(first, last)| [(first, first), (last, last)]);
        // Nobody listens at port 0.
        RangeSet::from_ranges(ends.filter(|it| it.0 > 0).take(MOST_DOORS))
    };
    let known = |it: PortProtocol| it.has_known_receivers();
    let some = TrafficSet {
        ports: ByProtocol::new(|it| match known(it) {
            true => few(&all.ports[it], &wanted.ports[it]),
            false => RangeSet::empty(),
        }),
        ..TrafficSet::empty()
    };
    let whole = PortProtocol::ALL
        .into_iter()
        .filter(|it| known(*it))
        .all(|it| some.ports[it] == all.ports[it].intersection(&wanted.ports[it]));
    (some, whole)
}

/// A packet of a stand, which carries nothing yet that matters.
pub(super) fn packet(plan: &HostPlan, stand: &Stand) -> Packet {
    plan.related(Packet {
        direction: Direction::Inbound,
        in_interface: Some(stand.interface.clone()),
        out_interface: None,
        source: stand.source,
        destination: stand.destination,
        transport: Transport::Other { protocol: 0 },
        state: ConnectionState::New,
        program: None,
        user: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    })
}
