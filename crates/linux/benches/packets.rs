//! What a packet of a new flow costs with few and with many rules: throughput of small UDP packets,
//! measured alternately in one run, since a machine's speed drifts.
//!
//! The packets are the same whatever rules they meet: to send to ten thousand receivers takes longer than to send to
//! ten, without any rules. A third of them are aimed at the 10,000 rules, a third at the
//! most. All rules deny here, as does the default, so that what happens after the verdict is the same for all packets. They are the host's own,
//! and so meet the rules within the call that sends them: packets that come in can be lost in a queue, which would be
//! mistaken for speed.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::{HostPlan, RuleId, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_linux::lab::testing::{Flood, sealed_benchmark, street_sluice_granary};
use tipstaff_linux::ruleset::enforce;
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::packet::{Payload, build};

/// How many rules; of none there is the default alone.
const RULES: [usize; 3] = [0, 10, 10_000];
/// How many hosts are measured: one without a table, and one more with the most rules of a kind.
const HOSTS: usize = RULES.len() + 2;
const PACKETS: usize = 20_000;
const WARMING: usize = 1_000;
const ROUNDS: usize = 31;

/// A way to make up a policy.
type Make = fn(&mut Generator, usize) -> String;

fn main() {
    sealed_benchmark(report);
}

fn report() {
    let kinds: [(&str, Make, usize); 3] = [
        ("all kinds", Generator::long_policy, 100_000),
        ("single addresses and ports", Generator::policy_of_points, 100_000),
        ("grown", Generator::grown_policy, 30_000),
    ];
    println!("time of a packet of a new flow, medians of {ROUNDS} rounds of {PACKETS}");
    println!(
        "rules                       no table        0       10    10000     most   \
         none : 10   10 : 10000   10 : most"
    );
    for (name, make, rules) in kinds {
        let [none, default, few, many, most] = measure(make, rules);
        let ratio = |one: Duration, other: Duration| one.as_secs_f64() / other.as_secs_f64();
        println!(
            "{name:<26}  {none:>8.2?} {default:>8.2?} {few:>8.2?} {many:>8.2?} {most:>8.2?}   \
             {:>9.2}   {:>10.2}   {:>9.2} ({rules})",
            ratio(none, few),
            ratio(few, many),
            ratio(few, most),
        );
    }
}

fn plan(make: Make, rules: usize) -> HostPlan {
    let text = make(&mut Generator::new(1), rules)
        .replace("\nallow = ", "\ndeny = ")
        .replace("\nreject = ", "\ndeny = ")
        .replace("\ndeny = ", "\ndirection = \"outbound\"\ndeny = ")
        .replace("\nto = ", "\nsenders = ")
        .replace("\nfrom = ", "\nto = ")
        .replace("\nsenders = ", "\nfrom = ")
        .replace("\ningress = ", "\negress = ");
    let (head, rules) = text.split_at(text.find("[[host").unwrap_or(text.len()));
    let text = format!("{head}[host.{HOST_NAME}.default]\noutbound = \"deny\"\n{rules}");
    let policy = read(&Source::new("long.toml", &text)).expect("a policy");
    let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    // What it costs to remember senders has a bench of its own.
    plan.record = None;
    plan
}

/// Small UDP packets of the host, each of a flow of its own.
fn packets(many: &HostPlan, most: &HostPlan) -> Vec<(IpAddr, Vec<u8>)> {
    let mut generator = Generator::new(2);
    let template = Packet {
        user: None,
        direction: Direction::Outbound,
        in_interface: None,
        out_interface: None,
        source: many.addresses[0],
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
        match packets.len() % 3 {
            0 => generator.aim(&mut packet, many),
            1 => generator.aim(&mut packet, most),
            _ => {
                let other = u32::try_from(generator.below(1 << 24)).expect("it fits");
                packet.destination = Ipv4Addr::from_bits(10 << 24 | other).into();
            }
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

/// The time of one packet without a table, and with each number of rules. Each has a host of its own, and these take
/// turns.
fn measure(make: Make, most: usize) -> [Duration; HOSTS] {
    let [none, few, many] = RULES.map(|rules| plan(make, rules));
    let plans = [none, few, many, plan(make, most)];
    let labs = [(); HOSTS].map(|()| street_sluice_granary());
    let hosts = labs.each_ref().map(|lab| lab.node("sluice").expect("it"));
    for (host, plan) in hosts[1..].iter().zip(&plans) {
        host.run(|| {
            let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
            enforce(&mut kernel, HOST_NAME, &lower(plan)).expect("enforced");
        })
        .expect("entered");
    }
    let packets = packets(&plans[2], &plans[3]);
    let floods = hosts.map(Flood::open);
    let mut times = [const { Vec::new() }; HOSTS];
    for _ in 0..ROUNDS {
        for (flood, times) in floods.iter().zip(&mut times) {
            flood.send(&packets[..WARMING]);
            let begun = Instant::now();
            flood.send(&packets);
            times.push(begun.elapsed() / u32::try_from(PACKETS).expect("few"));
        }
    }
    for (host, plan) in hosts[1..].iter().zip(&plans) {
        let (taken, sent) = (taken(host, plan), ROUNDS * (PACKETS + WARMING));
        // The host also says a few things of its own.
        let all = sent as u64..sent as u64 + 1_000;
        assert!(all.contains(&taken), "{taken} of {sent} met the rules");
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
