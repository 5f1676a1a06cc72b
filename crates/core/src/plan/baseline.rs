//! The few things that keep a host's network working, ahead of every rule.
//!
//! Echo requests are decided before replies: connection tracking calls every request after the
//! first of a series "established", so a rate on pings placed behind the replies would bite only
//! once per series.

use super::condition::{Condition, InterfaceTest, LOOPBACK};
use super::model::{Act, Decision, Idle, RuleId, Written};
use super::served::is_replies;
use crate::policy::{Baseline, Host, Ping, Time, TurnedAway, Verdict};
use crate::space::{
    AddressSet, ConnectionState, Direction, IGMP, PortProtocol, RangeSet, TrafficSet,
    loopback as loopback_addresses,
};

/// The name of the part that turns addresses away.
pub const TURNED_AWAY: &str = "turned-away";

/// The switch of what `replies` lets pass in one direction, if there is one.
fn replies_in(direction: Direction) -> Option<&'static str> {
    match direction {
        Direction::Inbound => None,
        Direction::Outbound => Some("outbound-replies"),
        Direction::Forwarded => Some("forwarded-replies"),
    }
}

const ECHO_REQUEST: u8 = 8;
const ECHO_REQUEST_V6: u8 = 128;

/// Multicast listener query, report, done, and the second version's report (RFC 2710, RFC 3810).
const MEMBERSHIP: [(u8, u8); 2] = [(130, 132), (143, 143)];

/// Router solicitation and advertisement, neighbour solicitation and advertisement (RFC 4861).
/// The receiving stack itself discards those that did not come from the link, since their hop
/// limit is then below 255 (RFC 4890 section 4.4.1 asks filters to let them pass).
const NEIGHBOURS: (u8, u8) = (133, 136);

fn v4(first: [u8; 4], last: [u8; 4]) -> AddressSet {
    AddressSet::from_v4([(u32::from_be_bytes(first), u32::from_be_bytes(last))])
}

fn link_local() -> AddressSet {
    AddressSet::from_v6([(0xfe80 << 112, (0xfec0 << 112) - 1)])
}

fn unspecified_v6() -> AddressSet {
    AddressSet::from_v6([(0, 0)])
}

fn decision(name: &str, conditions: Vec<Condition>, act: Act, traffic: &str) -> Decision {
    Decision {
        id: RuleId::baseline(name),
        origin: None,
        conditions,
        act,
        log: None,
        idle: None,
        why: None,
        written: Written { traffic: traffic.into(), ..Written::default() },
    }
}

/// The baseline's decisions for one direction, in order. What is switched off stays in the list,
/// paused, so that it is seen to be missing.
pub(super) fn baseline(host: &Host, direction: Direction, now: Time) -> Vec<Decision> {
    let switches = &host.baseline;
    let mut list = Vec::new();
    if direction != Direction::Forwarded {
        list.push(loopback(direction));
    }
    if direction == Direction::Inbound {
        list.push(false_loopback());
    }
    list.extend(host.turned_away.as_ref().map(|it| turned_away(it, direction, now)));
    if direction != Direction::Outbound {
        list.push(invalid());
    }
    if direction == Direction::Inbound {
        list.push(ping(switches));
    }
    list.push(replies(switches.ping == Ping::ByRules && direction == Direction::Inbound));
    if direction != Direction::Forwarded {
        list.push(neighbours());
    }
    match direction {
        Direction::Inbound => list.push(dhcp("dhcp", (67, 68), (547, 546))),
        Direction::Outbound => list.push(dhcp("dhcp", (68, 67), (546, 547))),
        Direction::Forwarded => {}
    }
    for decision in &mut list {
        let of_name = |name: &str| switches.switches.iter().find(|it| it.0 == name);
        let of_direction = replies_in(direction).filter(|_| is_replies(decision)).and_then(of_name);
        let switched = of_direction.or(of_name(&decision.id.name));
        if let Some((_, on, origin)) = switched {
            decision.idle = (!on).then_some(Idle::Paused);
            decision.origin = Some(origin.clone());
        }
    }
    list
}

fn loopback(direction: Direction) -> Decision {
    let is_loopback = InterfaceTest::Is(LOOPBACK.into());
    let condition = match direction {
        Direction::Inbound => Condition { in_interface: is_loopback, ..Condition::default() },
        _ => Condition { out_interface: is_loopback, ..Condition::default() },
    };
    let mut decision =
        decision("loopback", vec![condition], Act::Decide(Verdict::Allow), "any, on lo");
    decision.why = Some("programs of this host talk to each other".into());
    decision
}

fn false_loopback() -> Decision {
    let elsewhere = || Condition {
        in_interface: InterfaceTest::IsNot(LOOPBACK.into()),
        ..Condition::default()
    };
    let conditions = vec![
        Condition { source: loopback_addresses(), ..elsewhere() },
        Condition { destination: loopback_addresses(), ..elsewhere() },
    ];
    let mut decision = decision(
        "false-loopback",
        conditions,
        Act::Decide(Verdict::Deny),
        "loopback addresses, not on lo",
    );
    decision.why = Some("no honest packet from outside carries them".into());
    decision
}

/// What comes from those who are turned away, and what goes to them: an answer could not come back.
fn turned_away(them: &TurnedAway, direction: Direction, now: Time) -> Decision {
    let always = Some((None, &them.addresses)).filter(|it| !it.1.is_empty());
    let lasting = them.for_a_time.iter().filter(|it| it.0 > now).map(|it| (Some(it.0), &it.1));
    let mut conditions = Vec::new();
    for (until, addresses) in always.into_iter().chain(lasting) {
        let from = Condition { source: addresses.clone(), until, ..Condition::default() };
        let to = Condition { destination: addresses.clone(), until, ..Condition::default() };
        match direction {
            Direction::Inbound => conditions.push(from),
            Direction::Outbound => conditions.push(to),
            Direction::Forwarded => conditions.extend([from, to]),
        }
    }
    let terms = them.terms.join(", ");
    let written = match direction {
        Direction::Inbound => Written { traffic: "any".into(), from: terms, ..Written::default() },
        Direction::Outbound => Written { traffic: "any".into(), to: terms, ..Written::default() },
        Direction::Forwarded => {
            Written { traffic: "any, also to them".into(), from: terms, ..Written::default() }
        }
    };
    // Nobody is, once all their times are over.
    let over = them.for_a_time.iter().map(|it| it.0).max().filter(|_| conditions.is_empty());
    let mut decision = decision(TURNED_AWAY, conditions, Act::Decide(Verdict::Deny), "any");
    decision.written = written;
    decision.origin = Some(them.origin.clone());
    decision.why = Some("`turned-away` in the host's section".into());
    decision.idle = over.map(Idle::Ended);
    decision
}

fn invalid() -> Decision {
    let condition = Condition::states(&[ConnectionState::Invalid]);
    let mut decision =
        decision("invalid", vec![condition], Act::Decide(Verdict::Deny), "invalid state");
    decision.why = Some("fits no connection and cannot begin one".into());
    decision
}

/// Where the rules decide about echo requests, all but these: connection tracking calls every one after
/// the first of a series a part of what was allowed.
fn replies(but_pings: bool) -> Decision {
    let mut condition =
        Condition::states(&[ConnectionState::Established, ConnectionState::Related]);
    if but_pings {
        condition.traffic = TrafficSet::any().difference(&pings());
    }
    let mut decision =
        decision("replies", vec![condition], Act::Decide(Verdict::Allow), "replies, related");
    decision.why = Some("answers to what was allowed, and errors about it".into());
    decision
}

fn neighbours() -> Decision {
    let types = |ranges: &[(u8, u8)]| {
        TrafficSet::icmp(RangeSet::empty(), RangeSet::from_ranges(ranges.iter().copied()))
    };
    let conditions = vec![
        Condition { traffic: types(&[NEIGHBOURS]), ..Condition::default() },
        Condition {
            traffic: types(&MEMBERSHIP),
            source: link_local().union(&unspecified_v6()),
            ..Condition::default()
        },
        Condition {
            traffic: TrafficSet::protocol(IGMP),
            destination: v4([224, 0, 0, 0], [239, 255, 255, 255]),
            ..Condition::default()
        },
    ];
    let mut decision = decision(
        "neighbours",
        conditions,
        Act::Decide(Verdict::Allow),
        "neighbour discovery, MLD, IGMP",
    );
    decision.why = Some("without it IPv6 and multicast stop (RFC 4890, RFC 3376)".into());
    decision
}

/// DHCP for IPv4 (RFC 2131) and IPv6 (RFC 8415): ports as (from, to).
fn dhcp(name: &str, ports: (u16, u16), ports_v6: (u16, u16)) -> Decision {
    let conditions = vec![
        Condition {
            traffic: PortProtocol::Udp.traffic(RangeSet::single(ports.1)),
            source_ports: RangeSet::single(ports.0),
            source: AddressSet::full().only(crate::space::Family::V4),
            ..Condition::default()
        },
        Condition {
            traffic: PortProtocol::Udp.traffic(RangeSet::single(ports_v6.1)),
            source_ports: RangeSet::single(ports_v6.0),
            source: link_local(),
            ..Condition::default()
        },
    ];
    let traffic =
        format!("{}/udp from {}, {}/udp from {}", ports.1, ports.0, ports_v6.1, ports_v6.0);
    let mut decision = decision(name, conditions, Act::Decide(Verdict::Allow), &traffic);
    decision.why = Some("the host can get and renew its addresses".into());
    decision
}

fn pings() -> TrafficSet {
    TrafficSet::icmp(RangeSet::single(ECHO_REQUEST), RangeSet::single(ECHO_REQUEST_V6))
}

fn ping(switches: &Baseline) -> Decision {
    let condition = Condition { traffic: pings(), ..Condition::default() };
    let act = match switches.ping {
        Ping::Allow => Act::Decide(Verdict::Allow),
        // By the rules: not in force, it stands there so that it is seen who decides.
        Ping::Deny | Ping::ByRules => Act::Decide(Verdict::Deny),
        Ping::Rate(rate) => Act::AllowWithin(rate),
    };
    let mut decision = decision("ping", vec![condition], act, "icmp echo requests");
    decision.origin.clone_from(&switches.ping_origin);
    decision.why = Some("`ping` in the baseline section".into());
    if switches.ping == Ping::ByRules {
        decision.idle = Some(Idle::Paused);
        decision.why = Some("the rules decide: `ping` in the baseline section".into());
    }
    decision
}
