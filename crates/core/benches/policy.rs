//! What the core costs: reading, working out, lowering, asking.

use divan::{Bencher, black_box};
use tipstaff_core::adopt::{Entrance, Held, Named, Row, Then, Way, taken};
use tipstaff_core::analysis::{self, review};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{HostPlan, InterfaceTest, Kind, resolve};
use tipstaff_core::policy::{Policy, Source, read};
use tipstaff_core::program::{Test, compare, lower};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, PortProtocol, RangeSet, Relation,
    StateSet, Transport,
};

const SIZES: [usize; 3] = [100, 1_000, 10_000];

fn main() {
    divan::main();
}

fn source(rules: usize) -> Source {
    Source::new("long.toml", &Generator::new(1).long_policy(rules))
}

fn plan(rules: usize) -> HostPlan {
    let policy = read(&source(rules)).expect("a policy");
    resolve(&policy, HOST_NAME, NOW).expect("the host")
}

/// Packets at the rules of a plan.
fn packets(plan: &HostPlan) -> Vec<Packet> {
    let mut generator = Generator::new(2);
    (0..500).map(|_| generator.packet_for(plan)).collect()
}

/// Text to program.
#[divan::bench(args = SIZES)]
fn read_resolve_and_lower(bencher: Bencher, rules: usize) {
    let source = source(rules);
    bencher.bench(|| {
        let policy = read(black_box(&source)).expect("a policy");
        lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"))
    });
}

/// Rules of others as people have them: replies and loopback first, then ports for networks, and denial.
fn others(rules: usize) -> Held {
    let row =
        |tests: Vec<Test>| Row { ways: vec![Way { tests, then: Then::Accept }], ..Row::default() };
    let known = [ConnectionState::Established, ConnectionState::Related];
    let mut rows = vec![
        row(vec![Test::State(StateSet::of(&known))]),
        row(vec![Test::InInterface(InterfaceTest::Is("lo".into()))]),
    ];
    rows.extend((0..rules).map(|at| {
        let number = u32::try_from(at).expect("small");
        let first = 0x0a00_0000 + (number / 3) * 512;
        let port = u16::try_from(1_024 + at % 3_000).expect("small");
        row(vec![
            Test::Family(Family::V4),
            Test::Source(AddressSet::from_v4([(first, first + 255)])),
            Test::Protocol(RangeSet::single(6)),
            Test::DestinationPort(RangeSet::single(port)),
        ])
    }));
    let chain = "sieve/arrivals".to_owned();
    let entrance = Entrance {
        direction: Direction::Inbound,
        family: None,
        chain: chain.clone(),
        passes: false,
    };
    Held { chains: [(chain, rows)].into(), entrances: vec![entrance], ..Held::default() }
}

/// From rules of others to the policy that does the same, compared; against [`read_resolve_and_lower`] of as many.
#[divan::bench(args = [100, 300, 1_000, 3_000])]
fn adopt_rules_of_others(bencher: Bencher, rules: usize) {
    let held = others(rules);
    let named = Named { host: HOST_NAME, machine: None };
    bencher.bench(|| taken(black_box(&held), named, NOW).expect("a policy"));
}

/// What happens to one packet, by the policy.
#[divan::bench(args = SIZES)]
fn ask_the_plan(bencher: Bencher, rules: usize) {
    let plan = plan(rules);
    let packets = packets(&plan);
    let mut next = packets.iter().cycle();
    bencher
        .with_inputs(|| next.next().expect("endless"))
        .bench_local_values(|packet| plan.evaluate(packet));
}

/// What happens to one packet, by the exact meaning of a plan that has been loaded.
#[divan::bench(args = SIZES)]
fn ask_the_meaning(bencher: Bencher, rules: usize) {
    let plan = plan(rules);
    let mut atlas = Atlas::new();
    let meaning = atlas.plan(&plan);
    let packets = packets(&plan);
    let mut next = packets.iter().cycle();
    bencher
        .with_inputs(|| next.next().expect("endless"))
        .bench_local_values(|packet| atlas.fate(&meaning, packet).verdict());
}

/// The exact meaning of a plan, of its program, and whether they are equal.
#[divan::bench(args = SIZES, sample_count = 10)]
fn compare_plan_and_program(bencher: Bencher, rules: usize) {
    let plan = plan(rules);
    let program = lower(&plan);
    bencher.bench(|| {
        let mut atlas = Atlas::new();
        assert!(atlas.plan(black_box(&plan)) == atlas.program(black_box(&program)));
    });
}

/// What happens to one packet, by the rules.
#[divan::bench(args = SIZES)]
fn ask_the_program(bencher: Bencher, rules: usize) {
    let plan = plan(rules);
    let program = lower(&plan);
    let packets = packets(&plan);
    let mut next = packets.iter().cycle();
    bencher
        .with_inputs(|| next.next().expect("endless"))
        .bench_local_values(|packet| program.evaluate(packet));
}

fn likely(direction: Direction) -> Packet {
    Packet {
        user: None,
        direction,
        in_interface: None,
        out_interface: None,
        source: [198, 51, 100, 7].into(),
        destination: [192, 0, 2, 10].into(),
        transport: Transport::Ports {
            protocol: PortProtocol::Tcp,
            source: 50_000,
            destination: 443,
        },
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    }
}

/// A policy that has grown over the years, and its plan.
fn grown(rules: usize, seed: u64) -> (Policy, HostPlan) {
    let text = Generator::new(seed).grown_policy(rules);
    let policy = read(&Source::new("grown.toml", &text)).expect("a policy");
    let plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    (policy, plan)
}

/// All findings about a policy, its text already read.
#[divan::bench(args = [100, 1_000, 10_000, 30_000], sample_count = 5)]
fn review_rules(bencher: Bencher, rules: usize) {
    let (policy, plan) = grown(rules, 1);
    bencher.bench(|| review(black_box(&policy), black_box(&plan), NOW, &likely));
}

/// The plan without every hundredth rule, and with every fiftieth pair swapped.
fn edited(plan: &HostPlan) -> HostPlan {
    let mut other = plan.clone();
    for chain in &mut other.chains {
        let rules = chain.decisions.len();
        for at in (0..rules.saturating_sub(2)).step_by(50) {
            if chain.decisions[at].id.kind == chain.decisions[at + 1].id.kind {
                chain.decisions.swap(at, at + 1);
            }
        }
        let mut number = 0;
        chain.decisions.retain(|decision| {
            number += 1;
            decision.id.kind != Kind::Rule || number % 100 != 0
        });
    }
    other
}

/// Where a policy differs from one that was edited in many places.
#[divan::bench(args = SIZES, sample_count = 10)]
fn compare_edited(bencher: Bencher, rules: usize) {
    let (_, plan) = grown(rules, 1);
    let other = edited(&plan);
    bencher.bench(|| analysis::compare(black_box(&plan), black_box(&other), likely));
}

/// Where a policy differs from another one altogether.
#[divan::bench(args = SIZES, sample_count = 3)]
fn compare_strangers(bencher: Bencher, rules: usize) {
    let ((_, plan), (_, other)) = (grown(rules, 1), grown(rules, 2));
    bencher.bench(|| analysis::compare(black_box(&plan), black_box(&other), likely));
}

/// What taking one rule out of the middle of a list changes.
#[divan::bench(args = SIZES, sample_count = 10)]
fn effect_of_one_rule(bencher: Bencher, rules: usize) {
    let (_, plan) = grown(rules, 1);
    let mut other = plan.clone();
    let decisions = &mut other.chains[0].decisions;
    let at = decisions.len() / 2;
    decisions.remove(at);
    bencher.bench(|| analysis::compare(black_box(&plan), black_box(&other), likely));
}

/// Where a program differs from one with another order and other rules.
#[divan::bench(args = SIZES)]
fn compare_programs(bencher: Bencher, rules: usize) {
    let program = lower(&plan(rules));
    let mut other = program.clone();
    other.chains[0].rules.reverse();
    other.chains[0].rules.truncate(rules / 2);
    bencher.bench(|| compare(black_box(&program), black_box(&other)));
}
