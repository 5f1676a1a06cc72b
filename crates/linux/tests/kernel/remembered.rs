//! What the kernel remembers of who came, held against what was sent.

use crate::world::{netfilter, plan};
use std::collections::{BTreeMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;
use tipstaff_core::plan::{HostPlan, Kind, RuleId};
use tipstaff_core::policy::{Record, Verdict};
use tipstaff_core::program::{Action, Drift, ProgramRule, compare, lower};
use tipstaff_core::space::{self, ConnectionState, Direction, Family, ICMP, ICMPV6, Packet};
use tipstaff_linux::lab::testing::{Rain, address, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::ruleset::{Caller, Callers, TABLE, Tally, Wanted, Who, callers, enforce, read};
use tipstaff_linux::{NetlinkSocket, Transport as _, deliver};
use tipstaff_wire::nf_tables as nf;
use tipstaff_wire::packet::{Payload, build};

/// How often somebody came for something and fared so.
pub type Tallied = BTreeMap<(Direction, String, bool, Who, Wanted), u64>;

/// What the kernel remembers.
pub fn recall(host: &Node) -> Option<Callers> {
    host.run(|| callers(&mut netfilter())).expect("entered").expect("read")
}

/// The entries of it.
fn tallied(callers: &Callers) -> Tallied {
    let mut all = Tallied::new();
    for it in &callers.list {
        let key = (it.direction, it.decision.to_string(), it.admitted, it.who, it.wanted);
        assert!(all.insert(key, it.count).is_none(), "one entry each: {it:?}");
        // When the first of several things came is not kept.
        let whole = it.first.is_some_and(|first| first >= it.last);
        assert!(whole || it.wanted == Wanted::Several, "{it:?}");
    }
    all
}

/// Whether the lab's kernels send such messages too, on their own account: about neighbours, memberships and better
/// ways, about errors, and as answers.
fn also_sent_by_kernels(wanted: Wanted) -> bool {
    matches!(
        wanted,
        Wanted::Icmp(ICMP, 0 | 3 | 5 | 11 | 12 | 14, _)
            | Wanted::Icmp(ICMPV6, 1..=4 | 129 | 133..=137 | 143, _)
    )
}

/// Where an answer to a packet would go, or come from, and to which port.
fn answered_to(packet: &Packet) -> Vec<(Who, Wanted)> {
    let space::Transport::Ports { protocol, source, .. } = packet.transport else {
        return Vec::new();
    };
    let wanted = Wanted::Port(protocol.number(), source);
    [packet.source, packet.destination].map(|it| (Who::Address(it), wanted)).into()
}

/// Adds what ought to be remembered of a packet with this fate.
pub fn expect(all: &mut Tallied, plan: &HostPlan, packet: &Packet, id: &RuleId, verdict: Verdict) {
    let Some(record) = plan.record else { return };
    let admitted = verdict == Verdict::Allow;
    let begins = packet.state == ConnectionState::New;
    let usual = id.kind != Kind::Baseline || id.name == "ping";
    if admitted && !(record.admitted && begins && usual) {
        return;
    }
    let other = match packet.direction {
        Direction::Outbound => packet.destination,
        _ => packet.source,
    };
    let wanted = match packet.transport {
        space::Transport::Ports { protocol, destination, .. } => {
            Wanted::Port(protocol.number(), destination)
        }
        space::Transport::Icmp { kind } if packet.family() == Family::V4 => {
            Wanted::Icmp(ICMP, kind, 0)
        }
        space::Transport::Icmp { kind } => Wanted::Icmp(ICMPV6, kind, 0),
        space::Transport::Other { protocol } => Wanted::Protocol(protocol),
    };
    let key = (packet.direction, id.to_string(), admitted, Who::Address(other), wanted);
    *all.entry(key).or_default() += 1;
}

/// Takes out what is remembered of one sender together, and as much of what is expected of him: for a moment, while its
/// tables grow, a busy kernel can have no memory for an entry. Nothing is lost then, only told less exactly. Gives how
/// many packets that were.
fn told_together(recalled: &mut Tallied, expected: &mut Tallied) -> usize {
    let (together, exactly): (Tallied, Tallied) =
        std::mem::take(recalled).into_iter().partition(|it| it.0.4 == Wanted::Several);
    *recalled = exactly;
    let mut all = 0;
    for ((direction, decision, admitted, who, _), mut count) in together {
        all += usize::try_from(count).expect("few");
        for (key, expected) in expected.iter_mut() {
            let alike = (key.0, &key.1, key.2) == (direction, &decision, admitted);
            if alike && is_of(key.3, who) {
                let missing = *expected - recalled.get(key).copied().unwrap_or(0).min(*expected);
                let taken = missing.min(count);
                (*expected, count) = (*expected - taken, count - taken);
            }
        }
    }
    expected.retain(|_, count| *count > 0);
    all
}

/// Whether a sender is the other one, or in his network.
fn is_of(sender: Who, other: Who) -> bool {
    match (sender, other) {
        (Who::Address(IpAddr::V6(address)), Who::Network(network, bits)) => {
            let IpAddr::V6(network) = network else { return false };
            (address.to_bits() ^ network.to_bits()) >> (128 - u32::from(bits)) == 0
        }
        _ => sender == other,
    }
}

/// Holds what the host remembers against what ought to be.
pub fn is_remembered(
    host: &Node,
    remembers: bool,
    sent: &[Packet],
    mut expected: Tallied,
    seed: u64,
) {
    let recalled = recall(host);
    assert_eq!(recalled.is_some(), remembers);
    let mut recalled = recalled.map(|it| tallied(&it)).unwrap_or_default();
    // What the lab's kernels send on their own account, answers to what was sent above all, is not in the
    // list of what was sent.
    let asked: HashSet<(Who, Wanted)> = sent.iter().flat_map(answered_to).collect();
    let own_account = |it: &(Direction, _, _, Who, Wanted)| {
        asked.contains(&(it.3, it.4)) || also_sent_by_kernels(it.4)
    };
    let together = told_together(&mut recalled, &mut expected);
    assert!(together <= 2 + sent.len() / 200, "seed {seed}: {together} found no room of their own");
    recalled.retain(|it, _| expected.contains_key(it) || !own_account(it));
    // What the host sends itself cannot be told from what is sent in its name, nor what neighbours ask from what is
    // sent in theirs.
    let neighbours = |it: Wanted| matches!(it, Wanted::Icmp(ICMPV6, 133..=137 | 143, _));
    for all in [&mut recalled, &mut expected] {
        all.retain(|it, _| match it.0 {
            Direction::Inbound => !neighbours(it.4),
            _ => !also_sent_by_kernels(it.4),
        });
    }
    let only = |one: &Tallied, other: &Tallied| -> Vec<_> {
        let differing = one.iter().filter(|it| other.get(it.0) != Some(it.1));
        differing.map(|it| format!("{it:?}")).collect()
    };
    let (sent, told) = (only(&expected, &recalled), only(&recalled, &expected));
    assert!(recalled == expected, "seed {seed}: sent {sent:#?}\nremembered {told:#?}");
}

/// A policy that denies all but one port, and remembers.
pub const CLOSED: &str = "edition = 1\n[host.sluice]\n\
    addresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\nrecord = \"all\"\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n";

/// A datagram from somebody to a port of the host.
pub fn datagram(source: IpAddr, port: u16, tag: u32) -> Vec<u8> {
    let host = address(if source.is_ipv4() { "192.0.2.10" } else { "2001:db8:2::10" });
    build(source, host, Payload::Udp { source: 2_000, destination: port }, tag)
}

pub fn sluice(lab: &Lab) -> (&Node, Rain) {
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let program = lower(&plan(CLOSED));
    let held = sluice.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
    assert_eq!(held.expect("enforced").program, program);
    (sluice, Rain::open((sluice, "eth0"), (street, "eth0")))
}

/// What the default has denied, and what is remembered of it, what found no room included.
fn denied(host: &Node) -> (u64, u64, Callers) {
    let look = || read(&mut netfilter());
    let snapshot = host.run(look).expect("entered").expect("read").expect("there");
    let default = |it: &&Tally| it.id.to_string() == "default/inbound";
    let counted = snapshot.tallies.iter().find(default).expect("it").taken.packets;
    let callers = recall(host).expect("it remembers");
    let mine = callers.list.iter().filter(|it| it.decision.to_string() == "default/inbound");
    (counted, mine.map(|it| it.count).sum::<u64>() + callers.no_room, callers)
}

#[test]
fn a_flood_of_invented_senders_takes_what_room_there_is_and_no_more() {
    sealed("remembered::a_flood_of_invented_senders_takes_what_room_there_is_and_no_more", || {
        const FLOOD: u32 = 1_000_000;
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let known = address("203.0.113.9");
        (0..3).for_each(|tag| rain.send(&datagram(known, 22, tag)));
        for number in 0..FLOOD {
            let source = Ipv4Addr::from_bits((11 << 24) + number).into();
            rain.send(&datagram(source, 9, number));
        }
        rain.send(&datagram(known, 22, 3));
        let (counted, remembered, callers) = denied(host);
        assert!(counted > u64::from(FLOOD) / 2, "{counted} arrived");
        assert_eq!(remembered, counted, "each packet is remembered, or counted as without room");
        assert!((60_000..=65_536).contains(&callers.list.len()), "{}", callers.list.len());
        assert!(callers.no_room > u64::from(FLOOD) / 4, "{}", callers.no_room);
        let before = callers.list.iter().find(|it| it.who == Who::Address(known));
        let before = before.expect("who was known before is still there");
        assert_eq!((before.count, before.wanted), (4, Wanted::Port(17, 22)));
        // No verdict has changed, and the rules are what they were.
        let program = lower(&plan(CLOSED));
        let look = || read(&mut netfilter());
        let held = host.run(look).expect("entered").expect("read").expect("there");
        assert_eq!(held.program, program);
        println!("{counted} packets, {} entries", callers.list.len());
    });
}

#[test]
fn one_sender_and_one_network_have_a_share_each() {
    sealed("remembered::one_sender_and_one_network_have_a_share_each", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let sweeping = address("203.0.113.9");
        (1..=3_000).for_each(|port| rain.send(&datagram(sweeping, port, port.into())));
        let in_48 = |high: u16, low: u16| -> IpAddr {
            Ipv6Addr::new(0x2001, 0xdb8, 0xbad, high, 0, 0, 0, low).into()
        };
        // One network of 64 bits after the other, two addresses in each.
        for high in 0..3_000 {
            (1..=2).for_each(|low| rain.send(&datagram(in_48(high, low), 9, u32::from(high))));
        }
        let (counted, remembered, callers) = denied(host);
        assert_eq!(remembered, counted);
        assert_eq!(callers.no_room, 0);
        let exact = |it: &Caller| it.wanted != Wanted::Several;
        let of = |who: &dyn Fn(IpAddr) -> bool, exactly: bool| {
            let list = callers.list.iter().filter(|it| exact(it) == exactly);
            list.filter(|it| matches!(it.who, Who::Address(at) | Who::Network(at, _) if who(at)))
                .collect::<Vec<_>>()
        };
        let v4 = |it: IpAddr| it == sweeping;
        assert_eq!(of(&v4, true).len(), 1_024);
        let rest = of(&v4, false);
        assert_eq!(rest.len(), 1, "{rest:?}");
        assert_eq!((rest[0].who, rest[0].first), (Who::Address(sweeping), None));
        let v6 = |it: IpAddr| matches!(it, IpAddr::V6(it) if it.segments()[2] == 0xbad);
        assert_eq!(of(&v6, true).len(), 1_024);
        let rest = of(&v6, false);
        let with = |bits: u8| {
            rest.iter()
                .filter(|it| matches!(it.who, Who::Network(_, found) if found == bits))
                .count()
        };
        assert_eq!((with(64), with(48)), (1_024, 1));
        assert_eq!(rest.len(), 1_025);
    });
}

/// Somebody else adds a rule.
pub fn by_others(kernel: &mut NetlinkSocket, rule: &nf::Rule) {
    let mut batch = nf::Batch::begin(kernel.next_sequence());
    batch.new_rule(rule);
    let refusals = deliver(kernel, "change", &batch.finish().expect("fits"));
    assert_eq!(refusals.expect("told"), []);
}

#[test]
fn what_somebody_changes_about_the_record_is_seen() {
    sealed("remembered::what_somebody_changes_about_the_record_is_seen", || {
        let program = lower(&plan(CLOSED));
        let chain = |name: &str, verdict: nf::Verdict| nf::Rule {
            table: TABLE.into(),
            chain: name.into(),
            expressions: vec![nf::Expression::Immediate(verdict)],
            ..nf::Rule::default()
        };
        for (changed, opaque) in [
            // A rule more where packets are turned away.
            (chain("record/sender/drop", nf::Verdict::Accept), true),
            (chain("record/inbound/catalogue", nf::Verdict::Drop), true),
            (chain("record/sender/drop/v4/ports", nf::Verdict::Accept), true),
        ] {
            let mut kernel = netfilter();
            enforce(&mut kernel, "sluice", &program).expect("enforced");
            by_others(&mut kernel, &changed);
            let held = read(&mut kernel).expect("read").expect("there").program;
            let drifts = compare(&program, &held);
            assert!(drifts.contains(&Drift::Record), "{drifts:?}");
            let is_opaque = |rule: &ProgramRule| matches!(rule.action, Action::Opaque(_));
            let found = held.chains.iter().flat_map(|it| &it.rules).any(is_opaque);
            assert_eq!(found, opaque, "{changed:?}");
        }
    });
}

#[test]
fn who_has_not_come_again_is_forgotten_and_who_has_is_not() {
    sealed("remembered::who_has_not_come_again_is_forgotten_and_who_has_is_not", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let mut program = lower(&plan(CLOSED));
        program.record = Some(Record { admitted: false, keeps: 2 });
        let held = host.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
        assert_eq!(held.expect("enforced").program, program);
        let (once, again) = (address("203.0.113.9"), address("2001:db8:bad::9"));
        rain.send(&datagram(once, 9, 0));
        for number in 0..8 {
            rain.send(&datagram(again, 9, number));
            std::thread::sleep(Duration::from_millis(500));
        }
        let (_, _, callers) = denied(host);
        let found: Vec<_> =
            callers.list.iter().filter(|it| it.wanted == Wanted::Port(17, 9)).collect();
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].who, found[0].count), (Who::Address(again), 8));
        // It came first longer ago than is remembered, and that does not become younger.
        assert_eq!(found[0].first, None);
        assert!((400..2_000).contains(&found[0].last), "{found:?}");
    });
}

#[test]
fn what_is_told_together_is_what_is_missing() {
    let key = |who, wanted| (Direction::Inbound, "default".to_owned(), false, who, wanted);
    let port = |port| Wanted::Port(17, port);
    let (one, other) = (Who::Address(address("192.0.2.7")), Who::Address(address("192.0.2.8")));
    let near = Who::Address(address("2001:db8:2:0:1::7"));
    let network = Who::Network(address("2001:db8:2::"), 64);
    let mut expected = Tallied::from([
        (key(one, port(53)), 2),
        (key(other, port(53)), 1),
        (key(near, port(9)), 1),
    ]);
    let mut recalled = Tallied::from([
        (key(one, port(53)), 1),
        (key(one, Wanted::Several), 1),
        (key(network, Wanted::Several), 1),
    ]);
    assert_eq!(told_together(&mut recalled, &mut expected), 2);
    let left = Tallied::from([(key(one, port(53)), 1), (key(other, port(53)), 1)]);
    assert_eq!(expected, left, "one has nothing to do with the other");
    assert_eq!(recalled, Tallied::from([(key(one, port(53)), 1)]));
}
