//! `rule tighten`: a rule for those who used it, and no others.

use super::edit::{self, Request};
use super::uses::uses;
use super::{Failure, Outcome, load_here};
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_core::analysis::{Narrowness, Use, lasting, narrowed};
use tipstaff_core::plan::{Condition, Decision, RuleId};
use tipstaff_core::policy::edit::{RuleEdit, Value, edit_rules};
use tipstaff_core::space::{AddressSet, Direction};
use tipstaff_linux::Machine;

/// A rule that names more would not be read.
const MOST_TERMS: usize = 256;

/// What is to be made narrower.
pub struct Wanted<'w> {
    /// The name of the rule.
    pub rule: &'w str,
    /// How narrow it is to be.
    pub to: Narrowness,
    /// Whose rule it is, if it is not the host's own: `bundle` or `label`, and its name.
    pub owner: Option<(&'static str, &'w str)>,
    /// The change: of which policy, for which host, and whether only to be shown.
    pub request: Request<'w>,
}

/// A narrower rule, and whom it is for.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The rule.
    pub rule: String,
    /// The key that names whom it lets in (`from`), or whom it lets be reached (`to`).
    pub key: &'static str,
    /// The places, networks and addresses that it names now.
    pub terms: Vec<String>,
    /// For so many seconds it has meant what it means, and all who used it are remembered.
    pub seconds: u64,
    /// How many addresses used it.
    pub users: u64,
    /// Those who used it, and cannot any more, as networks; empty unless it was changed meanwhile.
    pub turned_away: Vec<String>,
    /// What changes for packets, and in the file.
    pub edit: edit::Report,
}

impl Report {
    /// How it ended.
    pub fn outcome(&self) -> Outcome {
        if self.turned_away.is_empty() { self.edit.outcome() } else { Outcome::Found }
    }
}

/// Makes a rule narrower, or tells how it would be.
///
/// # Errors
/// [`Failure`] if it is not known who used the rule, if nothing is narrower, or as for [`edit::edit`].
pub fn tighten(machine: &dyn Machine, wanted: &Wanted<'_>) -> Result<Report, Failure> {
    let loaded = load_here(machine, wanted.request.path, wanted.request.host)?;
    let id = RuleId::rule(wanted.rule);
    let found = loaded.plan.decisions().find(|it| it.1.id == id);
    let Some((direction, decision)) = found else {
        return Err(Failure::usage(
            format!("{} has no rule `{}`", loaded.plan.host, wanted.rule.escape_debug()),
            "the rules are listed by `tipstaff rule list`",
        ));
    };
    let now = u64::try_from(loaded.now.seconds()).unwrap_or_default();
    let uses = uses(machine, &loaded, now);
    let used = uses.list.into_iter().find(|it| it.rule == id);
    let Some(used) = used else {
        return Err(not_known(
            decision,
            uses.unknown,
            loaded.plan.record.is_some_and(|it| it.admitted),
        ));
    };
    let (key, end): (_, fn(&Condition) -> &AddressSet) = match direction {
        Direction::Outbound => ("to", |it| &it.destination),
        Direction::Inbound | Direction::Forwarded => ("from", |it| &it.source),
    };
    let allowed: AddressSet = decision.conditions.iter().map(|it| end(it).clone()).collect();
    let narrow = narrowed(&used.by, &allowed, &loaded.policy.places, wanted.to);
    speaks_against(&used, &allowed, &narrow, wanted)?;
    let terms = narrow.terms.clone();
    let change =
        RuleEdit::Change { keys: vec![(key, Some(Value::List(terms)))], items: Vec::new() };
    let names = [wanted.rule.to_owned()];
    let edit = edit::edit(&wanted.request, |sources, policy, host| {
        edit_rules(sources, policy, wanted.owner.unwrap_or(("host", host)), &names, &change)
    })?;
    let left = used.by.intersection(&allowed).difference(&narrow.addresses);
    Ok(Report {
        rule: wanted.rule.to_owned(),
        key,
        terms: narrow.terms,
        seconds: used.seconds,
        users: u64::try_from(used.by.size()).unwrap_or(u64::MAX),
        turned_away: left.into(),
        edit,
    })
}

fn not_known(decision: &Decision, why: Option<String>, remembered: bool) -> Failure {
    let rule = &decision.id;
    if decision.act.verdict() != tipstaff_core::policy::Verdict::Allow {
        let verdict = say::Verdict::from(decision.act.verdict());
        return Failure::usage(
            format!("`{rule}` lets nobody in that could be left out: its verdict is {verdict}"),
            "name a rule that allows something",
        );
    }
    if decision.idle.is_some() {
        return Failure::stopped(
            format!("`{rule}` is not in force, so nobody uses it"),
            Vec::new(),
        );
    }
    let message = match why {
        Some(why) => format!("not known: {why}"),
        None => format!("nothing is remembered of who used `{rule}` as it is now"),
    };
    let help = match remembered {
        false => {
            "`tipstaff host change --record all` has the kernel remember whom rules admit, once enforced"
        }
        true => {
            "what is remembered is about the rules in force; `tipstaff status` tells whether these are"
        }
    };
    Failure::stopped(message, vec![help.into()])
}

/// Why a rule is not made narrower.
fn speaks_against(
    used: &Use,
    allowed: &AddressSet,
    narrow: &tipstaff_core::analysis::Narrowed,
    wanted: &Wanted<'_>,
) -> Result<(), Failure> {
    let (rule, time) = (wanted.rule, lasting(used.seconds));
    if narrow.terms.is_empty() {
        return Err(Failure::stopped(
            format!("`{rule}` has admitted nobody in the last {time}: for whom should it be?"),
            vec![format!("if nobody needs it any more: `tipstaff rule remove {rule}`")],
        ));
    }
    if allowed.difference(&narrow.addresses).is_empty() {
        let help = match wanted.to {
            Narrowness::Networks => vec!["`--to addresses` names each address".to_owned()],
            Narrowness::Addresses => Vec::new(),
        };
        let message =
            format!("all that `{rule}` is for has used it in the last {time}: nothing is narrower");
        return Err(Failure::stopped(message, help));
    }
    if narrow.terms.len() > MOST_TERMS {
        let help = match wanted.to {
            Narrowness::Addresses => "`--to networks` takes fewer",
            Narrowness::Networks => "give those who may use it a place of their own",
        };
        let count = narrow.terms.len();
        let message =
            format!("{count} networks used `{rule}`, and a rule names {MOST_TERMS} at most");
        return Err(Failure::usage(message, help));
    }
    Ok(())
}
