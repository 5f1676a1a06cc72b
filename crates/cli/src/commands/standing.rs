//! `fleet status`: what each host has, and what is wrong.

use super::context::Context;
use super::membership::Carried;
use super::output::Output;
use super::span::span;
use crate::render::{self, Format};
use clap::{Args, ValueEnum};
use std::io::IsTerminal;
use std::time::Duration;
use tipstaff_app::fleet::{self, HostStands, Overview, Trust};
use tipstaff_app::vocabulary::Stands;
use tipstaff_app::{Failure, Outcome};

/// Options of `fleet status`.
#[derive(Debug, Args)]
pub struct Status {
    #[command(flatten)]
    carried: Carried,
    /// Only hosts that do not stand well
    #[arg(long)]
    wrong: bool,
    /// Only hosts that stand so, such as went-back
    #[arg(long, value_name = "WORD", num_args = 1.., value_parser = stands)]
    only: Vec<Stands>,
    /// In which order hosts are listed
    #[arg(long, value_name = "ORDER", value_enum, default_value = "stands")]
    sort: Order,
    /// Stay, and show what changes; looks every 5 seconds, or so often
    #[arg(long, value_name = "SPAN", value_parser = span, num_args = 0..=1, default_missing_value = "5s")]
    watch: Option<Duration>,
}

/// In which order hosts are listed.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Order {
    /// Those that need somebody first, then by name
    Stands,
    /// By name
    Name,
    /// Those that were heard longest ago first
    Heard,
    /// Those that have the lowest number first
    Has,
}

fn stands(word: &str) -> Result<Stands, String> {
    Stands::ALL.iter().copied().find(|it| it.as_str() == word).ok_or_else(|| {
        let words: Vec<&str> = Stands::ALL.iter().map(|it| it.as_str()).collect();
        format!("hosts stand so: {}", words.join(", "))
    })
}

impl Status {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let trust = self.carried.trust()?;
        if let Some(often) = self.watch {
            return self.stay(context, &trust, often.max(Duration::from_secs(1)));
        }
        let (report, outcome) = self.looked(&trust)?;
        Ok(match context.format() {
            Format::Openmetrics => Output { text: render::overview_metrics(&report), outcome },
            Format::Html => Output { text: render::fleet_page(&report), outcome },
            _ => context.shown(&report, outcome, render::overview),
        })
    }

    /// How hosts stand, as far as it was asked for; the outcome is that of all of them.
    fn looked(&self, trust: &Trust) -> Result<(Overview, Outcome), Failure> {
        let mut report = fleet::overview(trust)?;
        let outcome = report.outcome();
        let wanted = |it: &HostStands| {
            !(self.wrong && it.is_well())
                && (self.only.is_empty() || self.only.contains(&it.stands))
        };
        report.hosts.retain(wanted);
        match self.sort {
            Order::Stands => {}
            Order::Name => report.hosts.sort_by(|one, other| one.host.cmp(&other.host)),
            Order::Heard => {
                report.hosts.sort_by_key(|it| std::cmp::Reverse(it.heard.unwrap_or(u64::MAX)));
            }
            Order::Has => report.hosts.sort_by_key(HostStands::has),
        }
        Ok((report, outcome))
    }

    /// Shows it again and again: all of it on a terminal; elsewhere a line for each host of which something changed.
    fn stay(&self, context: &Context, trust: &Trust, often: Duration) -> Result<Output, Failure> {
        if matches!(context.format(), Format::Openmetrics | Format::Html) {
            return Err(Failure::usage(
                "a page or measurements are written once",
                "--watch goes with text or JSON",
            ));
        }
        let redraw = context.format() == Format::Text && std::io::stdout().is_terminal();
        let mut before: Option<Overview> = None;
        loop {
            match self.looked(trust) {
                Ok((report, _)) => {
                    let text = match (&before, context.format()) {
                        (_, Format::Json) => render::line_of_json(&report),
                        (Some(before), _) if !redraw => render::what_changed(before, &report),
                        _ => render::overview(&report, context.screen),
                    };
                    let clear = if redraw { "\x1b[H\x1b[2J" } else { "" };
                    render::print(&format!("{clear}{text}"))?;
                    before = Some(report);
                }
                // Some that can be mended meanwhile: it goes on.
                Err(failure @ Failure::System { .. }) => {
                    render::failure(&failure, Format::Text, context.global.color);
                }
                Err(failure) => return Err(failure),
            }
            std::thread::sleep(often);
        }
    }
}
