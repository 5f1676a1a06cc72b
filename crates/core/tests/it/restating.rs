//! Plans as policies again: the same decisions, in the same order, or none.

use tipstaff_core::generate::{Generator, HOST_NAME, NOW, POSTURE};
use tipstaff_core::plan::{Act, HostPlan, resolve};
use tipstaff_core::policy::{Source, Verdict, read};
use tipstaff_core::restate::{Restated, restate};
use tipstaff_core::space::Direction;

/// How many policies of each sort, and 1,000 if `TIPSTAFF_LONG` is set.
fn policies() -> u64 {
    if std::env::var_os("TIPSTAFF_LONG").is_some() { 1_000 } else { 40 }
}

fn plan(text: &str, host: &str) -> HostPlan {
    let policy = read(&Source::new("policy.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    resolve(&policy, host, NOW).expect("the host is there")
}

fn said(plan: &HostPlan) -> Restated {
    restate(plan, NOW).unwrap_or_else(|unsaid| panic!("{unsaid:#?}"))
}

/// What decisions take and do, but for those that take nothing.
fn decisions(plan: &HostPlan) -> Vec<(Direction, String, u64, bool)> {
    let takers = plan.decisions().filter(|it| !it.1.conditions.is_empty());
    takers
        .map(|(direction, it)| (direction, it.id.to_string(), it.fingerprint(), it.idle.is_some()))
        .collect()
}

#[test]
fn generated_policies_come_out_as_they_went_in() {
    for seed in 0..policies() {
        for crowded in [false, true] {
            let mut dice = Generator::new(seed);
            if crowded {
                dice = dice.crowded();
            }
            let text = dice.policy();
            let meant = plan(&text, HOST_NAME);
            let restated = said(&meant);
            let again = plan(&restated.policy, HOST_NAME);
            assert_eq!(decisions(&meant), decisions(&again), "{seed}: {text}\n{}", restated.policy);
            // Once more, and not a letter changes.
            assert_eq!(said(&again).policy, restated.policy, "{seed}");
        }
    }
}

#[test]
fn so_does_what_holds_in_a_posture() {
    for seed in 0..policies() {
        let text = Generator::new(seed).policy();
        let read = read(&Source::new("policy.toml", &text)).expect("a policy");
        let taken = read.in_posture(HOST_NAME, POSTURE).expect("it has that posture");
        let meant = resolve(&taken, HOST_NAME, NOW).expect("the host is there");
        let again = plan(&said(&meant).policy, HOST_NAME);
        assert_eq!(decisions(&meant), decisions(&again), "{seed}: {text}");
    }
}

/// What has to be written in a way of its own.
const ODD: &str = r#"edition = 1
[host.sluice]
interfaces = { outside = "52:54:00:44:08:01", stacks = "eth1" }
turned-away = ["203.0.113.0/28", "203.0.113.99 until 2027-12-24T18:00:00Z (a guess)"]
record = "all"
record-for = "90 seconds"
log = "denied"
log-at-most = ["20/second", "10/minute per source, burst 3"]
program-marks = "0x00ff0000"
[host.sluice.default]
inbound = "reject"
forwarded = "allow"
[host.sluice.baseline]
ping = "by-rules"
replies = false
outbound-replies = true
dhcp = false
[[host.sluice.rule]]
name = "near"
allow = ["any", "!icmp:redirect", "!22/tcp"]
from = ["on-link", "this-host", "198.51.100.0/27", "!198.51.100.7"]
ingress = ["!outside"]
[[host.sluice.rule]]
name = "far"
deny = ["icmp", "!icmp:echo-reply", "igmp", "proto:47"]
from = ["!on-link"]
to = ["!this-host"]
why = """a "reason"
of two lines"""
[[host.sluice.rule]]
name = "led"
direction = "forwarded"
allow = ["80/tcp", "53/udp"]
published = ["8088/tcp", "5300-5399/udp"]
ingress = ["outside", "stacks"]
egress = ["stacks"]
log = "10/minute"
[[host.sluice.rule]]
name = "whose"
allow = ["5432/tcp+udp"]
source-ports = ["1024-65535"]
program = ["/usr/sbin/seedbase", "/opt/a b"]
user = ["seedbase", "1000"]
rate = "6/minute per source, burst 4"
until = 2027-12-24T18:00:00Z
paused = true
log = true
"#;

#[test]
fn so_does_what_is_odd() {
    let meant = plan(ODD, HOST_NAME);
    let restated = said(&meant);
    assert_eq!((restated.rules, &restated.idle[..]), (4, &[][..]), "{}", restated.policy);
    let again = plan(&restated.policy, HOST_NAME);
    assert_eq!(decisions(&meant), decisions(&again));
    insta::assert_snapshot!("restated", restated.policy);
}

#[test]
fn a_rule_with_nobody_at_its_place_is_named() {
    let mut plan = plan(ODD, HOST_NAME);
    plan.chains[0]
        .decisions
        .iter_mut()
        .find(|it| it.id.name == "far")
        .expect("it is there")
        .conditions
        .clear();
    let restated = said(&plan);
    assert_eq!(restated.idle, [(Direction::Inbound, "far".to_owned())]);
    assert!(!restated.policy.contains("\"far\""));
}

#[test]
fn what_no_policy_says_is_refused() {
    let meant = plan(ODD, HOST_NAME);
    let refused = |change: &dyn Fn(&mut HostPlan)| -> Vec<(String, String)> {
        let mut plan = meant.clone();
        change(&mut plan);
        let unsaid = restate(&plan, NOW).expect_err("it cannot be said");
        unsaid.into_iter().map(|it| (it.name, it.why)).collect()
    };
    let one = |name: &str, why: &str| vec![(name.to_owned(), why.to_owned())];
    let at = |plan: &HostPlan, name: &str| {
        plan.chains[0].decisions.iter().position(|it| it.id.name == name).expect("it is there")
    };
    assert_eq!(
        refused(&|plan| {
            let at = at(plan, "loopback");
            plan.chains[0].decisions[at].act = Act::Decide(Verdict::Deny);
        }),
        one("baseline/loopback", "no policy has that in its place")
    );
    assert_eq!(
        refused(&|plan| {
            let at = at(plan, "invalid");
            plan.chains[0].decisions.remove(at);
        })[0]
            .1,
        "no policy has that in its place"
    );
    assert_eq!(
        refused(&|plan| {
            let at = at(plan, "near");
            let conditions = &mut plan.chains[0].decisions[at].conditions;
            let mut other = conditions[0].clone();
            other.traffic = tipstaff_core::space::TrafficSet::protocol(50);
            other.source_ports = tipstaff_core::space::RangeSet::single(7);
            conditions.push(other);
        }),
        one("near", "its conditions are not those of one rule")
    );
    assert_eq!(
        refused(&|plan| {
            let end = plan.chains[0].decisions.len() - 1;
            plan.chains[0].decisions.swap(end, end - 1);
        })
        .len(),
        1
    );
    assert_eq!(refused(&|plan| plan.host = "Not a \u{202e}name".into())[0].0, "policy");
}
