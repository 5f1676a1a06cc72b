//! Tipstaff: who may reach which port of this host, enforced by the kernel and checked from
//! outside.

mod app;
mod args;
mod demo;
mod exit;
mod render;
mod store;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
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
