//! `rule`: changes of rules.

use super::common::Common;
use super::complete::rules;
use super::context::Context;
use super::items::{Items, OfRules};
use super::output::Output;
use super::rule_keys::{DROPPABLE, Keys, droppable};
use super::tighten::Tighten;
use super::values::text;
use super::whose::section_in;
use crate::render;
use clap::{Args, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use std::slice;
use tipstaff_app::chosen::{Order, Wanted};
use tipstaff_app::edit::{self, Request};
use tipstaff_app::{Failure, listing};
use tipstaff_core::policy::edit::{Place, RuleEdit, Value, edit_rules};

/// What can be done to rules.
#[derive(Debug, Subcommand)]
pub enum Rule {
    /// Add a rule
    Add(Add),
    /// Give keys of a rule other values
    Change(Change),
    /// Give a rule another place in the order
    Move(Move),
    /// Switch rules off, and keep them
    Pause(Named),
    /// Switch paused rules on again
    Resume(Named),
    /// Remove rules
    Remove(Named),
    /// Narrow a rule to those who used it, as far as the kernel remembers
    Tighten(Tighten),
    /// List the host's rules, or some of them
    List(List),
    /// Show one rule in full: its lines, what it decides, what it has taken
    Show {
        /// The rule
        #[arg(add = Names::new(rules))]
        name: String,
    },
}

/// Where a rule goes.
#[derive(Debug, Args)]
#[group(multiple = false)]
pub struct Where {
    /// Ahead of all other rules
    #[arg(long)]
    first: bool,
    /// Behind all other rules
    #[arg(long)]
    last: bool,
    /// Right before this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules))]
    before: Option<String>,
    /// Right after this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules))]
    after: Option<String>,
}

/// Options of `rule add`.
#[derive(Debug, Args)]
pub struct Add {
    /// The new rule's name
    name: String,
    #[command(flatten)]
    keys: Keys,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    common: Common,
}

/// Options of `rule change`.
#[derive(Debug, Args)]
pub struct Change {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    #[command(flatten)]
    keys: Keys,
    #[command(flatten)]
    items: Items<OfRules>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// Take these keys away, such as: --drop from rate
    #[arg(long, value_name = "KEY", num_args = 1.., value_parser = DROPPABLE)]
    drop: Vec<String>,
    #[command(flatten)]
    common: Common,
}

/// Options of `rule move`.
#[derive(Debug, Args)]
pub struct Move {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    common: Common,
}

/// Options of `rule list`.
#[derive(Debug, Args)]
pub struct List {
    /// Only rules that are like this: verdict=, direction=, port=, program=, place=, name=, paused
    #[arg(long = "where", value_name = "WORDS", num_args = 1..)]
    wanted: Vec<String>,
    /// In which order
    #[arg(long, value_name = "BY", default_value = "order")]
    sort: Sort,
}

/// By what rules are sorted.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Sort {
    /// As they are asked
    Order,
    /// By name
    Name,
    /// Allow, deny, reject
    Verdict,
    /// By the lowest port
    Port,
    /// What has taken most packets first (needs the rules in force)
    Hits,
}

impl List {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        let loaded = context.policy()?;
        let wanted = Wanted::parse(&self.wanted.join(" "), &loaded.policy)?;
        let order = match self.sort {
            Sort::Order => Order::Asked,
            Sort::Name => Order::Name,
            Sort::Verdict => Order::Verdict,
            Sort::Port => Order::Port,
            Sort::Hits => Order::Hits,
        };
        let report = listing::rules(context.machine, &loaded, &wanted, order)?;
        Ok(context.fine(&report, render::rules))
    }
}

/// Rules.
#[derive(Debug, Args)]
pub struct Named {
    /// The rules
    #[arg(value_name = "NAME", required = true, add = Names::new(rules))]
    names: Vec<String>,
    #[command(flatten)]
    common: Common,
}

impl Where {
    fn place(&self) -> Option<Place> {
        match (&self.before, &self.after) {
            (Some(name), _) => Some(Place::Before(name.clone())),
            (None, Some(name)) => Some(Place::After(name.clone())),
            (None, None) if self.first => Some(Place::First),
            (None, None) => self.last.then_some(Place::Last),
        }
    }
}

impl Rule {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let switch = |on| RuleEdit::Change { keys: vec![("paused", on)], items: Vec::new() };
        let (names, common, edit, done) = match self {
            Self::List(list) => return list.run(context),
            Self::Tighten(it) => return it.run(context),
            Self::Show { name } => {
                let report = listing::rule(context.machine, &context.policy()?, name)?;
                return Ok(context.fine(&report, render::rule));
            }
            Self::Add(add) => {
                let (place, keys) =
                    (add.place.place().unwrap_or(Place::Last), add.keys.assignments());
                (
                    slice::from_ref(&add.name),
                    &add.common,
                    RuleEdit::Add { place, keys },
                    "rule added",
                )
            }
            Self::Change(change) => {
                let mut keys = change.keys.assignments();
                keys.extend(change.rename.as_ref().map(|name| ("name", Some(text(name)))));
                keys.extend(change.drop.iter().filter_map(|key| droppable(key)));
                let items = change.items.edits();
                if keys.is_empty() && items.is_empty() {
                    return Err(Failure::usage(
                        format!("nothing is to change about `{}`", change.name),
                        "name keys and their new values, such as --from curators",
                    ));
                }
                (
                    slice::from_ref(&change.name),
                    &change.common,
                    RuleEdit::Change { keys, items },
                    "rule changed",
                )
            }
            Self::Move(it) => {
                let Some(place) = it.place.place() else {
                    return Err(Failure::usage(
                        format!("where should `{}` go?", it.name),
                        "add one of --first, --last, --before NAME and --after NAME",
                    ));
                };
                (slice::from_ref(&it.name), &it.common, RuleEdit::Move { place }, "rule moved")
            }
            Self::Pause(it) => {
                (&it.names[..], &it.common, switch(Some(Value::Switch(true))), "rule paused")
            }
            Self::Resume(it) => (&it.names[..], &it.common, switch(None), "rule resumed"),
            Self::Remove(it) => (&it.names[..], &it.common, RuleEdit::Remove, "rule removed"),
        };
        let renamed = match self {
            Self::Change(Change { rename: Some(new), .. }) => Some(new),
            _ => names.first(),
        };
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: common.owner().is_none(),
            // Of several, what each of them changes is told together.
            rule: renamed
                .filter(|_| names.len() == 1 && common.posture().is_none())
                .map(String::as_str),
            done: format!("{done}: {}", names.join(", ")),
            file: None,
            dry: common.is_dry(),
        };
        let busy = render::progress("working out the effect");
        let report = edit::edit(&request, |sources, policy, host| {
            let within = section_in(host, common.posture());
            let owner = common.owner().unwrap_or(("host", &*within));
            edit_rules(sources, policy, owner, names, &edit)
        })?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}
