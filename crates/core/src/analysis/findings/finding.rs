//! What a finding is.

use crate::plan::{Decision, RuleId};
use crate::policy::{Accepted, Code, Origin, Severity, Used, Verdict};
use crate::space::{Direction, Packet};
use std::net::IpAddr;

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Subject {
    /// A rule, or another decision.
    Rule(RuleId),
    /// The host as a whole.
    Host,
    /// A statement under `expect`.
    Expectation,
    /// A place, service or bundle, by the word for it and its name.
    Name(&'static str, String),
}

/// A change of the policy that would mend a finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mend {
    /// A rule goes right before another one.
    Move {
        /// The rule that is to be moved.
        rule: RuleId,
        /// The rule that it is to stand before.
        before: RuleId,
    },
    /// The rule is to be taken out.
    Remove(RuleId),
    /// A key of a rule gets another value; `None` is for the author to choose.
    Change {
        /// The rule that is to be changed.
        rule: RuleId,
        /// The key that is to be set.
        key: &'static str,
        /// The value for it; the key goes if left out.
        value: Option<String>,
    },
    /// A rule about a port that is led elsewhere is to be one about where it is led, by the port that callers
    /// see.
    Follow {
        /// The rule that is to be changed.
        rule: RuleId,
        /// Which way packets go where they are led.
        direction: Direction,
        /// What the rule does.
        verdict: Verdict,
        /// What it is about there, as a traffic term.
        traffic: String,
        /// The ports for `published`, as traffic terms.
        published: Vec<String>,
    },
    /// A rule is to let in only those who used it.
    Tighten(RuleId),
    /// A new rule that allows something; what is `None` is for the author to choose.
    Allow {
        /// Its name; a name makes it the first of all.
        name: Option<&'static str>,
        /// What it allows, as traffic terms.
        traffic: Vec<String>,
        /// The place or address for `from`.
        from: Option<String>,
    },
    /// A new rule that denies something.
    Deny {
        /// Of which packets.
        direction: Direction,
        /// What it denies, as a traffic term.
        traffic: String,
        /// The address for `to`.
        to: IpAddr,
        /// The ports for `published`, as a traffic term.
        published: String,
    },
    /// A place, service or bundle goes.
    RemoveName(Used, String),
}

/// One thing that is probably not meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The kind of finding that it is.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// What it is about.
    pub subject: Subject,
    /// Other decisions that have to do with it.
    pub others: Vec<RuleId>,
    /// Where the subject is written.
    pub origin: Option<Origin>,
    /// What was found, in one sentence.
    pub message: String,
    /// A packet that shows it.
    pub witness: Option<Packet>,
    /// What would mend it.
    pub mend: Option<Mend>,
    /// Why it is accepted, if it is.
    pub accepted: Option<String>,
}

impl Finding {
    /// A finding about the host as a whole.
    pub(crate) fn of_host(code: Code, severity: Severity, message: String) -> Self {
        Self {
            code,
            severity,
            subject: Subject::Host,
            others: Vec::new(),
            origin: None,
            message,
            witness: None,
            mend: None,
            accepted: None,
        }
    }

    /// A finding about a rule.
    pub(crate) fn about(
        code: Code,
        severity: Severity,
        decision: &Decision,
        message: String,
    ) -> Self {
        Self {
            subject: Subject::Rule(decision.id.clone()),
            origin: decision.origin.clone(),
            ..Self::of_host(code, severity, message)
        }
    }

    pub(crate) fn others(mut self, others: impl IntoIterator<Item = RuleId>) -> Self {
        self.others = others.into_iter().collect();
        self
    }

    pub(crate) fn witness(mut self, witness: Option<Packet>) -> Self {
        self.witness = witness;
        self
    }

    pub(crate) fn mend(mut self, mend: Mend) -> Self {
        self.mend = Some(mend);
        self
    }

    pub(crate) fn accepted_by(mut self, accepted: &[Accepted]) -> Self {
        let known = accepted.iter().find(|it| it.code == self.code);
        self.accepted = known.map(|it| it.reason.clone());
        self
    }
}

/// Names as people list them: "`a`", "`a` and `b`", "`a`, `b` and 3 more".
pub(super) fn listed(names: &[RuleId]) -> String {
    const SHOWN: usize = 3;
    let quoted = |id: &RuleId| format!("`{id}`");
    let most = if names.len() > SHOWN + 1 { SHOWN } else { names.len() };
    let mut words: Vec<String> = names[..most].iter().map(quoted).collect();
    if names.len() > most {
        words.push(format!("{} more", names.len() - most));
    }
    match words.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => "nothing".into(),
    }
}
