//! How long a change stays, as options.

use super::context::Context;
use super::span::span;
use clap::Args;
use std::time::Duration;
use tipstaff_app::transaction;

/// How long it is waited for a confirmation, where nothing is said, in seconds.
const CONFIRM_WITHIN: &str = "60";

/// How long a change stays.
#[derive(Debug, Args)]
pub struct Staying {
    /// Stay so until the next change, without waiting to be confirmed
    #[arg(long)]
    pub keep: bool,
    /// Go back by itself unless `tipstaff confirm` comes within this time
    #[arg(long, value_name = "TIME", default_value = CONFIRM_WITHIN, value_parser = waiting)]
    pub confirm_within: Duration,
}

impl Staying {
    /// Of what is to stay whatever is said.
    pub fn kept<'c>(context: &Context<'c>) -> transaction::Options<'c> {
        Self { keep: true, confirm_within: Duration::from_secs(1) }.options(context)
    }

    /// Whether anything is said of it.
    pub fn is_said(&self) -> bool {
        self.keep || waiting(CONFIRM_WITHIN) != Ok(self.confirm_within)
    }

    /// As a transaction takes them.
    pub fn options<'c>(&self, context: &Context<'c>) -> transaction::Options<'c> {
        transaction::Options {
            machine: context.machine,
            home: context.home,
            keep: self.keep,
            within: self.confirm_within,
            dry: false,
            without_programs: false,
            even_if_locked_out: false,
            not_this_machine: false,
            all: false,
            log_for: None,
            posture: None,
            boot_memory: transaction::FOR_A_BOOT,
            tell: None,
        }
    }
}

fn waiting(text: &str) -> Result<Duration, String> {
    let most = Duration::from_secs(24 * 60 * 60);
    match span(text)? {
        it if (Duration::from_secs(1)..=most).contains(&it) => Ok(it),
        _ => Err("expected a time from a second to a day".into()),
    }
}
