//! `review`: what is probably not meant.

use super::finding::{Finding, words};
use super::{Failure, Loaded, likely_packet, live};
use crate::Outcome;
use crate::threads::Threads;
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_core::analysis::{self, Code};
use tipstaff_core::policy::nearest;
use tipstaff_linux::Machine;

/// All that is probably not meant.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose policy was reviewed.
    pub host: String,
    /// The posture in which it is taken; `null`: in none.
    pub posture: Option<String>,
    /// Whether listeners and sessions of this machine were looked at too.
    pub live: bool,
    /// The findings, in the order of the policy.
    pub findings: Vec<Finding>,
    /// What of this machine could not be looked at.
    pub unknown: Vec<String>,
}

impl Report {
    /// Whether something is wrong, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let wrong = |it: &Finding| it.severity != say::Severity::Note && it.accepted.is_none();
        if self.findings.iter().any(wrong) { Outcome::Found } else { Outcome::Fine }
    }
}

/// Makes the report; with `live` also about what listens on this machine.
///
/// # Errors
/// [`Failure`] if the machine cannot be looked at.
pub fn report(machine: &dyn Machine, loaded: &Loaded, live: bool) -> Result<Report, Failure> {
    let likely = |direction| likely_packet(direction, &loaded.plan);
    let found = analysis::review_by(&Threads, &loaded.policy, &loaded.plan, loaded.now, &likely);
    let mut findings: Vec<Finding> = found.into_iter().map(words).collect();
    findings.extend(of_postures(loaded, &findings)?);
    let mut unknown = Vec::new();
    if live {
        let found = live::findings(machine, loaded)?;
        findings.extend(found.found.into_iter().map(words));
        unknown = found.unknown;
    }
    let (host, posture) = (loaded.plan.host.clone(), loaded.posture());
    Ok(Report { host, posture, live, findings, unknown })
}

/// What is found in the postures of the host besides, unless it is in one already. That a posture idles rules of the
/// host is what it is for.
fn of_postures(loaded: &Loaded, found: &[Finding]) -> Result<Vec<Finding>, Failure> {
    let Some(section) = loaded.section().filter(|it| it.posture.is_none()) else {
        return Ok(Vec::new());
    };
    let mut list = Vec::new();
    for posture in &section.postures {
        let mut within = loaded.clone();
        within.in_posture(&posture.name)?;
        let likely = |direction| likely_packet(direction, &within.plan);
        let more = analysis::review_by(&Threads, &within.policy, &within.plan, within.now, &likely);
        let its_own = |it: &Finding| {
            it.rule.as_ref().is_none_or(|name| posture.rules.iter().any(|it| it.name == *name))
        };
        let known = |it: &Finding| {
            found.iter().any(|other| (other.code, &other.message) == (it.code, &it.message))
        };
        let more = more.into_iter().map(words).filter(|it| its_own(it) && !known(it));
        list.extend(more.map(|it| Finding { posture: Some(posture.name.clone()), ..it }));
    }
    Ok(list)
}

/// What a kind of finding means.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Explanation {
    /// The code of this kind of finding.
    pub code: say::Code,
    /// What it means, why it matters, what to do.
    pub meaning: &'static str,
}

/// Explains a kind of finding, or all of them.
///
/// # Errors
/// [`Failure`] if there is no such kind.
pub fn explain(word: &str) -> Result<Explanation, Failure> {
    let Some(code) = Code::parse(word) else {
        let names = || Code::ALL.iter().map(|it| it.as_str());
        let message = format!("there is no finding `{}`", word.escape_debug());
        return Err(match nearest(word, names()) {
            Some(near) => Failure::usage(message, format!("did you mean `{near}`?")),
            None => {
                let all = names().collect::<Vec<_>>().join(", ");
                Failure::usage(message, format!("the findings are: {all}"))
            }
        });
    };
    Ok(Explanation { code: say::Code(code), meaning: analysis::explain(code) })
}
