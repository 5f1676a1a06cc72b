//! `rehearse`: every port tried in a lab, from every sender that the policy tells apart.

mod hands;
mod lab;
mod order;

pub use hands::lend;
pub use lab::{carry_out, no_namespaces};
pub use order::{Order, Ranges, Scene, Shot, Try};

use super::programs::Receivers;
use super::{By, Failure, Loaded, PacketWords};
use crate::Outcome;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Instant;
use tipstaff_core::plan::{Act, Condition, HostPlan};
use tipstaff_core::policy::{Source, Verdict, read_addresses, read_traffic};
use tipstaff_core::rehearsal::{CLIENT_PORT, Course, Judge, Role, Site, Stand, course};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, RangeSet, Tracking, TrafficSet,
    Transport,
};
use tipstaff_linux::probe::Met;
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{NetlinkSocket, Protocol, links};

/// More packets than this, some 40 seconds' worth, are tried only where nothing less will do.
const MOST_PACKETS: u64 = 16_000_000;
/// A program is tried at no more ports than this of each protocol: each takes a socket.
const MOST_DOORS: usize = 200;
/// So many disagreements are shown with their packet; all are counted.
const SHOWN: usize = 20;

/// What is asked.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// Whether a copy of this machine is tried, rather than the policy.
    pub live: bool,
    /// Places and addresses to try from; everybody if empty.
    pub from: &'a [String],
    /// The traffic to try; every port and ICMP type if left out.
    pub traffic: Option<&'a str>,
}

/// What can be reached, by trying.
#[derive(Clone, Debug, Serialize)]
pub struct Report {
    /// The host.
    pub host: String,
    /// `policy` for the policy on this kernel, `copy` for a copy of this machine as it stands.
    pub tried: &'static str,
    /// How it was seen.
    pub evidence: &'static str,
    /// How many packets were tried.
    pub packets: u64,
    /// How many were sent for that: packets of which one was lost on the way are sent again.
    pub sent: u64,
    /// How long that took, in seconds.
    pub seconds: f64,
    /// Whether every port was tried, and not only those that rules tell apart.
    pub every_port: bool,
    /// What became of the packets, by sender, receiver and interface.
    pub rows: Vec<Row>,
    /// Besides those who spoke for all that fare alike: how many other senders, at the ends of ranges,
    /// were tried at the ports that rules tell apart.
    pub members: usize,
    /// How many of those were left out, because there are too many.
    pub members_left_out: usize,
    /// How many packets met something else than the policy says.
    pub disagreements: u64,
    /// The first of them.
    pub witnesses: Vec<Witness>,
    /// What could not be copied, in words.
    pub missing: Vec<String>,
}

impl Report {
    /// How it ended.
    pub fn outcome(&self) -> Outcome {
        if self.disagreements > 0 { Outcome::Found } else { Outcome::Fine }
    }
}

/// What senders that fare alike meet.
#[derive(Clone, Debug, Serialize)]
pub struct Row {
    /// What they are called.
    pub from: String,
    /// All of them.
    pub senders: String,
    /// The one that spoke for all.
    pub source: IpAddr,
    /// The host's address that was tried.
    pub destination: IpAddr,
    /// The interface by which the packets came in.
    pub interface: String,
    /// The port they came from; from others than the usual one only the ports that rules tell apart
    /// are tried.
    pub source_port: u16,
    /// The program that listened, one that rules name; `null` if nobody did.
    pub program: Option<String>,
    /// `IPv4` or `IPv6`.
    pub version: &'static str,
    /// How many packets were tried.
    pub packets: u64,
    /// What got through; on a copy, where somebody listens.
    pub open: String,
    /// On a copy: what got through to where nobody listens.
    pub closed: String,
    /// What gets through up to a rate.
    pub limited: String,
    /// What was refused with an answer.
    pub rejected: String,
    /// What got through to another machine behind the host.
    pub passed_on: String,
    /// What was stopped before any inbound rule.
    pub stopped_early: String,
}

impl Row {
    /// Whether the packets came from the port from which all do unless rules tell those apart.
    pub fn is_usual(&self) -> bool {
        self.source_port == CLIENT_PORT
    }

    /// What the packets met, in the order of the fields.
    pub fn fates(&self) -> [&str; 6] {
        let Self { open, closed, limited, rejected, passed_on, stopped_early, .. } = self;
        [open, closed, limited, rejected, passed_on, stopped_early].map(String::as_str)
    }

    /// Whether every packet met silence.
    pub fn nothing(&self) -> bool {
        self.fates().iter().all(|traffic| traffic.is_empty())
    }
}

/// A packet that met something else than the policy says.
#[derive(Clone, Debug, Serialize)]
pub struct Witness {
    /// The packet.
    pub packet: PacketWords,
    /// The policy's word.
    pub policy: &'static str,
    /// Who decides by the policy.
    pub decided_by: By,
    /// What it met.
    pub met: &'static str,
}

/// Tries, and tells `progress` after each step how many packets of how many have been tried.
///
/// # Errors
/// [`Failure`] if an argument is not understood, or the system lets us make no lab.
pub fn report(
    loaded: &Loaded,
    request: &Request<'_>,
    progress: &dyn Fn(u64, u64),
) -> Result<Report, Failure> {
    let from = senders(loaded, request.from)?;
    let traffic = traffic(loaded, request.traffic)?;
    let (site, scene) = scene(loaded, request.live)?;
    let course = course(&loaded.policy, &loaded.plan, &site, from.as_ref());
    if course.stands.is_empty() {
        return Err(Failure::usage(
            "there is nobody to try from, or no address of the host to try",
            "the host needs `addresses`, and --from must name others than the host itself",
        ));
    }
    let (depth, mut packets, mut tries) = tries(&loaded.plan, &course, &traffic);
    let mut whose: Vec<usize> = (0..tries.len()).collect();
    let mut whole = true;
    let receivers = if request.live {
        Some(Receivers::look(loaded)?)
    } else {
        for program in named_programs(&loaded.plan) {
            let (ports, all) = doors(&loaded.plan, &program, &traffic);
            whole &= all;
            for (at, stand) in course.stands.iter().enumerate() {
                if stand.role == Role::Member || stand.source_port != CLIENT_PORT {
                    continue;
                }
                packets.push(Ranges::within(&ports, stand.family()));
                whose.push(at);
                tries.push(Try {
                    program: Some(program.clone()),
                    ..a_try(stand, packets.len() - 1)
                });
            }
        }
        None
    };
    let all: u64 = tries.iter().map(|it| packets[it.packets].count()).sum();
    let order = Order { host: loaded.plan.host.clone(), scene, packets, tries };
    let begun = Instant::now();
    let mut tally = Tally::new(loaded, receivers);
    let mut tried = 0;
    progress(0, all);
    let findings = carry_out(&order, |at, tracking, outcome| {
        let stand = whose.get(at).and_then(|at| course.stands.get(*at));
        let (Some(stand), Some(one)) = (stand, order.tries.get(at)) else { return };
        let packets = order.packets_of(one);
        tally.add(stand, one.program.as_deref(), packets, tracking, &outcome);
        tried += packets.count();
        progress(tried, all);
    })?;
    Ok(Report {
        host: loaded.plan.host.clone(),
        tried: if request.live { "copy" } else { "policy" },
        evidence: "each packet's fate was seen in the kernel: what passed behind the last rule was \
                   reported, and so was every answer; what arrived and was neither was denied",
        packets: all,
        sent: findings.sent,
        seconds: begun.elapsed().as_secs_f64(),
        every_port: depth == Depth::Every && whole,
        rows: tally.rows,
        members: course.stands.iter().filter(|it| it.role == Role::Member).count(),
        members_left_out: course.left_out,
        disagreements: tally.disagreements,
        witnesses: tally.witnesses,
        missing: findings.missing,
    })
}

fn senders(loaded: &Loaded, wishes: &[String]) -> Result<Option<AddressSet>, Failure> {
    if wishes.is_empty() {
        return Ok(None);
    }
    let mut senders = Vec::new();
    for wish in wishes {
        let source = Source::new("--from", wish);
        let found = read_addresses(&loaded.policy, &source);
        senders.push(found.map_err(|problems| Failure::Input { sources: vec![source], problems })?);
    }
    Ok(Some(senders.into_iter().collect()))
}

fn traffic(loaded: &Loaded, wish: Option<&str>) -> Result<TrafficSet, Failure> {
    let Some(wish) = wish else { return Ok(TrafficSet::any()) };
    let source = Source::new("--traffic", wish);
    read_traffic(&loaded.policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })
}

/// Where the host is tried, and what the lab is to be made of.
fn scene(loaded: &Loaded, live: bool) -> Result<(Site, Scene), Failure> {
    if live {
        let links = links(&mut NetlinkSocket::open(Protocol::Route)?)?;
        // Who is not on the link cannot send to a link's own addresses (RFC 4291 section 2.5.6).
        let of_the_link = |it: IpAddr| matches!(it, IpAddr::V6(it) if it.is_unicast_link_local());
        let all = links.iter().flat_map(|link| &link.addresses).map(|it| it.0);
        let addresses = all.filter(|it| !of_the_link(*it)).collect();
        let interfaces = links.iter().map(|link| link.name.clone()).collect();
        let own = PathBuf::from(format!("/proc/{}/ns/net", std::process::id()));
        return Ok((Site { interfaces, addresses }, Scene::Copy(own)));
    }
    let site = Site::of(&loaded.plan);
    let links = site.interfaces.iter().enumerate().map(|(at, name)| {
        // Which interface has which address makes no difference to what comes in.
        let addresses: &[IpAddr] = if at == 0 { &site.addresses } else { &[] };
        let alone = |it: &IpAddr| (*it, if it.is_ipv4() { 32 } else { 128 });
        (name.clone(), addresses.iter().map(alone).collect())
    });
    let sources =
        loaded.sources.iter().map(|it| (it.name.to_string(), it.text.to_string())).collect();
    let scene = Scene::Policy { sources, links: links.collect() };
    Ok((site, scene))
}

/// Which ports are tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Depth {
    /// Every port, from those who speak for all that fare alike.
    Every,
    /// Those that any rule tells apart.
    AnyRule,
    /// For each sender those that rules about it tell apart.
    OwnRules,
}

/// What to try: all that there is, as long as that can be done in good time.
fn tries(plan: &HostPlan, course: &Course, wanted: &TrafficSet) -> (Depth, Vec<Ranges>, Vec<Try>) {
    [Depth::Every, Depth::AnyRule]
        .into_iter()
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
        tcp: wanted.tcp.intersection(ports),
        udp: wanted.udp.intersection(ports),
        ..wanted.clone()
    };
    let telling = narrowed(&course.telling);
    let mut packets: Vec<Ranges> = Vec::new();
    // What many stands share is kept once.
    let mut places: HashMap<(Role, bool), usize> = HashMap::new();
    let mut tries = Vec::with_capacity(course.stands.len());
    for stand in &course.stands {
        let own;
        let traffic = match (stand.role, depth) {
            (Role::Speaker, Depth::Every) => wanted,
            (_, Depth::Every | Depth::AnyRule) => &telling,
            (_, Depth::OwnRules) => {
                own = narrowed(&Judge::between(plan, &packet(stand)).telling());
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

fn a_try(stand: &Stand, packets: usize) -> Try {
    Try {
        link: stand.interface.clone(),
        source: stand.source,
        destination: stand.destination,
        source_port: stand.source_port,
        packets,
        program: None,
    }
}

/// The conditions of inbound rules that name programs.
fn about_programs(plan: &HostPlan) -> impl Iterator<Item = &Condition> {
    let decisions = plan.chain(Direction::Inbound).decisions.iter();
    let conditions = decisions.filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
    conditions.filter(|it| !it.programs.is_empty())
}

fn named_programs(plan: &HostPlan) -> BTreeSet<String> {
    about_programs(plan).flat_map(|it| it.programs.iter().cloned()).collect()
}

/// The ports at which a program is tried: all that rules for programs are about, or where those are
/// too many, the first and the last of each run; and whether those are all.
fn doors(plan: &HostPlan, program: &str, wanted: &TrafficSet) -> (TrafficSet, bool) {
    let its = about_programs(plan).filter(|it| it.programs.iter().any(|it| it == program));
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
    let some = TrafficSet {
        tcp: few(&all.tcp, &wanted.tcp),
        udp: few(&all.udp, &wanted.udp),
        ..TrafficSet::empty()
    };
    let whole = some.tcp == all.tcp.intersection(&wanted.tcp)
        && some.udp == all.udp.intersection(&wanted.udp);
    (some, whole)
}

/// A packet of a stand, which carries nothing yet that matters.
fn packet(stand: &Stand) -> Packet {
    Packet {
        direction: Direction::Inbound,
        in_interface: Some(stand.interface.clone()),
        out_interface: None,
        source: stand.source,
        destination: stand.destination,
        transport: Transport::Other { protocol: 0 },
        state: ConnectionState::New,
        program: None,
    }
}

/// Puts something into a packet.
fn load(packet: &mut Packet, source: u16, shot: Shot, tracking: Tracking) {
    packet.transport = match shot {
        Shot::Tcp(destination) => Transport::Tcp { source, destination },
        Shot::Udp(destination) => Transport::Udp { source, destination },
        Shot::Icmp(kind) => Transport::Icmp { kind },
    };
    packet.state = tracking.state_alone(packet.transport, packet.family());
}

/// What has been found out so far.
struct Tally<'l> {
    plan: &'l HostPlan,
    live: bool,
    /// Who listens on this machine, if a copy of it is tried.
    receivers: Option<Receivers>,
    rows: Vec<Row>,
    disagreements: u64,
    witnesses: Vec<Witness>,
}

impl<'l> Tally<'l> {
    fn new(loaded: &'l Loaded, receivers: Option<Receivers>) -> Self {
        let (plan, live) = (&loaded.plan, receivers.is_some());
        Self { plan, live, receivers, rows: Vec::new(), disagreements: 0, witnesses: Vec::new() }
    }

    fn add(
        &mut self,
        stand: &Stand,
        program: Option<&str>,
        packets: &Ranges,
        tracking: Tracking,
        outcome: &[(Met, Ranges)],
    ) {
        let family = stand.family();
        let mut limited = Vec::new();
        let mut now = packet(stand);
        let judge = Judge::between(self.plan, &now);
        let mut heard = 0;
        for (met, ranges) in outcome {
            heard += ranges.count();
            for shot in ranges.shots() {
                load(&mut now, stand.source_port, shot, tracking);
                now.program = match (&self.receivers, shot) {
                    (None, _) => program.map(str::to_owned),
                    (Some(it), Shot::Tcp(port)) => it.at(PortProtocol::Tcp, port),
                    (Some(it), Shot::Udp(port)) => it.at(PortProtocol::Udp, port),
                    (Some(_), Shot::Icmp(_)) => None,
                };
                let decision = judge.decision(&now);
                let is_limited = matches!(decision.act, Act::AllowWithin(_));
                if is_limited {
                    limited.push(shot);
                }
                let verdict = visible(decision.act.verdict(), &now);
                if !fits(verdict, is_limited, *met, self.live) {
                    self.disagreements += 1;
                    if self.witnesses.len() < SHOWN {
                        self.witnesses.push(Witness {
                            packet: PacketWords::of(&now),
                            policy: decision.act.verdict().as_str(),
                            decided_by: By::of(&decision.id, self.plan),
                            met: met.as_str(),
                        });
                    }
                }
            }
        }
        // A packet of which nothing was heard would be a mistake of ours; it is not passed over.
        self.disagreements += packets.count().abs_diff(heard);
        if stand.role == Role::Member {
            return;
        }
        limited.sort_unstable();
        let limited = Ranges::of(limited).traffic(family);
        let by_met: BTreeMap<Met, TrafficSet> =
            outcome.iter().map(|(met, ranges)| (*met, ranges.traffic(family))).collect();
        let words = |of: &[Met]| {
            let none = TrafficSet::empty();
            let all = of.iter().filter_map(|met| by_met.get(met));
            let all = all.fold(none, |all, some| all.union(some)).difference(&limited);
            traffic_words(&all, family)
        };
        let (open, closed): (&[Met], &[Met]) = match self.live {
            true => (&[Met::Open], &[Met::Closed]),
            false => (&[Met::Open, Met::Closed], &[]),
        };
        self.rows.push(Row {
            from: stand.name.clone(),
            senders: stand.senders.to_string(),
            source: stand.source,
            destination: stand.destination,
            interface: stand.interface.clone(),
            source_port: stand.source_port,
            program: program.map(str::to_owned),
            version: if family == Family::V4 { "IPv4" } else { "IPv6" },
            packets: packets.count(),
            open: words(open),
            closed: words(closed),
            limited: traffic_words(&limited, family),
            rejected: words(&[Met::Rejected]),
            passed_on: words(&[Met::PassedOn]),
            stopped_early: words(&[Met::Lost, Met::StoppedOddly]),
        });
    }
}

/// What a sender sees of a verdict.
fn visible(verdict: Verdict, packet: &Packet) -> Verdict {
    match verdict {
        Verdict::Reject if !packet.may_be_answered() => Verdict::Deny,
        verdict => verdict,
    }
}

fn fits(verdict: Verdict, limited: bool, met: Met, live: bool) -> bool {
    match (verdict, met) {
        (Verdict::Allow, Met::Open | Met::Closed)
        | (Verdict::Deny, Met::Denied)
        | (Verdict::Reject, Met::Rejected) => true,
        (Verdict::Allow, Met::Denied) => limited,
        // On a copy, rules of others may stop a packet before ours are asked.
        (Verdict::Deny, Met::Lost) => live,
        _ => false,
    }
}

/// Messages that go by a name: over IPv4 and IPv6 each, and their types.
const NAMED: [Named; 4] = [
    Named { name: "ping", family: Family::V4, types: &[(8, 8)] },
    Named { name: "ping", family: Family::V6, types: &[(128, 128)] },
    // RFC 4861.
    Named { name: "neighbour discovery", family: Family::V6, types: &[(133, 136)] },
    // RFC 2710, RFC 3810.
    Named {
        name: "multicast listener discovery",
        family: Family::V6,
        types: &[(130, 132), (143, 143)],
    },
];

struct Named {
    name: &'static str,
    family: Family,
    types: &'static [(u8, u8)],
}

/// Traffic in words; all that can be tried is `everything`.
fn traffic_words(set: &TrafficSet, family: Family) -> String {
    let icmp = if family == Family::V4 { &set.icmp } else { &set.icmpv6 };
    if set.tcp.is_full() && set.udp.is_full() && icmp.is_full() {
        return "everything".into();
    }
    let mut rest = set.clone();
    let mut names = Vec::new();
    for named in NAMED {
        let types = RangeSet::from_ranges(named.types.iter().copied());
        let own = match family {
            Family::V4 => &mut rest.icmp,
            Family::V6 => &mut rest.icmpv6,
        };
        if named.family == family && types.difference(own).is_empty() && !own.is_full() {
            *own = own.difference(&types);
            names.push(named.name);
        }
    }
    let rest = rest.to_string();
    let rest = (!rest.is_empty()).then_some(rest.as_str());
    rest.into_iter().chain(names).collect::<Vec<_>>().join(", ")
}
