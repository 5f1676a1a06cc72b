//! `bundle`: lists of rules that hosts share, and which hosts have them.

use super::complete::{bundles, rules};
use super::context::Context;
use super::named::{changed, named};
use super::output::Output;
use super::values::text_of;
use super::whose::Whose;
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, listing, load_all};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{NamedEdit, Place, RuleEdit, edit_rule};

/// What can be done to bundles.
#[derive(Debug, Subcommand)]
pub enum Bundle {
    /// Add a bundle; its rules come with `rule add --bundle`
    Add(Added),
    /// Take the rules of a bundle in at a place among the host's own
    Use(Taken),
    /// Take them out again
    Leave(Left),
    /// Give a bundle another reason or name
    Change(Changed),
    /// Remove a bundle that nothing uses
    Remove(Gone),
    /// List the bundles
    List,
}

/// Options of `bundle add`.
#[derive(Debug, Args)]
pub struct Added {
    /// Its name
    name: String,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// In which file of the folder it is to stand, also a new one; where others of its kind are if left out
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `bundle change`.
#[derive(Debug, Args)]
pub struct Changed {
    /// Its name
    #[arg(add = Names::new(bundles))]
    name: String,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `bundle remove`.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its name
    #[arg(add = Names::new(bundles))]
    name: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `bundle use`.
#[derive(Debug, Args)]
pub struct Taken {
    /// The bundle
    #[arg(add = Names::new(bundles))]
    name: String,
    /// Ahead of all rules; behind all of them if nothing is said
    #[arg(long, conflicts_with_all = ["before", "after"])]
    first: bool,
    /// Right before this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules), conflicts_with = "after")]
    before: Option<String>,
    /// Right after this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules))]
    after: Option<String>,
    #[command(flatten)]
    whose: Whose,
}

/// Options of `bundle leave`.
#[derive(Debug, Args)]
pub struct Left {
    /// The bundle
    #[arg(add = Names::new(bundles))]
    name: String,
    #[command(flatten)]
    whose: Whose,
}

impl Bundle {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let run = |name: &str, edit: &NamedEdit, file: Option<&str>, dry| {
            named(context, (Used::Bundle, name), edit, file, dry)
        };
        let why = |why: &Option<String>| text_of("why", why.as_ref()).into_iter().collect();
        match self {
            Self::List => {
                let report = listing::bundles(&load_all(&context.global.policy)?.1);
                Ok(context.fine(&report, render::names))
            }
            Self::Add(it) => {
                run(&it.name, &NamedEdit::Add(why(&it.why)), it.file.as_deref(), it.dry_run)
            }
            Self::Change(it) => {
                let edit = changed((why(&it.why), Vec::new()), it.rename.as_ref(), &it.name)?;
                run(&it.name, &edit, None, it.dry_run)
            }
            Self::Remove(it) => run(&it.name, &NamedEdit::Remove, None, it.dry_run),
            Self::Use(it) => {
                let place = match (&it.before, &it.after) {
                    (Some(name), _) => Place::Before(name.clone()),
                    (None, Some(name)) => Place::After(name.clone()),
                    (None, None) if it.first => Place::First,
                    (None, None) => Place::Last,
                };
                in_list(context, &it.name, &it.whose, &RuleEdit::Use { place }, "bundle used")
            }
            Self::Leave(it) => {
                in_list(context, &it.name, &it.whose, &RuleEdit::Remove, "bundle left")
            }
        }
    }
}

/// Changes the list of a host or label at the place where it uses the bundle.
fn in_list(
    context: &Context,
    name: &str,
    whose: &Whose,
    edit: &RuleEdit,
    done: &str,
) -> Result<Output, Failure> {
    whose.edit(context, format!("{done}: {name}"), |sources, policy, owner| {
        edit_rule(sources, policy, owner, name, edit)
    })
}
