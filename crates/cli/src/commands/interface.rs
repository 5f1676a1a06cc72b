//! `interface`: what a host's interfaces are for.

use super::context::Context;
use super::output::Output;
use super::values::text;
use super::whose::Whose;
use crate::render;
use clap::{Args, Subcommand};
use tipstaff_app::{Failure, roles};
use tipstaff_core::policy::edit::{Target, Value, set_entries};

/// What can be done to a host's interfaces.
#[derive(Debug, Subcommand)]
pub enum Interface {
    /// Say what an interface is for
    Add(Role),
    /// Give a role to another interface
    Change(Role),
    /// Take a role away
    Remove(Gone),
    /// List the host's interfaces
    List,
}

/// Options of `interface add` and `interface change`.
#[derive(Debug, Args)]
pub struct Role {
    /// What it is for, in a word of your choice, such as outside
    role: String,
    /// Its name, or its hardware address
    interface: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `interface remove`.
#[derive(Debug, Args)]
pub struct Gone {
    /// What it is for
    role: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Interface {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let known = || -> Result<roles::Report, Failure> { Ok(roles::report(&context.policy()?)) };
        let is_there = |role: &str| -> Result<bool, Failure> {
            Ok(known()?.interfaces.iter().any(|it| it.role == role))
        };
        match self {
            Self::List => Ok(context.fine(&known()?, render::interfaces)),
            Self::Add(it) if is_there(&it.role)? => Err(Failure::usage(
                format!("there is an interface `{}` already", it.role.escape_debug()),
                "choose another word for it, or use `tipstaff interface change`",
            )),
            Self::Change(it) if !is_there(&it.role)? => Err(Failure::usage(
                format!("no interface is for `{}`", it.role.escape_debug()),
                "`tipstaff interface list` shows them, `tipstaff interface add` adds one",
            )),
            Self::Add(it) | Self::Change(it) => {
                let done = format!("interface {}: {}", it.role, it.interface);
                set(context, &it.role, Some(text(&it.interface)), done, it.dry_run)
            }
            Self::Remove(it) => {
                let done = format!("interface removed: {}", it.role);
                set(context, &it.role, None, done, it.dry_run)
            }
        }
    }
}

fn set(
    context: &Context,
    role: &str,
    value: Option<Value>,
    done: String,
    dry: bool,
) -> Result<Output, Failure> {
    let entries = [(role.to_owned(), value)];
    // Interfaces are a host's own: what hosts share cannot know them.
    let whose = Whose { label: None, dry_run: dry };
    whose.edit(context, done, |sources, _, owner| {
        set_entries(sources, Target::Section(owner), "interfaces", &entries, false)
    })
}
