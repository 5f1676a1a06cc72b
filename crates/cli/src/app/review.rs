//! `review`: what is probably not meant.

use super::{Failure, Loaded, PacketWords, likely_packet};
use crate::exit::Exit;
use serde::Serialize;
use tipstaff_core::analysis::{self, Code, Mend, Subject};
use tipstaff_core::policy::{Severity, nearest};

/// The findings.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The host.
    pub host: String,
    /// Whether listeners and sessions of this machine were looked at too.
    pub live: bool,
    /// The findings, in the order of the policy.
    pub findings: Vec<Finding>,
}

/// One finding.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// Its kind.
    pub code: &'static str,
    /// `error`, `warning` or `note`.
    pub severity: &'static str,
    /// The rule it is about; `null` if it is about something else.
    pub rule: Option<String>,
    /// What it is about: a rule, `the host`, `an expectation`, a place, a service or a bundle.
    pub subject: String,
    /// Other decisions that have to do with it.
    pub others: Vec<String>,
    /// `file:line`.
    pub origin: Option<String>,
    /// One sentence.
    pub message: String,
    /// A packet that shows it.
    pub witness: Option<PacketWords>,
    /// A command that mends it.
    pub mend: Option<String>,
    /// Why it is accepted, if it is.
    pub accepted: Option<String>,
}

impl Report {
    /// The exit code that belongs to the report.
    pub fn exit(&self) -> Exit {
        let wrong = |it: &Finding| it.severity != "note" && it.accepted.is_none();
        if self.findings.iter().any(wrong) { Exit::Found } else { Exit::Fine }
    }
}

/// Makes the report; with `live` also about what listens on this machine.
///
/// # Errors
/// [`Failure`] if the machine cannot be looked at.
pub fn report(loaded: &Loaded, live: bool) -> Result<Report, Failure> {
    let likely = |direction| likely_packet(direction, &loaded.plan);
    let found = analysis::review(&loaded.policy, &loaded.plan, loaded.now, &likely);
    let mut findings: Vec<Finding> = found.into_iter().map(words).collect();
    if live {
        findings.extend(super::live::findings(loaded)?);
    }
    Ok(Report { host: loaded.plan.host.clone(), live, findings })
}

/// A finding in words.
pub fn words(finding: analysis::Finding) -> Finding {
    let (rule, subject) = match &finding.subject {
        Subject::Rule(id) => (Some(id.to_string()), id.to_string()),
        Subject::Host => (None, "the host".to_owned()),
        Subject::Expectation => (None, "an expectation".to_owned()),
        Subject::Name(what, name) => (None, format!("{what} {name}")),
    };
    Finding {
        code: finding.code.as_str(),
        severity: severity(finding.severity),
        rule,
        subject,
        others: finding.others.iter().map(ToString::to_string).collect(),
        origin: finding.origin.as_ref().map(ToString::to_string),
        message: finding.message,
        witness: finding.witness.as_ref().map(PacketWords::of),
        mend: finding.mend.as_ref().map(command),
        accepted: finding.accepted,
    }
}

/// The command that makes a change; words in capitals are for the author to choose.
fn command(mend: &Mend) -> String {
    match mend {
        Mend::Move { rule, before } => format!("tipstaff rule move {rule} --before {before}"),
        Mend::Remove(rule) => format!("tipstaff rule remove {rule}"),
        Mend::Change { rule, key, value } => {
            let value = match (value, *key) {
                (Some(value), _) => format!("\"{value}\""),
                (None, "from") => "PLACE".to_owned(),
                (None, "until") => "TIME".to_owned(),
                (None, key) => key.to_uppercase(),
            };
            format!("tipstaff rule change {rule} --{key} {value}")
        }
        Mend::Allow { name, traffic, from } => {
            let first = if name.is_some() { " --first" } else { "" };
            format!(
                "tipstaff rule add {} --allow {} --from {}{first}",
                name.unwrap_or("NAME"),
                traffic.join(" "),
                from.as_deref().unwrap_or("PLACE")
            )
        }
        Mend::RemoveName(what, name) => format!("tipstaff {} remove {name}", what.as_str()),
    }
}

fn severity(severity: Severity) -> &'static str {
    match severity {
        Severity::Note => "note",
        Severity::Warning => "warning",
        Severity::Error => "error",
    }
}

/// What a kind of finding means.
#[derive(Debug, Serialize)]
pub struct Explanation {
    /// The kind.
    pub code: &'static str,
    /// What it means, why it matters, what to do.
    pub meaning: &'static str,
}

/// Explains a kind of finding, or all of them.
///
/// # Errors
/// [`Failure`] if there is no such kind.
pub fn explain(word: &str) -> Result<Explanation, Failure> {
    let Some(code) = Code::parse(word) else {
        let names = || Code::ALL.into_iter().map(Code::as_str);
        let message = format!("there is no finding `{}`", word.escape_debug());
        return Err(match nearest(word, names()) {
            Some(near) => Failure::usage(message, format!("did you mean `{near}`?")),
            None => {
                let all = names().collect::<Vec<_>>().join(", ");
                Failure::usage(message, format!("the findings are: {all}"))
            }
        });
    };
    Ok(Explanation { code: code.as_str(), meaning: analysis::explain(code) })
}
