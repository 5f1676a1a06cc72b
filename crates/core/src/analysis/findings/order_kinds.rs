//! What findings about the order of rules mean.

use super::finder::FindingKind;
use crate::policy::{Code, Severity};

/// Their kinds.
pub(super) const KINDS: [FindingKind; 5] = [
    FindingKind {
        code: Code::Shadowed,
        severity: Severity::Warning,
        meaning: "Earlier decisions, one or several together, decide every packet that the rule \
             matches, so it never does anything. If they say the opposite, the rule looks as if it \
             were in force and is not: move it above them. If they say the same, remove it.",
    },
    FindingKind {
        code: Code::WideRuleAbove,
        severity: Severity::Warning,
        meaning: "The rule allows all that several narrower rules below it allow, so that none of those \
             decides anything. Somebody once took care to say who may do what, and this rule does away with \
             it: it was added later, or was meant for a time. It is the wide rule that is doubted, not the \
             narrow ones: remove it, or narrow it to what nobody else says.",
    },
    FindingKind {
        code: Code::Redundant,
        severity: Severity::Warning,
        meaning: "The rule decides packets, but without it every one of them would meet the same \
             verdict from a rule further down. It makes the list longer and hides what matters: \
             remove it, or narrow the other rule if that one is too wide. Rules that are limited \
             or reported (`rate`, `log`) are never called redundant.",
    },
    FindingKind {
        code: Code::Overlap,
        severity: Severity::Warning,
        meaning: "The rule and an earlier one say opposite things about some packets, and neither is an \
             exception to the other: each matches packets that the other does not. For what both \
             match, the earlier one decides. Where something that is to be kept out gets in, this \
             is a warning: move the rule up. A rule that lies wholly within a later, wider one is \
             taken for a deliberate exception and is not reported.",
    },
    FindingKind {
        code: Code::SameAsDefault,
        severity: Severity::Note,
        meaning: "Everything that the rule decides would meet the same verdict from the default. That \
             can be meant as a reminder; it protects against nothing unless the default is changed.",
    },
];
