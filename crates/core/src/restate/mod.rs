//! A plan as a policy again: with what names stood for in place of the names.
//!
//! What is written is read back, and has to be the same plan, decision by decision; else there is none.

mod ends;
mod factors;
mod rule;
mod section;
mod traffic;

use crate::plan::{Condition, Decision, HostPlan, Kind, resolve};
use crate::policy::{Logging, Source, Time, read};
use crate::space::Direction;
use std::collections::HashSet;

/// A policy that means what a plan does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Restated {
    /// Its text.
    pub policy: String,
    /// How many rules it has.
    pub rules: usize,
    /// The decisions that it leaves out, as they take nothing: nobody is at their places, or their time is over.
    pub idle: Vec<(Direction, String)>,
}

/// A decision that no policy can say, or that comes out as another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unsaid {
    /// Which way its packets go; `None` for what is about the host as a whole.
    pub direction: Option<Direction>,
    /// Its name; of the whole host, the key.
    pub name: String,
    /// Why, as the rest of a sentence.
    pub why: String,
}

/// Writes a plan as a policy. `now` is the moment for which the plan was worked out. A posture in which it was is not
/// written: what held in it is what the policy says.
///
/// # Errors
/// What of it cannot be said; then there is no policy.
pub fn restate(plan: &HostPlan, now: Time) -> Result<Restated, Vec<Unsaid>> {
    let mut unsaid = Vec::new();
    let mut policy = section::host(plan);
    let (mut rules, mut idle) = (0, Vec::new());
    for (direction, decision) in plan.decisions() {
        if decision.conditions.is_empty() {
            idle.push((direction, decision.id.to_string()));
        } else if decision.id.kind == Kind::Rule {
            rules += 1;
            match rule::text(&plan.host, direction, decision) {
                Ok(text) => policy.push_str(&text),
                Err(why) => unsaid.push(of(direction, decision, why)),
            }
        }
    }
    if unsaid.is_empty() {
        unsaid = otherwise(plan, &policy, now);
    }
    match unsaid.is_empty() {
        true => Ok(Restated { policy, rules, idle }),
        false => Err(unsaid),
    }
}

fn of(direction: Direction, decision: &Decision, why: impl Into<String>) -> Unsaid {
    Unsaid { direction: Some(direction), name: decision.id.to_string(), why: why.into() }
}

/// What the text says otherwise than the plan.
fn otherwise(plan: &HostPlan, policy: &str, now: Time) -> Vec<Unsaid> {
    let whole =
        |name: &str, why: String| vec![Unsaid { direction: None, name: name.to_owned(), why }];
    let read = match read(&Source::new("restated", policy)) {
        Ok(read) => read,
        Err(problems) => {
            let why = problems.iter().map(|it| it.message.clone()).collect::<Vec<_>>().join("; ");
            return whole("policy", why);
        }
    };
    let Ok(again) = resolve(&read, &plan.host, now) else {
        return whole("host", "it is no name of a host".into());
    };
    let same: [(&str, bool); 6] = [
        (
            "addresses",
            plan.moving == again.moving && (plan.moving || plan.addresses == again.addresses),
        ),
        ("links", plan.moving || plan.broadcasts == again.broadcasts),
        ("interfaces", plan.interfaces == again.interfaces),
        ("record", plan.record == again.record),
        ("log", reported(plan) == reported(&again)),
        ("program_marks", plan.program_marks == again.program_marks),
    ];
    let odd = same.iter().filter(|it| !it.1);
    let mut unsaid: Vec<Unsaid> =
        odd.flat_map(|it| whole(it.0, "no policy says that of a host".into())).collect();
    for direction in Direction::ALL {
        let [mut ours, mut theirs] = [plan, &again].map(|it| takers(it, direction));
        loop {
            match (ours.next(), theirs.next()) {
                (None, None) => break,
                (Some(one), Some(other)) if is_same(one, other) => {}
                (Some(one), _) => {
                    unsaid.push(of(direction, one, "no policy has that in its place"));
                    break;
                }
                (None, Some(other)) => {
                    unsaid.push(of(
                        direction,
                        other,
                        "every policy has that, and here it is missing",
                    ));
                    break;
                }
            }
        }
    }
    unsaid
}

/// What is always reported: what is raised for a time is not of the policy.
fn reported(plan: &HostPlan) -> Logging {
    Logging { all_until: None, ..plan.logging }
}

/// The decisions that can take anything.
fn takers(plan: &HostPlan, direction: Direction) -> impl Iterator<Item = &Decision> {
    plan.chain(direction).decisions.iter().filter(|it| !it.conditions.is_empty())
}

/// Whether two take the same packets and do the same with them, however they are written.
fn is_same(one: &Decision, other: &Decision) -> bool {
    fn all(decision: &Decision) -> HashSet<&Condition> {
        decision.conditions.iter().collect()
    }
    let by_rule = one.id.kind == Kind::Rule;
    (&one.id, one.act, one.log, one.idle) == (&other.id, other.act, other.log, other.idle)
        && all(one) == all(other)
        && (!by_rule || one.why == other.why)
}
