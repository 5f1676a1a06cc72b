//! `service`: changes of services, and the built-in ones.

use super::complete::services;
use super::context::Context;
use super::items::{Items, OfServices, described};
use super::named::{Gone, changed, named};
use super::output::Output;
use super::values::{list_of, text_of};
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, listing, load_all};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{Assignment, NamedEdit, Value};

/// What can be done to services.
#[derive(Debug, Subcommand)]
pub enum Service {
    /// Add a service
    Add(Added),
    /// Give a service other ports
    Change(Changed),
    /// Remove a service that nothing uses
    Remove(Gone),
    /// List the policy's own services
    List,
    /// Find services by name, port number or description, the built-in ones too
    Find {
        /// A part of a name or description, or a port number
        word: String,
    },
}

/// The keys of a service.
#[derive(Debug, Args)]
pub struct ServiceKeys {
    /// Its name
    #[arg(add = Names::new(services))]
    name: String,
    /// Its ports, such as 80/tcp; with what each is for: "5432/tcp=Queries"
    #[arg(long, value_name = "TRAFFIC", num_args = 1..)]
    ports: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `service add`.
#[derive(Debug, Args)]
pub struct Added {
    #[command(flatten)]
    keys: ServiceKeys,
    /// In which file of the folder it is to stand, also a new one; where others of its kind are if left out
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
}

/// Options of `service change`.
#[derive(Debug, Args)]
pub struct Changed {
    #[command(flatten)]
    keys: ServiceKeys,
    #[command(flatten)]
    items: Items<OfServices>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
}

impl ServiceKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let words = |it: &String| {
            let (port, meaning) = described(it).unwrap_or((it, ""));
            (port.to_owned(), meaning.to_owned())
        };
        let ports = match self.ports.iter().any(|it| described(it).is_some()) {
            true => Some(("ports", Some(Value::Words(self.ports.iter().map(words).collect())))),
            false => list_of("ports", &self.ports),
        };
        let keys = [ports, text_of("why", self.why.as_ref())];
        keys.into_iter().flatten().collect()
    }
}

impl Service {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let run = |name: &str, edit, dry| named(context, (Used::Service, name), &edit, None, dry);
        let listed = |report| Ok(context.fine(&report, render::names));
        match self {
            Self::List => listed(listing::services(&load_all(&context.global.policy)?.1)),
            Self::Find { word } => {
                // The built-in table can be searched before there is a policy.
                let policy = load_all(&context.global.policy).ok().map(|it| it.1);
                listed(listing::find_services(policy.as_ref(), word))
            }
            Self::Add(it) => {
                let edit = NamedEdit::Add(it.keys.assignments());
                named(
                    context,
                    (Used::Service, &it.keys.name),
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
