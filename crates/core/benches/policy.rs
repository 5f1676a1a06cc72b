//! What the core costs: reading, working out, lowering, asking.

use divan::{Bencher, black_box};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::{compare, lower};
use tipstaff_core::space::Packet;

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

/// Where a program differs from one with another order and other rules.
#[divan::bench(args = SIZES)]
fn compare_programs(bencher: Bencher, rules: usize) {
    let program = lower(&plan(rules));
    let mut other = program.clone();
    other.chains[0].rules.reverse();
    other.chains[0].rules.truncate(rules / 2);
    bencher.bench(|| compare(black_box(&program), black_box(&other)));
}
