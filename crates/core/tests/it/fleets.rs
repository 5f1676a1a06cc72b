//! Small fleets: what is said of all pairs of hosts, against what each packet meets on its way.

use crate::analysis::given;
use std::net::IpAddr;
use tipstaff_core::analysis::{HostWord, Leg, Way, between, judge, met, ordinary, own, ways};
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::{
    Fleet, FleetExpectation, Named, Route, Source, Verdict, read, read_traffic,
};
use tipstaff_core::space::{AddressSet, Direction, Packet, Piece, TrafficSet};

/// The address so many behind.
fn shifted(address: IpAddr, by: u8) -> IpAddr {
    match address {
        IpAddr::V4(it) => {
            std::net::Ipv4Addr::from(u32::from(it).wrapping_add(u32::from(by))).into()
        }
        IpAddr::V6(it) => {
            std::net::Ipv6Addr::from(u128::from(it).wrapping_add(u128::from(by))).into()
        }
    }
}

/// Three hosts with addresses of their own, or none if the dice give no such.
fn hosts(seed: u64) -> Option<[HostPlan; 3]> {
    let mut plans = [0, 1, 2].map(|at| given(&Generator::new(3 * seed + at).policy()).1);
    let addresses = plans[0].addresses.clone();
    for (at, plan) in plans.iter_mut().enumerate() {
        if plan.moving || addresses.is_empty() {
            return None;
        }
        plan.host = ["sluice", "granary", "bench"][at].to_owned();
        let by = u8::try_from(at).expect("few");
        plan.addresses = addresses.iter().map(|&it| shifted(it, 100 * by)).collect();
    }
    Some(plans)
}

/// Some of the addresses of all hosts, or everybody.
fn place(dice: &mut Generator, plans: &[HostPlan; 3]) -> AddressSet {
    let all: Vec<IpAddr> = plans.iter().flat_map(|it| it.addresses.clone()).collect();
    match dice.below(4) {
        0 => AddressSet::full(),
        _ => (0..=dice.below(3)).map(|_| AddressSet::single(all[dice.below(all.len())])).collect(),
    }
}

fn fleet(dice: &mut Generator, plans: &[HostPlan; 3]) -> Fleet {
    let mut routes = Vec::new();
    for _ in 0..dice.below(4) {
        let mut through: Vec<String> = plans.iter().map(|it| it.host.clone()).collect();
        through.rotate_left(dice.below(3));
        through.truncate(dice.below(4));
        let between = [place(dice, plans), place(dice, plans)];
        let origin = Source::new("fleet.toml", "").origin(0..0);
        routes.push(Route { between, between_terms: Vec::new(), through, why: None, origin });
    }
    Fleet { routes, ..Fleet::default() }
}

fn traffic(dice: &mut Generator) -> TrafficSet {
    let (policy, _) = given("edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
    let words = ["any", "22/tcp", "53/udp", "443/tcp+udp", "1-1024/tcp", "icmp", "80/tcp"];
    let word = Source::new("TRAFFIC", words[dice.below(words.len())]);
    read_traffic(&policy, &word).expect("read")
}

/// By whom a packet goes, as the documentation says it: the first route that fits, either way round, without those ahead
/// of its sender and behind its receiver.
fn through<'f>(fleet: &'f Fleet, from: (&str, IpAddr), to: (&str, IpAddr)) -> Vec<&'f str> {
    for route in &fleet.routes {
        let [first, second] = &route.between;
        let forth = first.contains(from.1) && second.contains(to.1);
        let back = second.contains(from.1) && first.contains(to.1);
        if !forth && !back {
            continue;
        }
        let mut names: Vec<&str> = route.through.iter().map(String::as_str).collect();
        if !forth {
            names.reverse();
        }
        let begin = names.iter().position(|it| *it == from.0).map_or(0, |it| it + 1);
        let names = &names[begin..];
        let end = names.iter().position(|it| *it == to.0).unwrap_or(names.len());
        return names[..end].to_vec();
    }
    Vec::new()
}

fn legs<'p>(plans: &'p [HostPlan; 3], from: usize, to: usize, way: &[&str]) -> Vec<Leg<'p>> {
    let of = |name: &str| plans.iter().find(|it| it.host == name).expect("a host");
    let mut legs = vec![Leg { plan: &plans[from], direction: Direction::Outbound }];
    legs.extend(way.iter().map(|it| Leg { plan: of(it), direction: Direction::Forwarded }));
    legs.push(Leg { plan: &plans[to], direction: Direction::Inbound });
    legs
}

/// How a packet of that sort fares on its own; `None` if the dice gave no packet as some host sees it.
fn alone(dice: &mut Generator, legs: &[Leg<'_>], wire: &Packet) -> Option<Verdict> {
    for leg in legs {
        let local = ordinary(leg.plan, leg.direction);
        let seen = (0..200).find_map(|_| {
            let other = dice.packet_for(leg.plan);
            let same = other.direction == leg.direction;
            let packet = Packet {
                direction: leg.direction,
                source: wire.source,
                destination: wire.destination,
                transport: wire.transport,
                state: wire.state,
                asked: None,
                source_is: wire.source_is,
                destination_is: wire.destination_is,
                ..other
            };
            (same && local.contains(&packet)).then_some(packet)
        })?;
        let verdict = leg.plan.decision(&seen).act.verdict();
        if verdict != Verdict::Allow {
            return Some(verdict);
        }
    }
    Some(Verdict::Allow)
}

fn wire(
    dice: &mut Generator,
    from: &HostPlan,
    to: &HostPlan,
    traffic: &TrafficSet,
) -> Option<Packet> {
    (0..300).find_map(|_| {
        let packet = dice.packet_for(to);
        let source = from.addresses[dice.below(from.addresses.len())];
        let destination = to.addresses[dice.below(to.addresses.len())];
        let packet = Packet { source, destination, direction: Direction::Inbound, ..packet };
        let fits = source.is_ipv4() == destination.is_ipv4()
            && traffic.contains(&packet)
            && ordinary(to, Direction::Inbound).states.contains(packet.state);
        fits.then_some(packet)
    })
}

/// How many fleets: a thousand where there is time for it.
fn many() -> usize {
    if std::env::var_os("TIPSTAFF_LONG").is_some() { 1_000 } else { 150 }
}

#[test]
fn what_is_said_of_all_pairs_is_what_packets_meet() {
    let (mut fleets, mut packets, mut routed, mut mixed) = (0, 0, 0, 0);
    for seed in 0.. {
        if fleets == many() {
            break;
        }
        let Some(plans) = hosts(seed) else { continue };
        fleets += 1;
        let mut dice = Generator::new(77_000 + seed);
        let (fleet, traffic) = (fleet(&mut dice, &plans), traffic(&mut dice));
        let all: AddressSet = plans.iter().map(own).collect();
        let words: Vec<HostWord> = plans
            .iter()
            .map(|it| HostWord::of(it, &traffic, &all, true).expect("few parts"))
            .collect();
        let word = |name: &str| words.iter().find(|it| it.host == name);
        for (from, to) in [(0, 1), (0, 2), (1, 0), (1, 2), (2, 0), (2, 1)] {
            let (sender, receiver) = (&words[from], &words[to]);
            let found: Vec<Way<'_>> =
                ways(&fleet, (&sender.host, &sender.own), (&receiver.host, &receiver.own));
            let met = met(sender, receiver, &found, word);
            // What is exact of one way at a time, put together.
            let mut verdicts: Vec<Verdict> = Vec::new();
            for way in &found {
                routed += usize::from(!way.through.is_empty());
                let region = Piece { traffic: traffic.clone(), ..way.ends.clone() };
                let told = between(&legs(&plans, from, to, &way.through), &region).expect("few");
                verdicts.extend(told.iter().filter_map(|it| Some(it.by.last()?.act.verdict())));
            }
            for verdict in Verdict::ALL {
                let is_met = met.of(verdict).is_some();
                assert_eq!(is_met, verdicts.contains(&verdict), "seed {seed}: {from} to {to}");
            }
            mixed += usize::from(
                verdicts.contains(&Verdict::Allow) && verdicts.contains(&Verdict::Deny),
            );
            for _ in 0..4 {
                let Some(wire) = wire(&mut dice, &plans[from], &plans[to], &traffic) else {
                    continue;
                };
                let ends =
                    ((&*plans[from].host, wire.source), (&*plans[to].host, wire.destination));
                let expected = through(&fleet, ends.0, ends.1);
                let its: Vec<&Way<'_>> = found
                    .iter()
                    .filter(|it| {
                        it.ends.source.contains(wire.source)
                            && it.ends.destination.contains(wire.destination)
                    })
                    .collect();
                assert!(
                    matches!(&its[..], [one] if one.through == expected),
                    "seed {seed}: {its:?}"
                );
                let way = legs(&plans, from, to, &expected);
                let Some(verdict) = alone(&mut dice, &way, &wire) else { continue };
                assert!(met.of(verdict).is_some(), "seed {seed}: {wire:?} meets {verdict:?}");
                packets += 1;
            }
        }
        judged(&mut dice, &words, &fleet, &traffic);
    }
    let few = many();
    assert!(
        packets > 10 * few && routed > few / 2 && mixed > few / 2,
        "{packets} {routed} {mixed}"
    );
}

/// An expectation holds for just the pairs of which all packets meet it.
fn judged(dice: &mut Generator, words: &[HostWord], fleet: &Fleet, traffic: &TrafficSet) {
    let named = |dice: &mut Generator| Named {
        hosts: words.iter().map(|it| it.host.clone()).filter(|_| dice.below(3) > 0).collect(),
        terms: Vec::new(),
    };
    let expectation = FleetExpectation {
        traffic: traffic.clone(),
        traffic_terms: Vec::new(),
        from: named(dice),
        to: named(dice),
        within: None,
        within_terms: Vec::new(),
        verdict: Verdict::ALL[dice.below(3)],
        why: None,
        origin: Source::new("fleet.toml", "").origin(0..0),
    };
    let word = |name: &str| words.iter().find(|it| it.host == name);
    let ways =
        |from: &HostWord, to: &HostWord| ways(fleet, (&from.host, &from.own), (&to.host, &to.own));
    let judged = judge(&expectation, word, ways);
    let mut pairs = 0;
    for from in words.iter().filter(|it| expectation.from.hosts.contains(&it.host)) {
        for to in words.iter().filter(|it| expectation.to.hosts.contains(&it.host)) {
            if from.host == to.host {
                continue;
            }
            pairs += 1;
            let met = met(from, to, &ways(from, to), word);
            let others = Verdict::ALL.iter().filter(|it| **it != expectation.verdict);
            let fails = others.clone().any(|&it| met.of(it).is_some())
                || met.nothing() && expectation.verdict == Verdict::Allow;
            let failing =
                judged.failing.iter().any(|it| (&it.from, &it.to) == (&from.host, &to.host));
            assert_eq!(failing, fails, "{} to {}", from.host, to.host);
        }
    }
    assert_eq!(judged.proven.len() + judged.failing.len(), pairs);
}

const HOSTS: &str = "edition = 1\n[place.stacks]\naddresses = [\"10.44.8.0/24\"]\n\
    [host.sluice]\naddresses = [\"10.44.8.10\", \"192.0.2.10\"]\nlabels = [\"edge\"]\n\
    [host.granary]\naddresses = [\"10.44.8.20\"]\nlabels = [\"store\", \"both\"]\n\
    [host.bench]\naddresses = [\"fd44:8::30\"]\nlabels = [\"desk\", \"both\"]\n[host.roamer]\n";

fn mistakes(more: &str) -> Vec<String> {
    let problems = read(&Source::new("policy.toml", &format!("{HOSTS}{more}"))).expect_err("no");
    problems.iter().map(|it| format!("{}: {}", it.code, it.message)).collect()
}

#[test]
fn hosts_are_named_by_their_names_and_by_labels() {
    let expect = |from: &str, to: &str| {
        let more =
            format!("[[fleet.expect]]\ntraffic = [\"80/tcp\"]\nverdict = \"deny\"\n{from}\n{to}\n");
        let policy = read(&Source::new("policy.toml", &format!("{HOSTS}{more}"))).expect("read");
        let expectation = policy.fleet.expectations[0].clone();
        (expectation.from.hosts, expectation.to.hosts)
    };
    let (from, to) = expect("from = [\"both\"]", "to = [\"!both\"]");
    assert_eq!(from, ["granary", "bench"]);
    assert_eq!(to, ["sluice", "roamer"]);
    let (from, to) = expect("from = [\"both\", \"sluice\", \"!bench\"]", "");
    assert_eq!(from, ["sluice", "granary"]);
    assert_eq!(to.len(), 4);
}

#[test]
fn mistakes_between_hosts_are_told() {
    let told = |more: &str| mistakes(more).join("\n");
    let expect = "[[fleet.expect]]\ntraffic = [\"80/tcp\"]\nverdict = \"deny\"\n";
    assert!(
        told(&format!("{expect}from = [\"granry\"]"))
            .contains("no host and no label is called `granry`")
    );
    assert!(
        told(&format!("{expect}from = [\"both\", \"!granary\", \"!desk\"]"))
            .contains("leaves out all")
    );
    assert!(told(&format!("{expect}from = []")).contains("empty"));
    assert!(told(&format!("{expect}within = [\"nowhere\"]")).contains("nowhere"));
    let route = |more: &str| told(&format!("[[fleet.route]]\n{more}"));
    assert!(route("between = [\"stacks\"]").contains("two places"));
    assert!(
        route("between = [\"stacks\", \"anywhere\"]\nthrough = [\"store\"]")
            .contains("no host is called `store`")
    );
    assert!(
        route("between = [\"stacks\", \"anywhere\"]\nthrough = [\"sluice\", \"sluice\"]")
            .contains("twice")
    );
    assert!(route("through = [\"sluice\"]").contains("missing"));
    let probe = |traffic: &str| {
        told(&format!("[[fleet.probe]]\ntraffic = [\"{traffic}\"]\nto = [\"store\"]"))
    };
    for wrong in ["53/udp", "1-100/tcp", "icmp", "any"] {
        assert!(probe(wrong).contains("cannot be tried by connecting"), "{wrong}");
    }
    let both = "[host.edge]\naddresses = [\"10.44.8.99\"]\n";
    assert!(told(&format!("{both}{expect}to = [\"edge\"]")).contains("a host and a label"));
}
