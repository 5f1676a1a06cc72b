//! What would admit somebody, or turn them away for good.

use super::traffic;
use crate::Loaded;
use tipstaff_core::plan::{Kind, RuleId};
use tipstaff_core::space::Direction;
use tipstaff_linux::ruleset::{Caller, Wanted, Who};

/// Commands that change how somebody fares.
#[derive(Default)]
pub(crate) struct Advice {
    pub admit: Option<String>,
    pub turn_away: Option<String>,
}

/// Names of rules are no longer than this.
const LONGEST: usize = 60;

/// What would change how an entry's packets fare.
pub(crate) fn of(loaded: &Loaded, caller: &Caller) -> Advice {
    if caller.admitted {
        return Advice::default();
    }
    let Who::Address(address) = caller.who else { return Advice::default() };
    let inbound = caller.direction == Direction::Inbound;
    let turn_away = (inbound && caller.decision != turned_away())
        .then(|| format!("tipstaff turn-away {address}"));
    Advice { admit: admit(loaded, caller, &address.to_string()), turn_away }
}

fn turned_away() -> RuleId {
    RuleId::baseline(tipstaff_core::plan::TURNED_AWAY)
}

fn admit(loaded: &Loaded, caller: &Caller, address: &str) -> Option<String> {
    if matches!(caller.wanted, Wanted::Several) || caller.decision.kind == Kind::Baseline {
        return None;
    }
    let term = traffic::term(caller.wanted);
    if term.contains(' ') {
        return None;
    }
    let (direction, end) = match caller.direction {
        Direction::Inbound => ("", "--from"),
        Direction::Outbound => (" --direction outbound", "--to"),
        Direction::Forwarded => (" --direction forwarded", "--from"),
    };
    let name = name(&term, address, loaded);
    // Ahead of what denies it now; a rule of a bundle or label has no neighbours in the host's section.
    let place = match caller.decision.kind {
        Kind::Rule => {
            let host = loaded.policy.hosts.iter().find(|it| it.name == loaded.plan.host)?;
            let rule = host.rules.iter().find(|it| it.name == caller.decision.name);
            let own = rule.is_some_and(|it| it.bundle.is_none() && it.label.is_none());
            if own { format!(" --before {}", caller.decision.name) } else { " --first".into() }
        }
        _ => String::new(),
    };
    Some(format!("tipstaff rule add {name} --allow {term}{direction} {end} {address}{place}"))
}

/// A name that no rule has.
fn name(term: &str, address: &str, loaded: &Loaded) -> String {
    let plain = |it: char| if it.is_ascii_alphanumeric() { it.to_ascii_lowercase() } else { '-' };
    let parts: String = format!("{term}-{address}").chars().map(plain).collect();
    let parts: Vec<&str> = parts.split('-').filter(|it| !it.is_empty()).collect();
    let mut name = format!("admit-{}", parts.join("-"));
    name.truncate(LONGEST);
    let taken = |name: &str| loaded.plan.find(&RuleId::rule(name)).is_some();
    let mut free = name.clone();
    for number in 2.. {
        if !taken(&free) {
            break;
        }
        free = format!("{name}-{number}");
    }
    free
}
