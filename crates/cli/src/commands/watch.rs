//! `watch`: decisions as they are made.

use super::context::Context;
use super::output::Output;
use super::span::span;
use crate::live::{self, Alarm, Until};
use crate::render::Format;
use clap::Args;
use std::io::IsTerminal;
use std::time::Duration;
use tipstaff_app::Failure;
use tipstaff_app::handing::{Outlet, To};
use tipstaff_app::watch::{self, Filter};

/// Options of `watch`.
#[derive(Debug, Args)]
pub struct Watch {
    /// Only such decisions: allowed, denied, rejected, inbound, outbound, forwarded, port NUMBER, from PLACE,
    /// to PLACE, rule NAME, 22/tcp
    #[arg(value_name = "WORDS")]
    only: Vec<String>,
    /// End after so long, such as 10m
    #[arg(long = "for", value_name = "SPAN", value_parser = span)]
    time: Option<Duration>,
    /// End after so many decisions
    #[arg(long, value_name = "NUMBER")]
    count: Option<u64>,
    /// A line for each decision, also on a terminal
    #[arg(long)]
    lines: bool,
    /// Only what the policy has the kernel report: `log` and `log-at-most` of the host, `log` of rules
    #[arg(long)]
    logged: bool,
    /// Ring the terminal's bell at each such decision, once a second at most
    #[arg(long)]
    bell: bool,
    /// Run this with the shell at such a decision, once at a time; what was decided is in its environment
    /// (TIPSTAFF_FROM, _TO, _TRAFFIC, _VERDICT, _RULE; TIPSTAFF_DECISION has all of it as JSON)
    #[arg(long, value_name = "COMMAND")]
    run: Option<String>,
    /// Hand decisions on to the system's journal, a field for each part (TIPSTAFF_VERDICT, TIPSTAFF_RULE ...)
    #[arg(long)]
    journal: bool,
    /// Hand decisions on to a log server (RFC 5424): unix:/dev/log, udp:HOST:PORT, tcp:HOST:PORT or
    /// tls:HOST:PORT
    #[arg(long, value_name = "SERVER", value_parser = To::syslog)]
    syslog: Option<To>,
    /// Hand decisions on to a collector of OpenTelemetry logs, such as http://127.0.0.1:4318
    #[arg(long, value_name = "URL", value_parser = To::otlp)]
    otlp: Option<To>,
}

impl Watch {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let typed = self.only.join(" ");
        let policy = context.here();
        let filter = Filter::parse(&typed, policy.as_ref().ok())?;
        let mut watching = watch::begin(context.machine, policy, self.logged)?;
        let mut alarm = Alarm::new(self.bell, self.run.clone());
        let journal = self.journal.then_some(To::Journal);
        let to = journal.iter().chain(&self.syslog).chain(&self.otlp);
        let outlets: Vec<Outlet> =
            to.map(|it| Outlet::to(it, &watching.host)).collect::<Result<_, _>>()?;
        let terminal = std::io::stdout().is_terminal() && std::io::stdin().is_terminal();
        let json = context.format() == Format::Json;
        // Whoever hands decisions on needs no lines, unless they are asked for.
        let silent = !outlets.is_empty() && !self.lines && !json;
        let lines = self.lines || !terminal || self.time.is_some() || self.count.is_some();
        if lines || json || silent {
            let until = Until { time: self.time, count: self.count };
            let form = (context.format(), context.screen, silent);
            live::print(&mut watching, &filter, form, until, (&mut alarm, &outlets))?;
        } else {
            live::show(&mut watching, (typed, filter), context.screen, &mut alarm)?;
        }
        let ends: Vec<_> = outlets.into_iter().map(Outlet::end).collect();
        let left: u64 = ends.iter().map(|it| it.0).sum();
        if left > 0 {
            let mut help = vec!["nobody took them for 5 seconds after the end".into()];
            help.extend(
                ends.into_iter().filter_map(|it| it.1).map(|it| format!("the last try: {it}")),
            );
            let message = match left {
                1 => "1 decision could not be handed on".into(),
                _ => format!("{left} decisions could not be handed on"),
            };
            return Err(Failure::stopped(message, help));
        }
        Ok(Output::silent())
    }
}
