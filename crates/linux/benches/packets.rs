//! What a packet of a new flow costs with few and with many rules: throughput of small UDP packets,
//! measured alternately in one run, since a machine's speed drifts.
//!
//! The packets are the same whatever rules they meet: to send to ten thousand receivers takes longer than to send to
//! ten, without any rules. Half of them are aimed at the many rules. All rules deny here, as does the default, so that
//! what happens after the verdict is the same for all packets. They are the host's own, and so meet the rules within
//! the call that sends them: packets that come in can be lost in a queue, which would be mistaken for speed.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::{HostPlan, RuleId, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_linux::lab::testing::{Flood, sealed_benchmark, street_sluice_granary};
use tipstaff_linux::ruleset::{enforce, release};
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::packet::{Payload, build};

const FEW: usize = 10;
const MANY: usize = 10_000;
const PACKETS: usize = 20_000;
const ROUNDS: usize = 21;

fn main() {
    sealed_benchmark(report);
}

fn report() {
    let mixed: fn(&mut Generator, usize) -> String = Generator::long_policy;
    let points: fn(&mut Generator, usize) -> String = Generator::policy_of_points;
    let grown: fn(&mut Generator, usize) -> String = Generator::grown_policy;
    println!("time of a packet of a new flow, medians of {ROUNDS} rounds of {PACKETS}");
    println!(
        "rules                       no rules   {FEW:>7}   {MANY:>7}   {FEW} : {MANY}   none : {MANY}"
    );
    for (name, make) in
        [("all kinds", mixed), ("single addresses and ports", points), ("grown", grown)]
    {
        let [none, few, many] = measure(&make);
        let ratio = |other: Duration| other.as_secs_f64() / many.as_secs_f64();
        println!(
            "{name:<26}  {none:>8.2?}   {few:>7.2?}   {many:>7.2?}   {:>10.2}   {:>12.2}",
            ratio(few),
            ratio(none)
        );
    }
}

fn plan(make: &impl Fn(&mut Generator, usize) -> String, rules: usize) -> HostPlan {
    let text = make(&mut Generator::new(1), rules)
        .replace("\nallow = ", "\ndeny = ")
        .replace("\nreject = ", "\ndeny = ")
        .replace("\ndeny = ", "\ndirection = \"outbound\"\ndeny = ")
        .replace("\nto = ", "\nsenders = ")
        .replace("\nfrom = ", "\nto = ")
        .replace("\nsenders = ", "\nfrom = ")
        .replace("\ningress = ", "\negress = ");
    let head = format!("[host.{HOST_NAME}.default]\noutbound = \"deny\"\n[[host");
    let text = text.replacen("[[host", &head, 1);
    let policy = read(&Source::new("long.toml", &text)).expect("a policy");
    let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    // What it costs to remember senders has a bench of its own.
    plan.record = None;
    plan
}

/// Small UDP packets of the host, each of a flow of its own.
fn packets(plan: &HostPlan) -> Vec<(IpAddr, Vec<u8>)> {
    let mut generator = Generator::new(2);
    let template = Packet {
        user: None,
        direction: Direction::Outbound,
        in_interface: None,
        out_interface: None,
        source: plan.addresses[0],
        destination: Ipv4Addr::new(203, 0, 113, 9).into(),
        transport: Transport::Ports { protocol: PortProtocol::Udp, source: 1_024, destination: 9 },
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    };
    let mut packets = Vec::with_capacity(PACKETS);
    while packets.len() < PACKETS {
        let mut packet = template.clone();
        if packets.len() % 2 == 0 {
            generator.aim(&mut packet, plan);
        } else {
            let other = u32::try_from(generator.below(1 << 24)).expect("it fits");
            packet.destination = Ipv4Addr::from_bits(10 << 24 | other).into();
        }
        let Transport::Ports { protocol: PortProtocol::Udp, destination, .. } = packet.transport
        else {
            continue;
        };
        let tag = u32::try_from(packets.len()).expect("few");
        let source = 1_024 + u16::try_from(tag % 60_000).expect("a port");
        let payload = Payload::Udp { source, destination };
        let bytes = build(packet.source, packet.destination, payload, tag);
        packets.push((packet.destination, bytes));
    }
    packets
}

/// The time of one packet with no rules, few and many.
fn measure(make: &impl Fn(&mut Generator, usize) -> String) -> [Duration; 3] {
    let lab = street_sluice_granary();
    let host = lab.node("sluice").expect("it");
    let flood = Flood::open(host);
    let plans = [plan(make, FEW), plan(make, MANY)];
    let packets = packets(&plans[1]);
    let mut times = [const { Vec::new() }; 3];
    for _ in 0..ROUNDS {
        for (at, times) in times.iter_mut().enumerate() {
            let rules = at.checked_sub(1).map(|at| &plans[at]);
            host.run(|| {
                let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
                release(&mut kernel).expect("released");
                if let Some(plan) = rules {
                    enforce(&mut kernel, HOST_NAME, &lower(plan)).expect("enforced");
                }
            })
            .expect("entered");
            // The kernel tidies up behind a replaced table for a while.
            std::thread::sleep(Duration::from_millis(300));
            flood.send(&packets[..1_000]);
            let begun = Instant::now();
            flood.send(&packets);
            times.push(begun.elapsed() / u32::try_from(PACKETS).expect("few"));
            if let Some(plan) = rules {
                let (taken, sent) = (taken(host, plan), PACKETS + 1_000);
                // The host also says a few things of its own.
                let all = sent as u64..sent as u64 + 200;
                assert!(all.contains(&taken), "{taken} of {sent} met the rules");
            }
        }
    }
    times.map(|mut times| {
        times.sort_unstable();
        times[ROUNDS / 2]
    })
}

/// How many packets the rules and the default have taken.
fn taken(host: &tipstaff_linux::lab::Node, plan: &HostPlan) -> u64 {
    let read = || {
        let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
        tipstaff_linux::ruleset::read(&mut kernel).expect("read").expect("there")
    };
    let snapshot = host.run(read).expect("entered");
    let ours: HashSet<&RuleId> = plan.decisions().map(|it| &it.1.id).collect();
    let tallies = snapshot.tallies.iter().filter(|it| it.direction == Direction::Outbound);
    tallies.filter(|it| ours.contains(&it.id)).map(|it| it.taken.packets).sum()
}
