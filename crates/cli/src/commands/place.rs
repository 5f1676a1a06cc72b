//! `place`: changes of places.

use super::complete::places;
use super::context::Context;
use super::items::{Items, OfPlaces};
use super::named::{Gone, changed, named};
use super::output::Output;
use super::staying::Staying;
use super::values::{list_of, text_of};
use crate::render;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::places::{Although, Wish, refresh};
use tipstaff_app::transaction::{FOR_A_BOOT, Options};
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
    /// Read the files of places anew, and put what they say in force
    Refresh(Refresh),
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
    /// Files with more of them, one a line: paths seen from the policy, or https addresses
    #[arg(long, value_name = "FILE", num_args = 1..)]
    from_file: Vec<String>,
    /// The column of those files that has them, if they have comma-separated values
    #[arg(long, value_name = "NAME")]
    column: Option<String>,
    /// Codes of countries whose addresses belong to it, by the policy's `delegations`
    #[arg(long, value_name = "CODE", num_args = 1..)]
    country: Vec<String>,
    /// Addresses and places that do not belong to it
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    except: Vec<String>,
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

/// Options of `place refresh`.
#[derive(Debug, Args)]
pub struct Refresh {
    /// Which places; all whose addresses come from files, if left out
    #[arg(value_name = "NAME", add = Names::new(places))]
    places: Vec<String>,
    /// Take what looks like a mistake and is none
    #[arg(long, value_name = "WORD", value_parser = although())]
    although: Vec<Although>,
    /// Take what would shut out a session that lives now
    #[arg(long)]
    even_if_locked_out: bool,
    /// How much memory a boot may need to load the policy
    #[arg(long, value_name = "MIB", default_value_t = FOR_A_BOOT)]
    boot_memory: u64,
    /// Read the files and show the effect; keep and change nothing
    #[arg(long)]
    dry_run: bool,
}

/// The words for what can look like a mistake.
fn although() -> impl TypedValueParser<Value = Although> {
    PossibleValuesParser::new(Although::ALL.map(Although::as_str)).map(|word| {
        let found = Although::ALL.into_iter().find(|it| it.as_str() == word);
        found.unwrap_or(Although::Grown)
    })
}

impl Refresh {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        let wish = Wish { places: &self.places, although: &self.although };
        let how = Options {
            dry: self.dry_run,
            even_if_locked_out: self.even_if_locked_out,
            boot_memory: self.boot_memory,
            ..Staying::kept(context)
        };
        let busy = render::progress("reading files");
        let report = refresh(&context.global.policy, context.host(), &wish, &how)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::refreshed))
    }
}

impl PlaceKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [
            list_of("addresses", &self.addresses),
            list_of("file", &self.from_file),
            text_of("column", self.column.as_ref()),
            list_of("country", &self.country),
            list_of("except", &self.except),
            text_of("why", self.why.as_ref()),
        ];
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
            Self::Refresh(it) => it.run(context),
            Self::List => {
                let path = &context.global.policy;
                let report = listing::places(&load_all(path)?.1, path);
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
