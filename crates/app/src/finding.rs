//! A finding in words.

use super::PacketWords;
use crate::Written;
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_core::analysis::{self, Mend, Subject};

/// A finding, for a person or a machine.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Finding {
    /// The code of its kind.
    pub code: say::Code,
    /// `error`, `warning` or `note`.
    pub severity: say::Severity,
    /// The posture in which it is so; `null`: in none.
    pub posture: Option<String>,
    /// The rule it is about; `null` if it is about something else.
    pub rule: Option<String>,
    /// What it is about: a rule, `the host`, `an expectation`, a place, a service or a bundle.
    pub subject: String,
    /// Other decisions that have to do with it.
    pub others: Vec<String>,
    /// Where that is written.
    pub origin: Option<Written>,
    /// What was found, in one sentence.
    pub message: String,
    /// A packet that shows it.
    pub witness: Option<PacketWords>,
    /// A command that mends it.
    pub mend: Option<String>,
    /// Why it is accepted, if it is.
    pub accepted: Option<String>,
}

/// A finding in words.
pub(crate) fn words(finding: analysis::Finding) -> Finding {
    let (rule, subject) = match &finding.subject {
        Subject::Rule(id) => (Some(id.to_string()), id.to_string()),
        Subject::Host => (None, "the host".to_owned()),
        Subject::Expectation => (None, "an expectation".to_owned()),
        Subject::Name(what, name) => (None, format!("{what} {name}")),
    };
    Finding {
        code: say::Code(finding.code),
        severity: finding.severity.into(),
        posture: None,
        rule,
        subject,
        others: finding.others.iter().map(ToString::to_string).collect(),
        origin: finding.origin.as_ref().map(Into::into),
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
        Mend::Follow { rule, direction, verdict, traffic, published } => format!(
            "tipstaff rule change {rule} --direction {direction} --{} {traffic} --published {}",
            verdict.as_str(),
            published.join(" ")
        ),
        Mend::Tighten(rule) => format!("tipstaff rule tighten {rule}"),
        Mend::Allow { name, traffic, from } => {
            let first = if name.is_some() { " --first" } else { "" };
            format!(
                "tipstaff rule add {} --allow {} --from {}{first}",
                name.unwrap_or("NAME"),
                traffic.join(" "),
                from.as_deref().unwrap_or("PLACE")
            )
        }
        Mend::Deny { direction, traffic, to, published } => format!(
            "tipstaff rule add NAME --direction {direction} --deny {traffic} --to {to} --published {published}"
        ),
        Mend::RemoveName(what, name) => format!("tipstaff {} remove {name}", what.as_str()),
    }
}
