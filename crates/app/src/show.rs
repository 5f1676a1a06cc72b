//! `show`: the decision list of a host.

use super::Loaded;
use crate::Written;
use crate::vocabulary as say;
use serde::Serialize;
use std::net::IpAddr;
use tipstaff_core::plan::{Act, Decision, Idle, Kind};
use tipstaff_core::policy::Policy;
use tipstaff_core::space::TrafficSet;

/// A host's whole decision list.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose decisions these are.
    pub host: String,
    /// The file of the policy.
    pub policy: String,
    /// The posture in which it is taken; `null`: in none.
    pub posture: Option<String>,
    /// The labels that the policy gives it.
    pub labels: Vec<String>,
    /// The addresses that the host has.
    pub addresses: Vec<IpAddr>,
    /// The decisions of inbound, outbound and forwarded packets.
    pub directions: Vec<Direction>,
}

/// The decisions for one direction, in order.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Direction {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// The decisions, in the order in which they are made.
    pub decisions: Vec<Line>,
}

/// A decision, as the list shows it.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Line {
    /// `baseline`, `rule` or `default`.
    pub kind: say::Origin,
    /// The name that the policy gives it.
    pub name: String,
    /// What it is about.
    pub traffic: String,
    /// What its ports are for, as far as services say so.
    pub meanings: Vec<Meaning>,
    /// From where, as written; `anywhere` where nothing is written.
    pub from: String,
    /// To where, as written; `anywhere` where nothing is written.
    pub to: String,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// The rate up to which that holds.
    pub rate: Option<String>,
    /// Whether it is switched off.
    pub paused: bool,
    /// Whether it has ended: then it decides nothing any more.
    pub ended: bool,
    /// When it ends, or ended, by itself.
    pub until: Option<String>,
    /// Whether the packets it takes are reported: `null`, `all`, or at most how many.
    pub log: Option<String>,
    /// Why it is there.
    pub why: Option<String>,
    /// Where it is written; `null` where the language supplies it.
    pub origin: Option<Written>,
}

/// What some of a rule's ports are for.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Meaning {
    /// The ports, as the service has them.
    pub traffic: String,
    /// What they are for.
    pub meaning: String,
}

/// Makes the report of a loaded policy.
pub fn report(loaded: &Loaded) -> Report {
    let plan = &loaded.plan;
    Report {
        host: plan.host.clone(),
        policy: loaded.name.clone(),
        posture: loaded.posture(),
        labels: loaded.policy.host(&plan.host).map(|it| it.labels.clone()).unwrap_or_default(),
        addresses: plan.addresses.clone(),
        directions: plan
            .chains
            .iter()
            .map(|chain| Direction {
                direction: chain.direction.into(),
                decisions: chain.decisions.iter().map(|it| line(&loaded.policy, it)).collect(),
            })
            .collect(),
    }
}

fn line(policy: &Policy, decision: &Decision) -> Line {
    let written = &decision.written;
    let or_anywhere = |text: &str| if text.is_empty() { "anywhere" } else { text }.to_owned();
    Line {
        kind: decision.id.kind.into(),
        name: decision.id.to_string(),
        traffic: written.traffic.clone(),
        meanings: meanings(policy, decision),
        from: or_anywhere(&written.from),
        to: or_anywhere(&written.to),
        verdict: decision.act.verdict().into(),
        rate: match decision.act {
            Act::AllowWithin(rate) => Some(rate.to_string()),
            Act::Decide(_) => None,
        },
        paused: decision.idle == Some(Idle::Paused),
        ended: matches!(decision.idle, Some(Idle::Ended(_))),
        until: decision.until().map(|time| time.to_string()),
        log: decision.log.map(|log| log.cap.map_or("all".into(), |cap| cap.to_string())),
        why: decision.why.clone(),
        origin: decision.origin.as_ref().map(Into::into),
    }
}

/// What the ports of a rule are for; of one that is about everything that is nobody's question.
fn meanings(policy: &Policy, decision: &Decision) -> Vec<Meaning> {
    let none = TrafficSet::empty();
    let traffic = decision.conditions.iter().fold(none, |all, it| all.union(&it.traffic));
    if decision.id.kind != Kind::Rule || traffic.is_any() {
        return Vec::new();
    }
    let within = |it: &TrafficSet| !it.is_empty() && it.intersection(&traffic) == *it;
    let ports = policy.services.iter().flat_map(|it| &it.ports);
    let described = ports.filter_map(|it| {
        let meaning = it.meaning.as_ref().filter(|meaning| !meaning.is_empty())?;
        within(&it.traffic).then(|| Meaning { traffic: it.term.clone(), meaning: meaning.clone() })
    });
    described.collect()
}
