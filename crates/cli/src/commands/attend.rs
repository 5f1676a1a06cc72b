//! `attend`: follows what happens to the machine.

use super::context::Context;
use super::membership::Membership;
use super::output::Output;
use crate::live::Hook;
use crate::render::{self, Format};
use clap::Args;
use tipstaff_app::attend::Happened;
use tipstaff_app::{Failure, attend};

/// Options of `attend`.
#[derive(Debug, Args)]
pub struct Attend {
    /// Have a shell run this when something begins to listen; what it is, is in TIPSTAFF_PROGRAM, TIPSTAFF_TRAFFIC
    /// and TIPSTAFF_REACHED_BY
    #[arg(long, value_name = "COMMAND")]
    run: Option<String>,
    #[command(flatten)]
    fleet: Membership,
}

impl Attend {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let json = context.format() == Format::Json;
        let mut hook = Hook::new(self.run.clone());
        let fleet = self.fleet.trust()?;
        attend::attend(context.machine, context.home, fleet, &mut |found| {
            let happened = match found {
                Ok(happened) => happened,
                Err(failure) => {
                    // The next one may work: it goes on.
                    render::failure(failure, Format::Text, context.global.color);
                    return Ok(());
                }
            };
            if let Happened::Newcomer(newcomer) = happened {
                let by = newcomer.reached_by.map(|it| it.to_string()).unwrap_or_default();
                hook.pull(&[
                    ("TIPSTAFF_PROGRAM", &newcomer.whose),
                    ("TIPSTAFF_TRAFFIC", &newcomer.traffic),
                    ("TIPSTAFF_REACHED_BY", &by),
                ]);
            }
            render::print(&match happened {
                happened if json => render::line_of_json(happened),
                Happened::Posture(followed) => render::followed(followed),
                Happened::Newcomer(newcomer) => render::came(newcomer),
                Happened::Programs(report) => render::recognised(report),
                Happened::Places(reread) => render::reread(reread),
                Happened::Fleet(taken) => render::taken_line(taken),
            })
        })?;
        Ok(Output::silent())
    }
}
