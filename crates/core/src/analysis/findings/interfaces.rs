//! The interfaces of a machine, held against the rules that tell packets apart by them.

use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use super::finding::Subject;
use crate::plan::{Placed, Standing, Whole};
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::InterfaceMissing,
            severity: Severity::Warning,
            meaning: "A rule tells packets apart by an interface, and there is none of that name or \
             hardware address: it was renamed, or has not come up; or several have the hardware \
             address. Until there is one, a rule for that interface matches nothing, also one that \
             denies. With the hardware address for its name, rules follow it when it is renamed.",
        },
        FindingKind {
            code: Code::InterfaceEnslaved,
            severity: Severity::Warning,
            meaning: "The interface is a part of a bridge, bond or the like. Packets that come in by it are seen \
             as coming in by that one, so a rule for the part means the whole where that lets nobody in by \
             mistake: if it denies, or if the whole is a bond. Otherwise it matches nothing. Name the \
             whole.",
        },
    ],
    looks: &[Look::Machine(findings)],
};

/// What is odd about an interface that rules name, in words.
pub fn odd_interface(placed: &Placed) -> Option<String> {
    let name = match placed.hardware {
        Some(hardware) => format!("{} ({hardware})", placed.called),
        None => placed.called.clone(),
    };
    Some(match (&placed.standing, placed.hardware) {
        (Standing::There | Standing::Known(_), _) => return None,
        (Standing::Missing, None) => {
            format!("names the interface {name}, and there is none of that name here")
        }
        (Standing::Missing, Some(_)) => {
            format!("names the interface {name}, and none here has that hardware address")
        }
        (Standing::Several(names), _) => format!(
            "names the interface {name}, and {} have that hardware address: rules that deny mean all \
             of them, rules that allow none",
            names.join(", ")
        ),
        (Standing::PartOf(Whole { name: whole, is_one_link: true }), _) => format!(
            "names the interface {name}, which is a part of {whole}: its packets come in by that, and \
             rules mean that"
        ),
        (Standing::PartOf(Whole { name: whole, .. }), _) => format!(
            "names the interface {name}, which is a part of {whole}: its packets come in by that, like \
             those of its other parts; rules that deny mean all of {whole}, rules that allow nothing"
        ),
    })
}

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let odd = machine.facts.placed.iter().filter_map(|it| Some((it, odd_interface(it)?)));
    odd.map(|(placed, words)| {
        let code = match placed.standing {
            Standing::PartOf(_) => Code::InterfaceEnslaved,
            _ => Code::InterfaceMissing,
        };
        Finding {
            subject: Subject::Rule(placed.rule.clone()),
            origin: machine.plan.find(&placed.rule).and_then(|it| it.origin.clone()),
            ..Finding::of_host(code, Severity::Warning, words)
        }
    })
    .collect()
}
