//! `demo`: the whole example, in a sealed lab.
//!
//! The command starts itself anew in network and mount namespaces of its own. Everything it makes
//! lives there and in processes that end when it ends, so nothing is left behind, however it
//! ends.

mod changes;
mod fleet_story;
mod stand_in;
mod story;
mod teller;
mod turned_away;
mod words;
mod world;

pub use stand_in::run as stand_in;

use crate::commands::{Output, Typed};
use crate::render::{ColorWhen, Format, Screen};
use std::process::Command;
use tipstaff_app::Failure;
use tipstaff_app::Outcome;
use tipstaff_app::rehearse::no_namespaces;
use tipstaff_linux::lab::seal;

/// Which story is told.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub enum Story {
    /// One round of the loop: look, mend, enforce, check
    Loop,
    /// One policy for three hosts, and a roll-out that stops
    Fleet,
}

/// Runs the demo: outside, starts it anew in a sealed process; there, tells the story.
///
/// # Errors
/// [`Failure`] if the system lets us make no namespaces, or something in the lab fails.
pub fn run(
    story: Story,
    sealed: bool,
    format: Format,
    color: ColorWhen,
    typed: Typed,
) -> Result<Output, Failure> {
    if sealed {
        tipstaff_linux::die_with_parent().map_err(|source| Failure::System {
            message: format!("cannot tie the lab to its command: {source}"),
            help: Vec::new(),
        })?;
        let screen = Screen::of_stdout(color);
        return match story {
            Story::Loop => story::tell(format, &screen, typed),
            Story::Fleet => fleet_story::tell(format, &screen, typed),
        };
    }
    let program = own_program()?;
    let mut command = Command::new(program);
    command.args(std::env::args_os().skip(1)).arg("--sealed");
    seal(&mut command);
    let status = command.status().map_err(|source| no_namespaces(&source))?;
    let exit = match status.code() {
        Some(0) => Outcome::Fine,
        Some(1) => Outcome::Found,
        Some(2) => Outcome::Usage,
        // Ended by a signal, such as Ctrl-C, too.
        _ => Outcome::Refused,
    };
    Ok(Output { text: String::new(), outcome: exit })
}

fn own_program() -> Result<std::path::PathBuf, Failure> {
    std::env::current_exe().map_err(|source| Failure::System {
        message: format!("cannot find this program's own file: {source}"),
        help: Vec::new(),
    })
}
