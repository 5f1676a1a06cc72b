//! The three witnesses: what the plan says, what the program read back from the kernel says, and
//! what real packets meet.

use crate::remembered::{Tallied, expect, is_remembered};
use crate::world::{netfilter, plan, tracking};
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::{Record, Verdict};
use tipstaff_core::program::{Action, ProgramRule, RuleProgram, lower};
use tipstaff_core::space::{Direction, Packet, Transport};
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::probe::{Fate, Range, Shot, first_packet};
use tipstaff_linux::ruleset::enforce;
use tipstaff_wire::packet::Payload;

const POLICIES: u64 = 40;
/// For a longer run, the number of policies.
const MORE: &str = "TIPSTAFF_AGREEMENT_POLICIES";
const PACKETS: usize = 1_000;

/// The host's link by which it reaches an address: the routes of the lab.
pub fn link_to(address: IpAddr) -> String {
    let inside = match address {
        IpAddr::V4(address) => address.octets()[..3] == [10, 44, 8],
        IpAddr::V6(address) => address.segments()[..4] == [0xfd44, 8, 0, 0],
    };
    if inside { "eth1" } else { "eth0" }.into()
}

/// Puts in the interfaces by which a neighbour on `side` really sends it, or the host itself.
pub fn in_the_lab(packet: &Packet, side: &str) -> Packet {
    let out = link_to(packet.destination);
    let (in_interface, out_interface) = match packet.direction {
        Direction::Inbound => (Some(side.into()), None),
        Direction::Outbound => (None, Some(out)),
        Direction::Forwarded => (Some(side.into()), Some(out)),
    };
    // Nobody in the lab is a program or user that rules name.
    let state = match packet.transport {
        Transport::Icmp { .. } => tracking().state_alone(packet.transport, packet.family()),
        _ => packet.state,
    };
    Packet { in_interface, out_interface, state, program: None, user: None, ..packet.clone() }
}

/// Answers to senders on the link that are not there wait for a hardware address that never
/// comes. Few may wait, or soon the kernel would make no more.
pub fn do_not_wait_for_nobody(host: &Node) {
    let write = || {
        for version in ["ipv4", "ipv6"] {
            for link in ["eth0", "eth1"] {
                let file = format!("/proc/sys/net/{version}/neigh/{link}/unres_qlen_bytes");
                std::fs::write(file, "2048").expect("the setting is there");
            }
        }
    };
    host.run(write).expect("entered");
}

pub fn shot(packet: &Packet) -> Shot {
    let payload = match packet.transport {
        Transport::Ports { protocol, source, destination } => {
            first_packet(protocol, source, destination)
        }
        Transport::Icmp { kind } => Payload::Icmp { kind },
        Transport::Other { protocol } => Payload::Other { protocol },
    };
    Shot {
        direction: packet.direction,
        source: packet.source,
        destination: packet.destination,
        payload,
    }
}

/// Packets that are each the first of a flow.
pub fn new_packets(count: usize, mut next: impl FnMut() -> Packet) -> Vec<Packet> {
    let mut sent: Vec<Packet> = Vec::new();
    let mut flows = HashSet::new();
    while sent.len() < count {
        let packet = next();
        // A second packet of a flow, or one the other way, would no longer be new. Each ICMP message
        // has a number of its own.
        let ends = [packet.source, packet.destination];
        let flow = (ends.iter().min().copied(), ends.iter().max().copied());
        let carried = (packet.protocol(), packet.ports());
        let is_icmp = matches!(packet.transport, Transport::Icmp { .. });
        if is_icmp || flows.insert((flow, carried)) {
            sent.push(packet);
        }
    }
    sent
}

/// What the plan says, what the kernel's program says and what a packet met is the same.
pub fn agree((plan, kernel): (&HostPlan, &RuleProgram), packet: &Packet, fate: Fate, of: &str) {
    let decided = plan.evaluate(packet);
    let visible = match decided.verdict {
        Verdict::Reject if !plan.may_answer(packet) => Verdict::Deny,
        verdict => verdict,
    };
    assert_eq!(fate, Fate::Decided(visible), "the plan says {decided:?} of {packet:?}: {of}");
    assert_eq!(kernel.evaluate(packet).as_ref(), Some(&decided), "{packet:?}: {of}");
}

#[test]
fn plan_kernel_and_wire_agree_on_generated_policies() {
    sealed("agreement::plan_kernel_and_wire_agree_on_generated_policies", || {
        let mut verdicts: HashMap<Verdict, usize> = HashMap::new();
        let (mut packets, mut dropped) = (0, 0);
        let more = std::env::var(MORE).ok();
        let policies = more.and_then(|it| it.parse().ok()).unwrap_or(POLICIES);
        let (mut lookups, mut remembered) = (0, 0);
        for seed in 0..policies {
            let lab = street_sluice_granary();
            let node = |name| lab.node(name).expect("there");
            let (host, street, granary) = (node("sluice"), node("street"), node("granary"));
            do_not_wait_for_nobody(host);
            let mut generator = Generator::new(seed);
            if seed % 3 == 2 {
                generator = generator.crowded();
            }
            let text = generator.policy();
            let mut plan = plan(&text);
            plan.record = match seed % 4 {
                0 => Some(Record { admitted: true, ..Record::USUAL }),
                1 => None,
                _ => Some(Record::USUAL),
            };
            let snapshot = host
                .run(|| enforce(&mut netfilter(), &plan.host, &lower(&plan)))
                .expect("the host is entered")
                .unwrap_or_else(|error| panic!("seed {seed}: {error}\n{text}"));
            let chosen = |rule: &ProgramRule| matches!(rule.action, Action::Choose(_));
            let chains = &snapshot.program.chains;
            lookups += chains.iter().flat_map(|it| &it.rules).filter(|it| chosen(it)).count();
            let (side, neighbour) =
                if seed % 2 == 0 { ("eth0", street) } else { ("eth1", granary) };
            let mut range = Range::open(host, side, neighbour, "eth0").expect("an observer");
            let sent = new_packets(PACKETS, || in_the_lab(&generator.packet(&plan), side));
            let shots: Vec<Shot> = sent.iter().map(shot).collect();
            let mut account = range.fire(&shots).expect("packets are sent");
            assert_eq!(account.lost_reports, 0, "seed {seed}");
            // On a busy machine a packet may be dropped before it meets any rule. That is seen,
            // and it is sent once more.
            for (shot, fate) in shots.iter().zip(&mut account.fates) {
                if *fate == Fate::Lost {
                    dropped += 1;
                    *fate = range.fire(&[*shot]).expect("it is sent").fates[0];
                }
            }
            let mut expected = Tallied::new();
            for (packet, fate) in sent.iter().zip(&account.fates) {
                let decided = plan.evaluate(packet);
                agree((&plan, &snapshot.program), packet, *fate, &format!("seed {seed}\n{text}"));
                expect(&mut expected, &plan, packet, &decided.by, decided.verdict);
                *verdicts.entry(decided.verdict).or_default() += 1;
                packets += 1;
            }
            remembered += expected.values().sum::<u64>();
            is_remembered(host, plan.record.is_some(), &sent, expected, seed);
        }
        println!(
            "{packets} packets, {policies} policies, {lookups} lookups, no disagreement: \
             {verdicts:?}; {dropped} sent twice; {remembered} \
             remembered"
        );
        assert!(remembered > 10_000, "{remembered}");
        assert!(dropped < packets / 2_000, "{dropped} packets were dropped on their way");
        assert_eq!(packets, usize::try_from(policies).expect("small") * PACKETS);
        assert!(lookups > 50, "only {lookups} lookups");
        assert!(Verdict::ALL.iter().all(|verdict| verdicts[verdict] > 2_000), "{verdicts:?}");
    });
}
