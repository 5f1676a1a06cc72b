//! What stands in a policy, in the order written: its rules here, what has a name in `names`.

mod ages;
mod names;

pub use ages::PlaceAge;
pub(crate) use ages::ages;
pub use names::{
    DataWords, HostList, HostWords, NameList, NameWords, PortWords, bundles, find_services, hosts,
    labels, places, services,
};

use crate::asked::{self, Question};
use crate::chosen::{Order, Wanted, lowest_port};
use crate::vocabulary as say;
use crate::{Failure, Loaded, Written};
use serde::Serialize;
use std::cmp::Reverse;
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Rule;
use tipstaff_core::policy::edit::rule_lines;
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Snapshot;

/// The rules of a host or bundle, as they stand in the file.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RuleList {
    /// The host whose rules these are.
    pub host: String,
    /// The rules, in order.
    pub rules: Vec<RuleWords>,
}

/// A rule with its place in the list.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RuleWords {
    /// The name that the policy gives it.
    pub name: String,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// The traffic, as written.
    pub traffic: Vec<String>,
    /// The senders, as written.
    pub from: Vec<String>,
    /// The receivers, as written.
    pub to: Vec<String>,
    /// The host's own addresses that it is narrowed to, as written.
    pub at: Vec<String>,
    /// The interfaces by which its packets come in; any if there is none.
    pub ingress: Vec<String>,
    /// The interfaces by which they go out; any if there is none.
    pub egress: Vec<String>,
    /// The ports they come from, if it is narrowed to some.
    pub source_ports: Option<String>,
    /// The ports that callers asked for before their packets were led here; all, led or not, if there is
    /// none.
    pub published: Vec<String>,
    /// The executables whose sockets it is for; any if there is none.
    pub programs: Vec<String>,
    /// The users whose sockets alone it is about; all if empty.
    pub users: Vec<String>,
    /// How many new connections or flows it allows.
    pub rate: Option<String>,
    /// Whether the packets it takes are reported: `all` of them, or up to a rate.
    pub log: Option<String>,
    /// When it ends by itself (RFC 3339).
    pub until: Option<String>,
    /// Whether it is switched off.
    pub paused: bool,
    /// The packets that it has taken, where rules are listed by that; else `null`.
    pub packets: Option<u64>,
    /// The bundle that it comes from.
    pub bundle: Option<String>,
    /// The label by which the host has it.
    pub label: Option<String>,
    /// Why it is there.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: Written,
}

/// Lists those rules of the host that are wanted.
///
/// # Errors
/// [`Failure`] if they are to be listed by what they have taken, and that cannot be known.
pub fn rules(
    machine: &dyn Machine,
    loaded: &Loaded,
    wanted: &Wanted,
    order: Order,
) -> Result<RuleList, Failure> {
    let host = loaded.policy.host(&loaded.plan.host);
    let rules = host.map(|host| &host.rules[..]).unwrap_or_default();
    let mut rules: Vec<&Rule> = rules.iter().filter(|it| wanted.holds(it)).collect();
    let mut hits: Option<HashMap<String, u64>> = None;
    match order {
        Order::Asked => {}
        Order::Name => rules.sort_by(|a, b| a.name.cmp(&b.name)),
        Order::Verdict => rules.sort_by_key(|it| it.verdict as usize),
        Order::Port => rules.sort_by_key(|it| lowest_port(it).map_or(u32::MAX, u32::from)),
        Order::Hits => {
            let Some(held) = machine.rules()? else {
                return Err(Failure::stopped(
                    "no rules are in force, so none has taken anything",
                    vec!["`tipstaff enforce` puts rules in force".into()],
                ));
            };
            let counts: HashMap<String, u64> =
                held.tallies.iter().map(|it| (it.id.to_string(), it.taken.packets)).collect();
            rules.sort_by_key(|it| Reverse(counts.get(&it.name).copied().unwrap_or_default()));
            hits = Some(counts);
        }
    }
    let words = rules.into_iter().map(|rule| RuleWords {
        packets: hits.as_ref().map(|it| it.get(&rule.name).copied().unwrap_or_default()),
        ..RuleWords::of(rule)
    });
    Ok(RuleList { host: loaded.plan.host.clone(), rules: words.collect() })
}

impl RuleWords {
    /// A rule in these words.
    pub fn of(rule: &Rule) -> Self {
        Self {
            name: rule.name.clone(),
            verdict: rule.verdict.into(),
            direction: rule.direction.into(),
            traffic: rule.traffic_terms.clone(),
            from: rule.from_terms.clone(),
            to: rule.to_terms.clone(),
            at: rule.at_terms.clone(),
            ingress: rule.ingress.clone(),
            egress: rule.egress.clone(),
            source_ports: (!rule.source_ports.is_full()).then(|| rule.source_ports.to_string()),
            published: rule.published_terms.clone(),
            programs: rule.programs.clone(),
            users: rule.users.clone(),
            rate: rule.rate.map(|it| it.to_string()),
            log: rule.log.map(|it| it.cap.map_or_else(|| "all".to_owned(), |cap| cap.to_string())),
            until: rule.until.map(|it| it.to_string()),
            paused: rule.paused,
            packets: None,
            bundle: rule.bundle.clone(),
            label: rule.label.clone(),
            why: rule.why.clone(),
            origin: (&rule.origin).into(),
        }
    }
}

/// One rule, in full.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RuleShown {
    /// The host whose rule it is.
    pub host: String,
    /// The rule.
    pub rule: RuleWords,
    /// Its lines in the file, with the comments that go where it goes.
    pub lines: Vec<String>,
    /// What it decides, and what it matches and others decide.
    pub decides: asked::Report,
    /// What it has taken since it is in force; `null` if it is not, or if that is not known.
    pub taken: Option<Taken>,
    /// Why it is not known what it has taken.
    pub not_known: Option<String>,
}

/// What a rule in force has taken.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Taken {
    /// The packets that it has taken.
    pub packets: u64,
    /// The bytes of those packets, IP headers included.
    pub bytes: u64,
    /// For a rate, the packets beyond it.
    pub excess_packets: Option<u64>,
}

/// Shows one rule of the host.
///
/// # Errors
/// [`Failure`] if there is none of that name.
pub fn rule(machine: &dyn Machine, loaded: &Loaded, name: &str) -> Result<RuleShown, Failure> {
    let decides = asked::report(loaded, &Question::Why(name.to_owned()), Direction::Inbound, None)?;
    let host = loaded.policy.host(&loaded.plan.host);
    let found = host.and_then(|host| host.rules.iter().find(|it| it.name == name));
    let Some(rule) = found else {
        return Err(Failure::usage(
            format!("`{}` is no rule that is written", name.escape_debug()),
            "`tipstaff show` tells what the baseline and the defaults do",
        ));
    };
    let owner = match (&rule.bundle, &rule.label) {
        (Some(bundle), _) => ("bundle", bundle.as_str()),
        (None, Some(label)) => ("label", label.as_str()),
        (None, None) => ("host", loaded.plan.host.as_str()),
    };
    // In a list that is written in one line, a rule has no lines of its own.
    let lines = rule_lines(&loaded.sources, owner, name).unwrap_or_default();
    let (taken, not_known) = match machine.rules() {
        Ok(held) => (held.and_then(|it| taken(&it, rule)), None),
        Err(error) => (None, Some(error.to_string())),
    };
    Ok(RuleShown {
        host: loaded.plan.host.clone(),
        rule: RuleWords::of(rule),
        lines: lines.lines().map(str::to_owned).collect(),
        decides,
        taken,
        not_known,
    })
}

/// What the rules in force have counted for a rule; nothing if they are another host's, or none has its name.
fn taken(held: &Snapshot, rule: &Rule) -> Option<Taken> {
    let id = RuleId::rule(&rule.name);
    let tally = held.tallies.iter().find(|it| it.id == id && it.direction == rule.direction)?;
    Some(Taken {
        packets: tally.taken.packets,
        bytes: tally.taken.bytes,
        excess_packets: tally.excess.map(|it| it.packets),
    })
}
