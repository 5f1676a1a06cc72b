//! How much the kernel is given: lookups stay within bounds, however rules overlap.

use crate::world::plan;
use std::fmt::Write;
use std::time::{Duration, Instant};
use tipstaff_core::generate::Generator;
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::program::{RuleProgram, lower, lower_plainly};
use tipstaff_linux::ruleset::encode;

/// Numbers from a seed.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }

    /// A range that covers about half of the values, so that nearly all of them overlap.
    fn half(&mut self, first: u64, last: u64) -> (u64, u64) {
        let (span, start) = (last - first, self.below((last - first) / 2));
        (first + start, first + start + span / 3 + self.below(span / 6))
    }
}

/// Rules that all overlap in senders, receivers, ports of both ends and interfaces.
fn overlapping(rules: usize, seed: u64) -> String {
    let mut dice = Dice(seed);
    let mut text = String::from("edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
    let address = |it: u64| std::net::Ipv4Addr::from_bits(u32::try_from(it).expect("small"));
    for number in 0..rules {
        let (from, to) = (dice.half(0x0a00_0000, 0x0aff_ffff), dice.half(0xc000_0000, 0xc0ff_ffff));
        let (ports, sources) = (dice.half(1, 65_535), dice.half(1_024, 65_535));
        let verdict = if dice.below(2) == 0 { "allow" } else { "deny" };
        writeln!(
            text,
            "[[host.sluice.rule]]\nname = \"r{number}\"\n{verdict} = [\"{}-{}/tcp\"]\n\
             from = [\"{}-{}\"]\nto = [\"{}-{}\"]\nsource-ports = [\"{}-{}\"]\ningress = [\"eth{}\"]",
            ports.0,
            ports.1,
            address(from.0),
            address(from.1),
            address(to.0),
            address(to.1),
            sources.0,
            sources.1,
            dice.below(3)
        )
        .expect("a text");
    }
    text
}

fn bytes(program: &RuleProgram) -> usize {
    let (batch, _) = encode(program, "sluice", 1).expect("encoded");
    batch.finish().expect("fits").bytes.len()
}

/// How long it takes to lower, the bytes, and those of the plain form.
fn sizes(plan: &HostPlan) -> (Duration, usize, usize) {
    let begun = Instant::now();
    let mut program = lower(plan);
    let took = begun.elapsed();
    let remembering = bytes(&program);
    program.record = None;
    let without = bytes(&program);
    assert!(remembering < without * 2 + (1 << 16), "{remembering} bytes, and {without} without");
    let plain = RuleProgram { record: None, ..lower_plainly(plan) };
    (took, without, bytes(&plain))
}

#[test]
fn lookups_take_twelve_times_the_plain_form_or_a_mebibyte_at_most() {
    let mut worst: f64 = 0.0;
    let mut check = |name: &str, plan: &HostPlan| {
        let (took, size, plain) = sizes(plan);
        // The plain form itself is there besides; of more than 32 MiB lookups take three times as much.
        let most = (13 * plain).min((32 << 20) + plain).max(4 * plain).max(1 << 20);
        println!("{name}: {size} bytes, plain {plain}, {took:.2?}");
        assert!(size <= most, "{name}: {size} bytes, and the plain form {plain}");
        assert!(took < Duration::from_secs(20), "{name}: {took:.2?}");
        worst = worst.max(size as f64 / most as f64);
    };
    for rules in [10, 20, 30, 50, 100, 400, 1_200] {
        for seed in 1..=3 {
            check(&format!("{rules} overlapping, seed {seed}"), &plan(&overlapping(rules, seed)));
        }
    }
    for rules in [100, 1_000, 3_000] {
        let text = Generator::new(1).long_policy(rules);
        check(&format!("{rules} generated"), &plan(&text));
        let text = Generator::new(1).grown_policy(rules);
        check(&format!("{rules} grown"), &plan(&text));
    }
    println!("at most {worst:.2} of what is allowed");
}

#[test]
fn what_finds_no_room_means_the_same() {
    for seed in 0..40 {
        let plan = plan(&overlapping(9 + usize::try_from(seed).expect("small") / 4, seed));
        let mut atlas = Atlas::new();
        let meant = atlas.plan(&plan);
        let lowered = atlas.program(&lower(&plan));
        let plain = atlas.program(&lower_plainly(&plan));
        assert_eq!((&meant, &meant), (&lowered, &plain), "seed {seed}");
    }
}
