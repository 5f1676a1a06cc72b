//! Reports to text. Only here is anything printed.

mod adopted;
mod ask;
mod asked;
mod attended;
mod callers;
mod came;
mod compare;
mod cut;
mod diagnostic;
mod docket;
mod edit;
mod effect;
mod enforce;
mod exported;
mod exposition;
mod facts;
mod fleet;
mod fleet_metrics;
mod fleet_page;
mod junit;
mod kernel;
mod listing;
mod lists;
mod metrics;
mod newcomers;
mod pairs;
mod posture;
mod probed;
mod programs;
mod progress;
mod reach;
mod reach_metrics;
mod refreshed;
mod rehearse;
mod report;
mod review;
mod rolled;
mod sarif;
mod screen;
mod show;
mod status;
mod table;
mod text;
mod tighten;
mod turning;

pub use adopted::adopted;
pub use ask::ask;
pub use asked::asked;
pub use callers::{callers, callers_sheet, cleared, saved};
pub use compare::compare;
pub use cut::cut;
pub use docket::{docket, docket_entry, mended};
pub use edit::edited;
pub use effect::{changes, effects, regions};
pub use enforce::{booted, enforced, settled, will_change};
pub use exported::{lists, losses, nobody, not_taken, plan, remark};
pub use facts::facts;
pub use fleet::{compared, sealed, verified};
pub use fleet_metrics::overview_metrics;
pub use fleet_page::fleet_page;
pub use junit::junit;
pub use kernel::kernel;
pub use listing::{hosts, names, rule, rules};
pub use lists::{expected, interfaces};
pub use metrics::{callers_metrics, status_metrics};
pub use newcomers::{came, newcomers};
pub use pairs::{expected_between, matrix, reached};
pub use posture::{followed, posture};
pub use probed::probed;
pub use programs::{programs, recognised};
pub use progress::{Bar, progress};
pub use reach::{meant, reach};
pub use reach_metrics::reach_metrics;
pub use refreshed::{refreshed, reread};
pub use rehearse::rehearsed;
pub use report::{csv, markdown, page, reported};
pub use review::{explanation, review};
pub use rolled::{held, overview, rolled_out, taken_line, took, undone, what_changed};
pub use sarif::sarif;
pub use screen::{ColorWhen, Screen, Style};
pub use show::show;
pub use status::status;
pub use table::{Cell, Table, wrap};
pub use text::{clean, clean_json, place};
pub use tighten::tightened;
pub use turning::turned;

use clap::ValueEnum;
use serde::Serialize;
use std::io::{ErrorKind, Write};
use tipstaff_app::Failure;

/// How results are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
    /// `report` only: one page that needs nothing else.
    Html,
    /// `report` and `callers` only: for spreadsheets.
    Csv,
    /// `report` only: for wikis.
    Markdown,
    /// `status`, `callers` and `reach` only: for collectors of measurements.
    Openmetrics,
    /// `review` only: for tools that show findings beside the text (SARIF 2.1.0).
    Sarif,
    /// `review` only: what is expected, for tools that collect the results of tests.
    Junit,
}

impl Format {
    /// As it is asked for.
    pub fn word(self) -> String {
        self.to_possible_value().map(|it| it.get_name().to_owned()).unwrap_or_default()
    }
}

/// A report in the format asked for.
pub fn report<R: Serialize>(
    format: Format,
    screen: &Screen,
    report: &R,
    text: impl FnOnce(&R, &Screen) -> String,
) -> String {
    match format {
        Format::Json => json(report),
        // The others belong to one command, which writes them itself.
        _ => text(report, screen),
    }
}

fn json<R: Serialize>(report: &R) -> String {
    // Reports are made of texts, numbers and lists, which always have a JSON form.
    let mut text = clean_json(&serde_json::to_string_pretty(report).unwrap_or_default());
    text.push('\n');
    text
}

/// A report as one line of JSON.
pub fn line_of_json<R: Serialize>(report: &R) -> String {
    format!("{}\n", clean_json(&serde_json::to_string(report).unwrap_or_default()))
}

/// Writes to standard output. A reader that has gone away is no error of ours.
///
/// # Errors
/// [`Failure`] if the text cannot be written, for example because a disk is full.
pub fn print(text: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() != ErrorKind::BrokenPipe => Err(Failure::System {
            message: format!("cannot write the result: {error}"),
            help: Vec::new(),
        }),
        _ => Ok(()),
    }
}

/// Writes a failure: for people to standard error, for programs also to standard output.
pub fn failure(failure: &Failure, format: Format, color: ColorWhen) {
    let screen = Screen::of_stderr(color);
    let text = diagnostic::failure(failure, &screen);
    let _ = std::io::stderr().lock().write_all(text.as_bytes());
    if format == Format::Json {
        // If this fails too, there is nowhere left to say so.
        let _ = print(&json(&diagnostic::failure_words(failure)));
    }
}
