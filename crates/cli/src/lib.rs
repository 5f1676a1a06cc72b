//! Tipstaff: who may reach which port of this host, enforced by the kernel and checked from
//! outside. The program, and what its manual pages are made from.

mod app;
mod args;
mod demo;
mod exit;
mod render;
mod store;

use clap::{CommandFactory, Parser};
use clap_complete::CompleteEnv;
use std::process::ExitCode;

/// The program.
#[must_use]
pub fn run() -> ExitCode {
    // A shell that asks how a line goes on sets a variable; its answer ends the process.
    CompleteEnv::with_factory(args::Cli::command).var("TIPSTAFF_COMPLETE").complete();
    let cli = args::Cli::parse();
    let screen = render::Screen::of_stdout(cli.global.color);
    let outcome = args::dispatch(&cli, &screen)
        .and_then(|output| render::print(&output.text).map(|()| output.exit));
    exit::code(match outcome {
        Ok(exit) => exit,
        Err(failure) => {
            render::failure(&failure, cli.global.format, cli.global.color);
            failure.exit()
        }
    })
}

/// Its commands and options, for whoever writes pages about them.
#[must_use]
pub fn command() -> clap::Command {
    args::Cli::command()
}
