//! Every port tried from everybody: the evaluator agrees, and a compiler that is broken on purpose
//! is found out.

use crate::world::netfilter;
use std::collections::BTreeMap;
use tipstaff_core::generate::{Generator, NOW, settle};
use tipstaff_core::plan::{Act, HostPlan, resolve};
use tipstaff_core::policy::{Policy, Source, Verdict, read};
use tipstaff_core::program::lower;
use tipstaff_core::rehearsal::{Course, Judge, Site, Stand, course};
use tipstaff_core::space::{Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::lab::{Stage, StageLink};
use tipstaff_linux::probe::{Ends, Met, Payload, Sweep, first_packet};
use tipstaff_linux::ruleset::enforce;

const POLICIES: u64 = 12;
/// For a longer run, the number of policies.
const MORE: &str = "TIPSTAFF_REHEARSAL_POLICIES";

/// Uses every part of the language that says something about what comes in.
pub const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.stacks]
addresses = ["10.44.8.0/24", "fd44:8::/64"]
[place.nuisance]
addresses = ["203.0.113.64/28", "203.0.113.9", "2001:db8:bad::/64"]
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10", "10.44.8.10"]
interfaces = { outside = "eth0", stacks = "eth1" }
[host.sluice.baseline]
ping = "deny"
[[host.sluice.rule]]
name = "nuisance"
deny = ["any"]
from = ["nuisance"]
[[host.sluice.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["curators"]
ingress = ["outside"]
[[host.sluice.rule]]
name = "one"
allow = ["9101/tcp"]
from = ["10.44.8.20", "10.44.8.21", "10.44.8.23", "10.44.8.25", "10.44.8.27"]
[[host.sluice.rule]]
name = "two"
allow = ["9102/tcp"]
from = ["10.44.8.20", "10.44.8.22", "10.44.8.24", "10.44.8.26"]
[[host.sluice.rule]]
name = "inner"
allow = ["873/tcp"]
from = ["stacks"]
at = ["10.44.8.10"]
[[host.sluice.rule]]
name = "catalogue"
allow = ["80/tcp", "443/tcp+udp", "30000-30010/tcp"]
[[host.sluice.rule]]
name = "clock"
allow = ["123/udp"]
source-ports = ["123"]
[[host.sluice.rule]]
name = "refused"
reject = ["9100/tcp", "161/udp"]
[[host.sluice.rule]]
name = "ping"
allow = ["icmp:timestamp-request"]
[[host.sluice.rule]]
name = "mail"
deny = ["25/tcp"]
from = ["!stacks"]
[[host.sluice.rule]]
name = "mail-inside"
allow = ["25/tcp", "53/tcp+udp"]
"#;

pub struct Host {
    pub plan: HostPlan,
    pub site: Site,
    pub course: Course,
}

impl Host {
    pub fn of(text: &str) -> Self {
        let policy: Policy = read(&Source::new("policy.toml", text))
            .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
        let name = policy.hosts[0].name.clone();
        let mut plan = resolve(&policy, &name, NOW).expect("the host");
        settle(&mut plan);
        let site = Site::of(&plan);
        let course = course(&policy, &plan, &site, None);
        Self { plan, site, course }
    }

    pub fn stage(&self) -> Stage {
        let links = self.site.interfaces.iter().enumerate().map(|(at, name)| StageLink {
            name: name.clone(),
            index: None,
            addresses: match at {
                0 => self
                    .site
                    .addresses
                    .iter()
                    .map(|it| (*it, if it.is_ipv4() { 32 } else { 128 }))
                    .collect(),
                _ => Vec::new(),
            },
        });
        Stage::build(&self.plan.host, &links.collect::<Vec<_>>(), false).expect("a stage")
    }

    /// The ports that rules tell apart, and all ICMP types.
    pub fn telling(&self, stand: &Stand) -> Vec<Transport> {
        let ports = self.course.telling.ranges().iter().flat_map(|&(first, last)| first..=last);
        let source = stand.source_port;
        let mut all: Vec<Transport> = Vec::new();
        for destination in ports {
            all.push(Transport::Ports { protocol: PortProtocol::Tcp, source, destination });
            all.push(Transport::Ports { protocol: PortProtocol::Udp, source, destination });
        }
        all.extend((0..=u8::MAX).map(|kind| Transport::Icmp { kind }));
        all
    }

    pub fn packet(&self, stand: &Stand, transport: Transport) -> Packet {
        self.plan.related(Packet {
            user: None,
            direction: Direction::Inbound,
            in_interface: Some(stand.interface.clone()),
            out_interface: None,
            source: stand.source,
            destination: stand.destination,
            transport,
            state: crate::world::tracking().state_alone(transport, stand.family()),
            program: None,
            asked: None,
            source_is: Relation::default(),
            destination_is: Relation::default(),
        })
    }

    /// Tries all, and gives how many were tried and what met something else than the plan says.
    pub fn rehearse(&self, sweep: &mut Sweep, ports: &dyn Fn(&Stand) -> Vec<Transport>) -> Outcome {
        let tried: Vec<(&Stand, Vec<Transport>)> =
            self.course.stands.iter().map(|stand| (stand, ports(stand))).collect();
        let shots: Vec<_> = tried
            .iter()
            .flat_map(|(stand, list)| {
                let (source, destination) = (stand.source, stand.destination);
                let ends = Ends { link: &stand.interface, source, destination };
                list.iter().map(move |it| (ends, payload(*it)))
            })
            .collect();
        let met = sweep.fire(&shots).expect("sent");
        assert_eq!(met.len(), shots.len());
        let mut met = met.into_iter();
        let mut outcome = Outcome::default();
        for (stand, tried) in tried {
            let judge = Judge::between(&self.plan, &self.packet(stand, tried[0]));
            for (transport, met) in tried.into_iter().zip(&mut met) {
                let packet = self.packet(stand, transport);
                let decision = judge.decision(&packet);
                let expected = match decision.act.verdict() {
                    Verdict::Reject if !packet.may_be_answered() => Verdict::Deny,
                    verdict => verdict,
                };
                let limited = matches!(decision.act, Act::AllowWithin(_));
                let fits = match (expected, met) {
                    (Verdict::Allow, Met::Closed)
                    | (Verdict::Deny, Met::Denied)
                    | (Verdict::Reject, Met::Rejected) => true,
                    (Verdict::Allow, Met::Denied) => limited,
                    _ => false,
                };
                outcome.tried += 1;
                *outcome.met.entry(met).or_default() += 1;
                if !fits {
                    outcome.witnesses.push((packet, decision.id.to_string(), met));
                }
            }
        }
        outcome
    }
}

#[derive(Default)]
pub struct Outcome {
    pub tried: usize,
    pub met: BTreeMap<Met, usize>,
    pub witnesses: Vec<(Packet, String, Met)>,
}

pub fn payload(transport: Transport) -> Payload {
    match transport {
        Transport::Ports { protocol, source, destination } => {
            first_packet(protocol, source, destination)
        }
        Transport::Icmp { kind } => Payload::Icmp { kind },
        Transport::Other { protocol } => Payload::Other { protocol },
    }
}

#[test]
fn every_port_from_everybody_meets_what_the_evaluator_says() {
    sealed("rehearsing::every_port_from_everybody_meets_what_the_evaluator_says", || {
        let host = Host::of(POLICY);
        let stage = host.stage();
        stage
            .host()
            .run(|| enforce(&mut netfilter(), "sluice", &lower(&host.plan)).expect("enforced"))
            .expect("entered");
        let mut sweep = Sweep::open(&stage, false).expect("an observer");
        // Every port from one stand of each IP version, and from the others what rules tell apart.
        let mut whole = Vec::new();
        for v4 in [true, false] {
            whole.extend(host.course.stands.iter().find(|it| it.source.is_ipv4() == v4).cloned());
        }
        let outcome = host.rehearse(&mut sweep, &|stand| {
            if !whole.contains(stand) {
                return host.telling(stand);
            }
            let source = stand.source_port;
            let tcp = (0..=u16::MAX).map(|destination| Transport::Ports {
                protocol: PortProtocol::Tcp,
                source,
                destination,
            });
            let udp = (0..=u16::MAX).map(|destination| Transport::Ports {
                protocol: PortProtocol::Udp,
                source,
                destination,
            });
            tcp.chain(udp).collect()
        });
        assert_eq!(outcome.witnesses, [], "of {}", outcome.tried);
        assert!(outcome.tried > 2 * 131_072, "{}", outcome.tried);
        assert_eq!(outcome.met.values().sum::<usize>(), outcome.tried);
        for met in [Met::Closed, Met::Denied, Met::Rejected] {
            assert!(outcome.met[&met] > 100, "{:?}", outcome.met);
        }
        assert_eq!(outcome.met.get(&Met::Lost), None, "none is lost");
    });
}

#[test]
fn generated_policies_meet_what_the_evaluator_says() {
    sealed("rehearsing::generated_policies_meet_what_the_evaluator_says", || {
        let mut tried = 0;
        let more = std::env::var(MORE).ok();
        let policies = more.and_then(|it| it.parse().ok()).unwrap_or(POLICIES);
        for seed in 0..policies {
            let text = Generator::new(seed).policy();
            let mut host = Host::of(&text);
            // Rules of generated policies tell very many senders apart.
            host.course.stands.truncate(60);
            let stage = host.stage();
            stage
                .host()
                .run(|| {
                    enforce(&mut netfilter(), &host.plan.host, &lower(&host.plan))
                        .expect("enforced")
                })
                .expect("entered");
            let mut sweep = Sweep::open(&stage, false).expect("an observer");
            let outcome = host.rehearse(&mut sweep, &|stand| host.telling(stand));
            assert_eq!(outcome.witnesses, [], "seed {seed}\n{text}");
            tried += outcome.tried;
        }
        println!("{tried} packets, {policies} policies, no disagreement");
        assert!(tried > 100_000, "{tried}");
    });
}
