//! `status` and `callers` for collectors of measurements: the OpenMetrics text format (version 1.0.0).

use super::exposition::{Exposition, Kind};
use std::collections::HashSet;
use tipstaff_app::callers;
use tipstaff_app::status::{Report, RuleCount};
use tipstaff_core::policy::Time;

/// So many decisions have series of their own; what the others of a direction have taken is one.
const MOST: usize = 500;
/// What stands for those others; no decision has such a name.
const OTHERS: &str = "(others)";

/// The status as measurements.
pub fn status_metrics(report: &Report) -> String {
    let mut out = Exposition::of(&report.host);
    let is = u8::from;
    out.gauge(
        "in_force",
        "Whether rules of ours are in the kernel and awake.",
        is(report.in_force),
    );
    if let Some(equal) = report.equal {
        let help = "Whether every packet fares by the kernel's rules as by the policy.";
        out.gauge("equal", help, is(equal));
    }
    let help = "Whether what was confirmed last will be in force after a reboot.";
    out.gauge("after_reboot", help, is(report.after_reboot));
    docket(&mut out, report);
    trouble(&mut out, report);
    decisions(&mut out, &report.rules);
    out.end()
}

/// What is counted of a row of those who came.
type OfRow = fn(&callers::Row) -> u64;

/// Who came as measurements, put together by what was decided.
pub fn callers_metrics(report: &callers::Report) -> String {
    let mut out = Exposition::of(&report.host);
    let help = "How many entries the record of who came has.";
    out.gauge("callers_entries", help, report.entries);
    out.gauge("callers_room_entries", "How many it can have.", report.room);
    let help = "Packets that found no room in it, or came too fast.";
    out.family("callers_no_room_packets", Kind::Counter, None, help);
    out.sample("callers_no_room_packets_total", &[], report.no_room);
    let families: [(&str, &str, OfRow); 2] = [
        ("callers_packets", "Packets that are remembered, by what was decided.", |it| it.count),
        ("callers_senders", "Who they were from, or for: how many different ones.", |it| {
            it.senders as u64
        }),
    ];
    for (name, help, value) in families {
        // They are forgotten again: no counter.
        out.family(name, Kind::Gauge, None, help);
        for row in report.callers.iter().take(MOST) {
            let word = |it: Option<&str>| it.unwrap_or_default().to_owned();
            let direction = word(row.direction.as_ref().map(AsRef::as_ref));
            let fared = word(row.fared.as_ref().map(AsRef::as_ref));
            let decision = word(row.by.first().map(String::as_str));
            let labels = [("direction", &*direction), ("name", &*decision), ("fared", &*fared)];
            out.sample(name, &labels, value(row));
        }
    }
    out.end()
}

fn docket(out: &mut Exposition, report: &Report) {
    let Some(docket) = &report.docket else { return };
    let help = "Whether the policy in force is the one asked about, to the letter.";
    out.gauge("same_policy", help, u8::from(docket.same_policy));
    let help = "Whether what is in force waits to be confirmed.";
    out.gauge("pending", help, u8::from(docket.pending.is_some()));
    if let Some(left) = docket.seconds_left {
        let (name, help) = ("pending_left_seconds", "In how many seconds what waits goes back.");
        out.family(name, Kind::Gauge, Some("seconds"), help);
        out.sample(name, &[], left);
    }
    if let Some(since) = Time::parse(&docket.since) {
        let name = "in_force_since_seconds";
        let help = "Since when what is in force has been, in seconds since 1970.";
        out.family(name, Kind::Gauge, Some("seconds"), help);
        out.sample(name, &[], since.seconds());
    }
}

fn trouble(out: &mut Exposition, report: &Report) {
    let programs = report.programs.as_ref().map(|it| it.trouble.len());
    out.family("trouble", Kind::Gauge, None, "How much is wrong, by what it is about.");
    for (about, count) in [
        ("differences", Some(report.differences.len())),
        ("docket", Some(report.kept_trouble.len())),
        ("interfaces", Some(report.odd_interfaces.len())),
        ("programs", programs),
    ] {
        // What could not be looked at is not nothing.
        if let Some(count) = count {
            out.sample("trouble", &[("about", about)], count);
        }
    }
}

/// What is counted of a decision, if that is counted.
type Count = fn(&RuleCount) -> Option<u64>;

fn decisions(out: &mut Exposition, rules: &[RuleCount]) {
    let families: [(&str, Option<&str>, &str, Count); 5] = [
        (
            "decision_packets",
            None,
            "Packets that a decision took; for a rate, those within it.",
            |it| Some(it.packets),
        ),
        ("decision_bytes", Some("bytes"), "The bytes of those, IP headers included.", |it| {
            Some(it.bytes)
        }),
        ("decision_excess_packets", None, "Packets beyond a decision's rate.", |it| {
            it.excess_packets
        }),
        ("decision_excess_bytes", Some("bytes"), "The bytes of those beyond it.", |it| {
            it.excess_bytes
        }),
        (
            "decision_crowded_packets",
            None,
            "Packets of senders for whom a rate per source had no room of their own.",
            |it| it.crowded_packets,
        ),
    ];
    // Each series stands once, whatever the kernel holds.
    let mut seen = HashSet::new();
    let (told, others): (Vec<&RuleCount>, Vec<&RuleCount>) = rules.iter().partition(|it| {
        seen.len() < MOST && it.name != OTHERS && seen.insert((it.direction.as_str(), &it.name))
    });
    for (name, unit, help, count) in families {
        out.family(name, Kind::Counter, unit, help);
        let total = format!("{name}_total");
        for rule in &told {
            if let Some(value) = count(rule) {
                let verdict = rule.verdict.map_or("", |it| it.as_str());
                let labels = [
                    ("direction", rule.direction.as_str()),
                    ("kind", rule.kind.as_str()),
                    ("name", &rule.name),
                    ("verdict", verdict),
                ];
                out.sample(&total, &labels, value);
            }
        }
        for direction in ["inbound", "outbound", "forwarded"] {
            let of_it = others.iter().filter(|it| it.direction.as_str() == direction);
            let values: Vec<u64> = of_it.filter_map(|it| count(it)).collect();
            if !values.is_empty() {
                let labels = [("direction", direction), ("kind", "rule"), ("name", OTHERS)];
                out.sample(&total, &labels, values.iter().sum::<u64>());
            }
        }
    }
}
