//! What it costs to try every port of a host, against the bare time for the same packets: sent
//! over a link to a host without rules that counts them.

use std::net::IpAddr;
use std::time::{Duration, Instant};
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, Time, read};
use tipstaff_core::program::lower;
use tipstaff_core::rehearsal::Judge;
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_linux::lab::testing::{address, sealed_benchmark};
use tipstaff_linux::lab::{Stage, StageLink};
use tipstaff_linux::probe::{Ends, Met, Sweep};
use tipstaff_linux::ruleset::enforce;
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::packet::Payload;

const SYN: u8 = 2;
const SOURCES: [&str; 8] = [
    "198.51.100.7",
    "198.51.100.130",
    "203.0.113.9",
    "203.0.113.70",
    "2001:db8:51::7",
    "2001:db8:be::7",
    "2001:db8:bad::7",
    "2001:db8:77::7",
];
const ROUNDS: usize = 3;

fn main() {
    sealed_benchmark(report);
}

fn stage() -> Stage {
    let addresses = vec![(address("192.0.2.10"), 24), (address("2001:db8:2::10"), 64)];
    let links = [StageLink { name: "eth0".into(), index: None, addresses }];
    Stage::build("sluice", &links, false).expect("a stage")
}

fn receiver(source: IpAddr) -> IpAddr {
    address(if source.is_ipv4() { "192.0.2.10" } else { "2001:db8:2::10" })
}

fn payloads() -> Vec<Payload> {
    let tcp = |port| Payload::Tcp { source: 49_152, destination: port, flags: SYN };
    let udp = |port| Payload::Udp { source: 49_152, destination: port };
    (0..=u16::MAX).map(tcp).chain((0..=u16::MAX).map(udp)).collect()
}

fn shots<'a>(ends: Ends<'a>, payloads: &[Payload]) -> Vec<(Ends<'a>, Payload)> {
    payloads.iter().map(|payload| (ends, *payload)).collect()
}

fn report() {
    let text = include_str!("../../../demo/inherited.toml");
    let policy = read(&Source::new("inherited.toml", text)).expect("a policy");
    let plan = resolve(&policy, "sluice", Time::from_seconds(0)).expect("the host");
    let payloads = payloads();
    for round in 1..=ROUNDS {
        let bare = stage();
        let mut sweep = Sweep::open(&bare, true).expect("an observer");
        let begun = Instant::now();
        for source in SOURCES {
            let source = address(source);
            let ends = Ends { link: "eth0", source, destination: receiver(source) };
            let met = sweep.fire(&shots(ends, &payloads)).expect("sent");
            assert!(met.iter().all(|it| *it == Met::Closed));
        }
        let (packets, all_seen) = (sweep.sent(), begun.elapsed());
        println!(
            "round {round}: {packets} packets, each reported, no rules: {}",
            rate(packets, all_seen)
        );

        let ruled = stage();
        ruled
            .host()
            .run(|| {
                let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
                enforce(&mut socket, "sluice", &lower(&plan)).expect("enforced");
            })
            .expect("entered");
        let mut sweep = Sweep::open(&ruled, false).expect("an observer");
        let begun = Instant::now();
        let mut differ = 0;
        for source in SOURCES {
            let source = address(source);
            let ends = Ends { link: "eth0", source, destination: receiver(source) };
            let met = sweep.fire(&shots(ends, &payloads)).expect("sent");
            differ += disagreements(&plan, ends, &payloads, &met);
        }
        let (packets, whole) = (sweep.sent(), begun.elapsed());
        println!(
            "         {packets} packets, rules, evaluator: {}; {differ} disagree",
            rate(packets, whole)
        );
    }
}

fn rate(packets: u64, time: Duration) -> String {
    let seconds = time.as_secs_f64();
    format!("{seconds:.2} s, {:.0} a second", packets as f64 / seconds)
}

fn disagreements(plan: &HostPlan, ends: Ends<'_>, payloads: &[Payload], met: &[Met]) -> usize {
    let mut packet = Packet {
        user: None,
        direction: Direction::Inbound,
        in_interface: Some("eth0".into()),
        out_interface: None,
        source: ends.source,
        destination: ends.destination,
        transport: Transport::Ports { protocol: PortProtocol::Tcp, source: 0, destination: 0 },
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    };
    let judge = Judge::between(plan, &packet);
    let mut differ = 0;
    for (payload, met) in payloads.iter().zip(met) {
        packet.transport = match *payload {
            Payload::Tcp { source, destination, .. } => {
                Transport::Ports { protocol: PortProtocol::Tcp, source, destination }
            }
            Payload::Udp { source, destination } => {
                Transport::Ports { protocol: PortProtocol::Udp, source, destination }
            }
            _ => continue,
        };
        let decision = judge.decision(&packet).outcome();
        let fits = match decision.verdict {
            tipstaff_core::policy::Verdict::Allow => *met == Met::Closed || decision.limited,
            tipstaff_core::policy::Verdict::Deny => *met == Met::Denied,
            tipstaff_core::policy::Verdict::Reject => *met == Met::Rejected,
        };
        differ += usize::from(!fits);
    }
    differ
}
