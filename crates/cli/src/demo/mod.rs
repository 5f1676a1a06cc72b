//! `demo`: the whole example, in a sealed lab.
//!
//! The command starts itself anew in network and mount namespaces of its own. Everything it makes
//! lives there and in processes that end when it ends, so nothing is left behind, however it
//! ends.

mod changes;
mod stand_in;
mod story;
mod world;

pub use stand_in::run as stand_in;

use crate::app::Failure;
use crate::app::rehearse::no_namespaces;
use crate::args::Output;
use crate::exit::Exit;
use crate::render::{ColorWhen, Format, Screen};
use std::process::Command;
use tipstaff_linux::lab::seal;

/// Runs the demo: outside, starts it anew in a sealed process; there, tells the story.
///
/// # Errors
/// [`Failure`] if the system lets us make no namespaces, or something in the lab fails.
pub fn run(sealed: bool, format: Format, color: ColorWhen) -> Result<Output, Failure> {
    if sealed {
        tipstaff_linux::die_with_parent().map_err(|source| Failure::System {
            message: format!("cannot tie the lab to its command: {source}"),
            help: Vec::new(),
        })?;
        return story::tell(format, &Screen::of_stdout(color));
    }
    let program = own_program()?;
    let mut command = Command::new(program);
    command.args(std::env::args_os().skip(1)).arg("--sealed");
    seal(&mut command);
    let status = command.status().map_err(|source| no_namespaces(&source))?;
    let exit = match status.code() {
        Some(0) => Exit::Fine,
        Some(1) => Exit::Found,
        Some(2) => Exit::Usage,
        // Ended by a signal, such as Ctrl-C, too.
        _ => Exit::Refused,
    };
    Ok(Output { text: String::new(), exit })
}

fn own_program() -> Result<std::path::PathBuf, Failure> {
    std::env::current_exe().map_err(|source| Failure::System {
        message: format!("cannot find this program's own file: {source}"),
        help: Vec::new(),
    })
}
