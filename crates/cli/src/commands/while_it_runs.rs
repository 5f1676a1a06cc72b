//! A posture for as long as a command runs.

use super::context::Context;
use super::output::Output;
use crate::render::{self, Format};
use std::ffi::OsString;
use std::process::Command;
use tipstaff_app::posture::{self, Taking};
use tipstaff_app::store::Watcher;
use tipstaff_app::{Failure, Outcome, transaction};

/// Takes a posture, runs a command, and leaves the posture when that has ended. A process of its own does so, too,
/// should this one be ended first.
///
/// # Errors
/// Why the posture could not be taken or left, or the command not be started.
pub fn run(
    context: &Context,
    taking: Taking<'_>,
    options: &transaction::Options<'_>,
    (command, words): (&OsString, &[OsString]),
) -> Result<Output, Failure> {
    let place = (context.global.policy.as_path(), context.host());
    let ends_with = Watcher::of(std::process::id());
    let report = posture::take(place, &Taking { ends_with, ..taking }, options)?;
    if context.format() == Format::Text {
        // Whoever reads it does so while the command runs.
        let _ = render::print(&render::posture(&report, context.screen));
    }
    let ended = Command::new(command).args(words).status();
    // As it was before: nobody is to be asked when it is over.
    let options = transaction::Options {
        keep: true,
        even_if_locked_out: true,
        not_this_machine: true,
        ..*options
    };
    let left = posture::leave_taken(&options, &report)?;
    let status = ended.map_err(|error| Failure::System {
        message: format!("cannot run {}: {error}", command.to_string_lossy().escape_debug()),
        help: vec!["the posture was left again".into()],
    })?;
    let outcome = if status.success() { left.outcome() } else { Outcome::Found };
    let mut output = context.shown(&left, outcome, render::posture);
    if context.format() == Format::Text && !status.success() {
        output.text.push_str(&format!("the command ended with {status}\n"));
    }
    Ok(output)
}
