//! What a policy says of a host besides its rules.

use super::ends::of_addresses;
use crate::adopt::rules::{key, list};
use crate::plan::{Act, Decision, HostPlan, Idle, RuleId, TURNED_AWAY};
use crate::policy::edit::quoted;
use crate::policy::{Level, Logging, PROGRAM_MARKS, Record, Span, Verdict};
use crate::space::Direction;
use std::fmt::Write;
use std::net::IpAddr;

/// The section of a host, its defaults and its baseline.
pub(super) fn host(plan: &HostPlan) -> String {
    let name = key(&plan.host);
    let mut out = format!("edition = 1\n\n[host.{name}]\n");
    // Writing to a text cannot fail.
    let mut line = |key: &str, value: &str| {
        let _ = writeln!(out, "{key} = {value}");
    };
    if !plan.moving {
        let addresses: Vec<String> =
            plan.addresses.iter().map(|it| with_prefix(*it, &plan.broadcasts)).collect();
        line("addresses", &list(&addresses));
    }
    if !plan.interfaces.is_empty() {
        let pair = |it: &crate::policy::Interface| {
            let name = it.hardware.map_or_else(|| it.name.clone(), |it| it.to_string());
            format!("{} = {}", key(&it.role), quoted(&name))
        };
        let pairs: Vec<String> = plan.interfaces.iter().map(pair).collect();
        line("interfaces", &format!("{{ {} }}", pairs.join(", ")));
    }
    if let Some(turned_away) = turned_away(plan) {
        line("turned-away", &list(&turned_away));
    }
    match plan.record {
        None => line("record", "\"off\""),
        Some(Record { admitted, keeps }) => {
            line("record", if admitted { "\"all\"" } else { "\"denied\"" });
            if keeps != Record::USUAL.keeps {
                line("record-for", &quoted(&Span { seconds: keeps }.to_string()));
            }
        }
    }
    let Logging { level, total, each, .. } = plan.logging;
    if level != Level::Nothing {
        line("log", &quoted(level.as_str()));
    }
    if (total, each) != (Logging::USUAL.total, Logging::USUAL.each) {
        line("log-at-most", &list(&[total.to_string(), each.to_string()]));
    }
    if plan.program_marks != PROGRAM_MARKS {
        line("program-marks", &format!("\"{:#010x}\"", plan.program_marks));
    }
    let _ = writeln!(out, "\n[host.{name}.default]");
    for direction in Direction::ALL {
        let default = plan.find(&RuleId::default_for(direction));
        if let Some(Act::Decide(verdict)) = default.map(|it| it.act) {
            let _ = writeln!(out, "{direction} = \"{}\"", verdict.as_str());
        }
    }
    baseline(plan, &name, &mut out);
    out
}

/// An address, with the length of its network's prefix where that is known.
fn with_prefix(address: IpAddr, networks: &[[IpAddr; 2]]) -> String {
    let IpAddr::V4(own) = address else { return address.to_string() };
    let length = networks.iter().find_map(|it| match it {
        [IpAddr::V4(first), IpAddr::V4(last)] if *first <= own && own <= *last => {
            Some((first.to_bits() ^ last.to_bits()).leading_zeros())
        }
        _ => None,
    });
    length.map_or_else(|| address.to_string(), |it| format!("{address}/{it}"))
}

fn part<'p>(plan: &'p HostPlan, name: &str, direction: Direction) -> Option<&'p Decision> {
    let id = RuleId::baseline(name);
    plan.chain(direction).decisions.iter().find(|it| it.id == id)
}

/// Who is turned away, as long as anybody is.
fn turned_away(plan: &HostPlan) -> Option<Vec<String>> {
    let found = part(plan, TURNED_AWAY, Direction::Inbound)?;
    let mut words = Vec::new();
    for condition in &found.conditions {
        match condition.until {
            None => words.extend(of_addresses(&condition.source)),
            Some(until) => {
                let blocks = condition.source.blocks();
                words.extend(blocks.iter().map(|it| format!("{it} until {until}")));
            }
        }
    }
    (!words.is_empty()).then_some(words)
}

/// The switches that are not as usual.
fn baseline(plan: &HostPlan, name: &str, out: &mut String) {
    let _ = writeln!(out, "\n[host.{name}.baseline]");
    if let Some(ping) = part(plan, "ping", Direction::Inbound) {
        let word = match (ping.idle, ping.act) {
            (Some(_), _) => "by-rules".to_owned(),
            (None, Act::AllowWithin(rate)) => rate.to_string(),
            (None, Act::Decide(Verdict::Allow)) => "allow".to_owned(),
            (None, Act::Decide(_)) => "deny".to_owned(),
        };
        let _ = writeln!(out, "ping = {}", quoted(&word));
    }
    let off = |name: &str, direction: Direction| {
        part(plan, name, direction).is_some_and(|it| it.idle == Some(Idle::Paused))
    };
    let [inbound, outbound, forwarded] = Direction::ALL;
    for switch in ["loopback", "false-loopback", "invalid", "replies", "neighbours", "dhcp"] {
        if off(switch, inbound) {
            let _ = writeln!(out, "{switch} = false");
        }
    }
    for (switch, direction) in [("outbound-replies", outbound), ("forwarded-replies", forwarded)] {
        if off("replies", direction) != off("replies", inbound) {
            let _ = writeln!(out, "{switch} = {}", !off("replies", direction));
        }
    }
}
