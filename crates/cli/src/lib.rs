//! Tipstaff: who may reach which port of this host, enforced by the kernel and checked from
//! outside. The program, and what its manual pages are made from.

mod commands;
mod demo;
mod exit;
mod live;
mod render;

use clap_complete::CompleteEnv;
use std::process::ExitCode;
use tipstaff_app::Outcome;

/// The program.
#[must_use]
pub fn run() -> ExitCode {
    if let Some(text) = commands::only_version(std::env::args_os().skip(1)) {
        return exit::code(match render::print(&text) {
            Ok(()) => Outcome::Fine,
            Err(failure) => {
                render::failure(&failure, render::Format::Text, render::ColorWhen::Auto);
                failure.outcome()
            }
        });
    }
    // A shell that asks how a line goes on sets a variable; its answer ends the process.
    CompleteEnv::with_factory(commands::command).var("TIPSTAFF_COMPLETE").complete();
    let cli = match commands::Cli::read(std::env::args_os()) {
        Ok(cli) => cli,
        Err(text) => text.exit(),
    };
    let mut screen = render::Screen::of_stdout(cli.global.color);
    screen.in_full = cli.global.in_full;
    let outcome = commands::run(&cli, &screen)
        .and_then(|output| render::print(&output.text).map(|()| output.outcome));
    exit::code(match outcome {
        Ok(outcome) => outcome,
        Err(failure) => {
            let words: Vec<_> = std::env::args_os().collect();
            let failure = commands::at_words(failure, &words);
            render::failure(&failure, cli.global.format, cli.global.color);
            failure.outcome()
        }
    })
}

/// The lines that show in a command's help how it is used; the command as it is called, without the
/// program's name.
#[must_use]
pub fn examples(command: &str) -> &'static [&'static str] {
    commands::examples(command)
}

/// Its commands and options, for whoever writes pages about them.
#[must_use]
pub fn command() -> clap::Command {
    commands::command()
}
