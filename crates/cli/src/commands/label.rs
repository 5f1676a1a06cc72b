//! `label`: what all hosts of a kind have.

use super::complete::{labels, places};
use super::context::Context;
use super::items::{Items, OfLabels};
use super::named::{changed, named};
use super::output::Output;
use super::values::{list_of, text_of};
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, listing, load_all};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{Assignment, NamedEdit};

/// What can be done to labels.
#[derive(Debug, Subcommand)]
pub enum Label {
    /// Add what all hosts with a label have; rules come with `rule add --label`
    Add(Added),
    /// Give keys of a label other values
    Change(Changed),
    /// Remove the section of a label: to the hosts that have it, it is only a word then
    Remove(Gone),
    /// List the labels that have a section
    List,
}

/// The keys of a label.
#[derive(Debug, Args)]
pub struct LabelKeys {
    /// Its name
    #[arg(add = Names::new(labels))]
    name: String,
    /// Where its rules stand: ahead of the host's own, or behind them
    #[arg(long, value_name = "WORD")]
    position: Option<String>,
    /// Whom nothing comes from and nothing goes to
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    turned_away: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `label add`.
#[derive(Debug, Args)]
pub struct Added {
    #[command(flatten)]
    keys: LabelKeys,
    /// In which file of the folder it is to stand, also a new one; where others of its kind are if left out
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
}

/// Options of `label change`.
#[derive(Debug, Args)]
pub struct Changed {
    #[command(flatten)]
    keys: LabelKeys,
    #[command(flatten)]
    items: Items<OfLabels>,
    /// Take these keys away
    #[arg(long, value_name = "KEY", num_args = 1.., value_parser = DROPPABLE)]
    drop: Vec<String>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
}

/// Options of `label remove`.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its name
    #[arg(add = Names::new(labels))]
    name: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Keys without which a label is still one.
const DROPPABLE: [&str; 3] = ["position", "turned-away", "why"];

impl LabelKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [
            text_of("position", self.position.as_ref()),
            list_of("turned-away", &self.turned_away),
            text_of("why", self.why.as_ref()),
        ];
        keys.into_iter().flatten().collect()
    }
}

impl Label {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let run = |name: &str, edit: &NamedEdit, file: Option<&str>, dry| {
            named(context, (Used::Label, name), edit, file, dry)
        };
        match self {
            Self::List => {
                let report = listing::labels(&load_all(&context.global.policy)?.1);
                Ok(context.fine(&report, render::names))
            }
            Self::Add(it) => {
                let edit = NamedEdit::Add(it.keys.assignments());
                run(&it.keys.name, &edit, it.file.as_deref(), it.keys.dry_run)
            }
            Self::Change(it) => {
                let mut keys = it.keys.assignments();
                let dropped =
                    DROPPABLE.into_iter().filter(|key| it.drop.iter().any(|it| it == key));
                keys.extend(dropped.map(|key| (key, None)));
                let edit = changed((keys, it.items.edits()), it.rename.as_ref(), &it.keys.name)?;
                run(&it.keys.name, &edit, None, it.keys.dry_run)
            }
            Self::Remove(it) => run(&it.name, &NamedEdit::Remove, None, it.dry_run),
        }
    }
}
