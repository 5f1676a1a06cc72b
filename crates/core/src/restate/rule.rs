//! The text of one rule.

use super::factors::{Factors, factors};
use super::{ends, traffic};
use crate::adopt::rules::{key, list};
use crate::adopt::terms::words;
use crate::plan::{Act, Decision, Idle, InterfaceTest};
use crate::policy::Log;
use crate::policy::edit::quoted;
use crate::space::{Direction, RangeSet, TrafficSet};
use std::fmt::Write;

/// How a policy writes a rule, or why it cannot.
pub(super) fn text(host: &str, direction: Direction, rule: &Decision) -> Result<String, String> {
    let parts = factors(&rule.conditions).ok_or("its conditions are not those of one rule")?;
    if parts.common.states.is_some() {
        return Err("no rule asks for the state of a connection".into());
    }
    let mut out = format!("\n[[host.{}.rule]]\nname = {}\n", key(host), quoted(&rule.id.name));
    // Writing to a text cannot fail.
    let mut line = |key: &str, value: &str| {
        let _ = writeln!(out, "{key} = {value}");
    };
    if direction != Direction::Inbound {
        line("direction", &quoted(direction.as_str()));
    }
    let carried: TrafficSet =
        parts.carried.iter().fold(TrafficSet::empty(), |all, it| all.union(it.0));
    let words = traffic::terms(&carried).ok_or("no terms mean its traffic")?;
    line(rule.act.verdict().as_str(), &list(&words));
    for (key, ends) in [("from", &parts.from), ("to", &parts.to)] {
        let words = ends::terms(ends)
            .ok_or_else(|| format!("no list means its `{key}` of a host whose addresses change"))?;
        if !words.is_empty() {
            line(key, &list(&words));
        }
    }
    for (key, tests) in [("ingress", &parts.ingress), ("egress", &parts.egress)] {
        let names = interfaces(tests).ok_or("it is for some interfaces, and for any")?;
        if !names.is_empty() {
            line(key, &list(&names));
        }
    }
    if !parts.common.source_ports.is_full() {
        line("source-ports", &list(&ports(&parts.common.source_ports)));
    }
    let published = published(&parts).ok_or("what was asked for differs between its parts")?;
    if !published.is_empty() {
        line("published", &list(&published));
    }
    for (key, names) in [("program", &parts.common.programs), ("user", &parts.common.users)] {
        if !names.is_empty() {
            line(key, &list(names));
        }
    }
    if let Act::AllowWithin(rate) = rule.act {
        line("rate", &quoted(&rate.to_string()));
    }
    match rule.log {
        Some(Log { cap: Some(cap) }) => line("log", &quoted(&cap.to_string())),
        Some(Log { cap: None }) => line("log", "true"),
        None => {}
    }
    if let Some(until) = parts.common.until {
        line("until", &until.to_string());
    }
    if rule.idle == Some(Idle::Paused) {
        line("paused", "true");
    }
    if let Some(why) = &rule.why {
        line("why", &quoted(why));
    }
    Ok(out)
}

/// The interfaces by name; none for any.
fn interfaces(tests: &[&InterfaceTest]) -> Option<Vec<String>> {
    if let [InterfaceTest::Any] = tests {
        return Some(Vec::new());
    }
    let name = |it: &&InterfaceTest| match it {
        InterfaceTest::Any => None,
        InterfaceTest::Is(name) => Some(name.clone()),
        InterfaceTest::IsNot(name) => Some(format!("!{name}")),
    };
    tests.iter().map(name).collect()
}

fn ports(set: &RangeSet<u16>) -> Vec<String> {
    set.ranges().iter().map(|it| words(*it)).collect()
}

/// The ports that were asked for; none if that does not matter.
fn published(parts: &Factors<'_>) -> Option<Vec<String>> {
    if let [(_, asked)] = parts.carried[..]
        && asked.is_full()
    {
        return Some(Vec::new());
    }
    let mut terms = Vec::new();
    for (traffic, asked) in &parts.carried {
        if asked.is_full() {
            return None;
        }
        for (protocol, _) in traffic.ports.iter().filter(|it| !it.1.is_empty()) {
            terms.extend(ports(asked).iter().map(|it| format!("{it}/{protocol}")));
        }
    }
    Some(terms)
}
