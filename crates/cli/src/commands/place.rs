//! `place`: changes of places.

use super::complete::places;
use super::context::Context;
use super::items::{Items, OfPlaces};
use super::named::{Gone, changed, named};
use super::output::Output;
use super::values::{list_of, text_of};
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, listing, load_all};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{Assignment, NamedEdit};

/// What can be done to places.
#[derive(Debug, Subcommand)]
pub enum Place {
    /// Add a place
    Add(Added),
    /// Give a place other addresses
    Change(Changed),
    /// Remove a place that nothing uses
    Remove(Gone),
    /// List the places
    List,
}

/// The keys of a place.
#[derive(Debug, Args)]
pub struct PlaceKeys {
    /// Its name
    #[arg(add = Names::new(places))]
    name: String,
    /// Networks, addresses and ranges, of both IP versions
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    addresses: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `place add`.
#[derive(Debug, Args)]
pub struct Added {
    #[command(flatten)]
    keys: PlaceKeys,
    /// In which file of the folder it is to stand, also a new one; where others of its kind are if left out
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
}

/// Options of `place change`.
#[derive(Debug, Args)]
pub struct Changed {
    #[command(flatten)]
    keys: PlaceKeys,
    #[command(flatten)]
    items: Items<OfPlaces>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
}

impl PlaceKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [list_of("addresses", &self.addresses), text_of("why", self.why.as_ref())];
        keys.into_iter().flatten().collect()
    }
}

impl Place {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let run = |name: &str, edit, dry| named(context, (Used::Place, name), &edit, None, dry);
        match self {
            Self::List => {
                let report = listing::places(&load_all(&context.global.policy)?.1);
                Ok(context.fine(&report, render::names))
            }
            Self::Add(it) => {
                let edit = NamedEdit::Add(it.keys.assignments());
                named(
                    context,
                    (Used::Place, &it.keys.name),
                    &edit,
                    it.file.as_deref(),
                    it.keys.dry_run,
                )
            }
            Self::Change(it) => {
                let new = (it.keys.assignments(), it.items.edits());
                let edit = changed(new, it.rename.as_ref(), &it.keys.name)?;
                run(&it.keys.name, edit, it.keys.dry_run)
            }
            Self::Remove(it) => run(&it.name, NamedEdit::Remove, it.dry_run),
        }
    }
}
