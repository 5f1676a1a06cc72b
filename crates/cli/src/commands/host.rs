//! `host`: the machines of a policy.

use super::complete::hosts;
use super::context::Context;
use super::items::{Items, OfHosts};
use super::named::{changed, named};
use super::output::Output;
use super::values::{list_of, text_of};
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, listing, load_all};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{Assignment, NamedEdit};

/// What can be done to hosts.
#[derive(Debug, Subcommand)]
pub enum Host {
    /// Add a host
    Add(Added),
    /// Give keys of a host other values
    Change(Changed),
    /// Take a host out of the policy, with its rules
    Remove(Gone),
    /// List the hosts
    List,
}

/// The keys of a host.
#[derive(Debug, Args)]
pub struct HostKeys {
    /// Its name
    #[arg(add = Names::new(hosts))]
    name: String,
    /// Its own addresses, with a prefix length where its networks matter
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    addresses: Vec<String>,
    /// Host names of the machines that it is for, besides its own; * stands for any letters
    #[arg(long, value_name = "NAME", num_args = 1..)]
    names: Vec<String>,
    /// Words that describe it; those with a section bring what that says
    #[arg(long, value_name = "LABEL", num_args = 1..)]
    labels: Vec<String>,
    /// Whom nothing comes from and nothing goes to
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1..)]
    turned_away: Vec<String>,
    /// Where its remote shell listens
    #[arg(long, value_name = "TRAFFIC", num_args = 1..)]
    shell: Vec<String>,
    /// If its rules cannot be loaded at boot: closed or open
    #[arg(long, value_name = "WORD")]
    on_failure: Option<String>,
    /// Whom the kernel remembers for callers: denied, all or off
    #[arg(long, value_name = "WORD")]
    record: Option<String>,
    /// For how long after they came last, such as "30 days"
    #[arg(long, value_name = "SPAN")]
    record_for: Option<String>,
    /// Which decisions the kernel reports for watch --logged: nothing, denied or all
    #[arg(long, value_name = "WORD")]
    log: Option<String>,
    /// How many it reports at most: all together, and of one sender, such as "10/minute per source"
    #[arg(long, value_name = "RATE", num_args = 1..)]
    log_at_most: Vec<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `host remove`.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its name
    #[arg(add = Names::new(hosts))]
    name: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `host add`.
#[derive(Debug, Args)]
pub struct Added {
    #[command(flatten)]
    keys: HostKeys,
    /// In which file of the folder it is to stand, also a new one; where others of its kind are if left out
    #[arg(long, value_name = "FILE")]
    file: Option<String>,
}

/// Options of `host change`.
#[derive(Debug, Args)]
pub struct Changed {
    #[command(flatten)]
    keys: HostKeys,
    #[command(flatten)]
    items: Items<OfHosts>,
    /// Take these keys away
    #[arg(long, value_name = "KEY", num_args = 1.., value_parser = DROPPABLE)]
    drop: Vec<String>,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
}

/// Keys without which a host is still one.
const DROPPABLE: [&str; 10] = [
    "addresses",
    "names",
    "labels",
    "turned-away",
    "shell",
    "on-failure",
    "record",
    "record-for",
    "log",
    "log-at-most",
];

impl HostKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [
            list_of("addresses", &self.addresses),
            list_of("names", &self.names),
            list_of("labels", &self.labels),
            list_of("turned-away", &self.turned_away),
            list_of("shell", &self.shell),
            text_of("on-failure", self.on_failure.as_ref()),
            text_of("record", self.record.as_ref()),
            text_of("record-for", self.record_for.as_ref()),
            text_of("log", self.log.as_ref()),
            list_of("log-at-most", &self.log_at_most),
        ];
        keys.into_iter().flatten().collect()
    }
}

impl Host {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let run = |name: &str, edit, dry| named(context, (Used::Host, name), &edit, None, dry);
        match self {
            Self::List => {
                let report = listing::hosts(&load_all(&context.global.policy)?.1);
                Ok(context.fine(&report, render::hosts))
            }
            Self::Add(it) => {
                let edit = NamedEdit::Add(it.keys.assignments());
                named(
                    context,
                    (Used::Host, &it.keys.name),
                    &edit,
                    it.file.as_deref(),
                    it.keys.dry_run,
                )
            }
            Self::Remove(it) => run(&it.name, NamedEdit::Remove, it.dry_run),
            Self::Change(it) => {
                let mut keys = it.keys.assignments();
                let dropped =
                    DROPPABLE.into_iter().filter(|key| it.drop.iter().any(|it| it == key));
                keys.extend(dropped.map(|key| (key, None)));
                let edit = changed((keys, it.items.edits()), it.rename.as_ref(), &it.keys.name)?;
                run(&it.keys.name, edit, it.keys.dry_run)
            }
        }
    }
}
