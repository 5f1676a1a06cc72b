//! The interfaces of this machine, held against the rules that tell packets apart by them.

use super::finding;
use crate::app::Loaded;
use tipstaff_core::analysis::{self, Code, Subject};
use tipstaff_core::plan::{Placed, Standing, Whole};
use tipstaff_core::policy::Severity;

/// What is odd about an interface that rules name, in words.
fn words(placed: &Placed) -> Option<String> {
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

/// The same as sentences, each about the first rule that names the interface.
pub fn told(loaded: &Loaded) -> Vec<String> {
    let odd = loaded.placed.iter().filter_map(|it| Some((it, words(it)?)));
    odd.map(|(it, words)| format!("`{}` {words}", it.rule)).collect()
}

/// Findings about them.
pub fn findings(loaded: &Loaded) -> Vec<analysis::Finding> {
    let odd = loaded.placed.iter().filter_map(|it| Some((it, words(it)?)));
    odd.map(|(placed, words)| {
        let code = match placed.standing {
            Standing::PartOf(_) => Code::InterfaceEnslaved,
            _ => Code::InterfaceMissing,
        };
        let mut found = finding(code, Severity::Warning, words);
        found.subject = Subject::Rule(placed.rule.clone());
        found.origin = loaded.plan.find(&placed.rule).and_then(|it| it.origin.clone());
        found
    })
    .collect()
}
