//! `callers` as text and as a sheet.

use super::report::harmless;
use super::text::{ago, span};
use super::{Cell, Screen, Style, Table, clean, wrap};
use tipstaff_app::callers::{By, Cleared, Report, Row, Saved};
use tipstaff_app::grouped;
use tipstaff_app::vocabulary::{Direction, Fared};
use tipstaff_core::policy::Span;

/// So many are shown; programs get all.
const SHOWN: usize = 200;
/// So many names of a list are shown in one cell.
const NAMES: usize = 4;

/// Who came.
pub fn callers(report: &Report, screen: &Screen) -> String {
    let heading = format!("{}: who came", clean(&report.host));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    if report.callers.is_empty() {
        let none = match report.entries {
            0 => "nobody is remembered".to_owned(),
            entries => format!("none of {}", counted(entries as u64, "entry", "entries")),
        };
        text.push_str(&format!("  {none}\n"));
    } else {
        text.push_str(&table(report).render(screen));
    }
    let mut notes = Vec::new();
    if let Some(more) = report.callers.len().checked_sub(SHOWN).filter(|it| *it > 0) {
        notes.push(format!(
            "{more} more are not shown; `--format csv` and `--format json` have all"
        ));
    }
    notes.extend(advice(report));
    notes.push(kept(report));
    if report.no_room > 0 {
        let packets = counted(report.no_room, "packet", "packets");
        notes.push(format!("! {packets} found no room, or came too fast to be looked at"));
    }
    if report.slept_seconds >= 60 {
        let slept = span(report.slept_seconds);
        notes.push(format!(
            "This machine has slept for {slept} since it was started; the record's clock stood \
             still, so what came before came that much earlier, at most."
        ));
    }
    if let Some(why) = &report.without_policy {
        notes.push(format!("Without a policy there are no names of places: {}", clean(why)));
    }
    text.push('\n');
    for note in notes {
        // Commands stay in one line, to be copied.
        let lines = match note.starts_with("  tipstaff ") {
            true => vec![note],
            false => wrap(&note, screen.width),
        };
        lines.iter().for_each(|line| text.push_str(&format!("{line}\n")));
    }
    text
}

fn table(report: &Report) -> Table {
    let mut table = match report.by {
        None | Some(By::Sender | By::Network) => {
            Table::new(["from", "wanted", "packets", "first", "last", "decided by"])
        }
        Some(By::Port) => Table::new(["wanted", "from", "packets", "first", "last", "decided by"]),
        Some(By::Rule) => Table::new(["decided by", "from", "packets", "first", "last", "wanted"]),
    }
    .numbers(&[2]);
    for row in report.callers.iter().take(SHOWN) {
        let ago = |seconds: Option<u64>| match seconds {
            Some(seconds) => Cell::plain(ago(seconds)),
            None => Cell::new("earlier", Style::Faint),
        };
        let (first, last) = (ago(row.first_seconds_ago), ago(Some(row.last_seconds_ago)));
        let packets = Cell::plain(grouped(row.count));
        let (from, wanted, by) = (from(row), wanted(row), decided(row));
        table.row(match report.by {
            Some(By::Port) => vec![wanted, from, packets, first, last, by],
            Some(By::Rule) => vec![by, from, packets, first, last, wanted],
            _ => vec![from, wanted, packets, first, last, by],
        });
    }
    table
}

fn from(row: &Row) -> Cell {
    let word = match (row.direction, &row.who) {
        (_, None) => format!("{} different", grouped(row.senders as u64)),
        (Some(Direction::Outbound), Some(who)) => format!("to {who}"),
        (_, Some(who)) => who.clone(),
    };
    let cell = Cell::plain(word);
    match row.places.first() {
        Some(place) => cell.line(format!("({place})"), Style::Faint),
        None => cell,
    }
}

fn wanted(row: &Row) -> Cell {
    let words = names(&row.traffic);
    let cell = match row.direction {
        Some(Direction::Forwarded) => Cell::plain(format!("forwarded {words}")),
        _ => Cell::plain(words),
    };
    match &row.service {
        Some(service) => cell.line(format!("({service})"), Style::Faint),
        None => cell,
    }
}

fn decided(row: &Row) -> Cell {
    let (word, style) = match row.fared {
        Some(Fared::Admitted) => ("admitted by ", Style::Good),
        Some(Fared::Denied) => ("denied by ", Style::Closed),
        None => ("", Style::Plain),
    };
    Cell::new(format!("{word}{}", names(&row.by)), style)
}

fn names(list: &[String]) -> String {
    let mut words: Vec<String> = list.iter().take(NAMES).cloned().collect();
    if let Some(more) = list.len().checked_sub(NAMES).filter(|it| *it > 0) {
        words.push(format!("{more} more"));
    }
    words.join(", ")
}

/// How the last one of those who were denied could be admitted, or be turned away for good.
fn advice(report: &Report) -> Vec<String> {
    let denied = report.callers.iter().find(|it| it.admit.is_some() || it.turn_away.is_some());
    let Some(row) = denied else { return Vec::new() };
    let (who, wanted) = (row.who.as_deref().unwrap_or_default(), names(&row.traffic));
    let mut notes = Vec::new();
    if let Some(command) = &row.admit {
        notes.push(format!("To admit exactly {wanted} for {who}:"));
        notes.push(format!("  {}", clean(command)));
    }
    if let Some(command) = &row.turn_away {
        notes.push(format!("To turn {who} away for good, whatever it wants:"));
        notes.push(format!("  {}", clean(command)));
    }
    notes
}

fn kept(report: &Report) -> String {
    let keeps = Span { seconds: report.keeps_seconds };
    let whom = if report.admitted_too {
        "all who came"
    } else {
        "those who were not admitted (`record = \"all\"` in the host's section has it remember all)"
    };
    format!(
        "The kernel remembers {whom} for {keeps} after they came last: {} of at most {} entries.",
        grouped(report.entries as u64),
        grouped(report.room as u64)
    )
}

/// Who came, for spreadsheets.
pub fn callers_sheet(report: &Report) -> String {
    let mut sheet = csv::Writer::from_writer(Vec::new());
    let titles = [
        "direction",
        "who",
        "senders",
        "places",
        "traffic",
        "service",
        "fared",
        "by",
        "count",
        "first",
        "last",
    ];
    // Writing to memory cannot fail.
    let _ = sheet.write_record(titles);
    for row in &report.callers {
        let word = |it: Option<&str>| it.unwrap_or_default().to_owned();
        let fields = [
            row.direction.map(|it| it.to_string()).unwrap_or_default(),
            word(row.who.as_deref()),
            row.senders.to_string(),
            row.places.join("; "),
            row.traffic.join("; "),
            word(row.service.as_deref()),
            row.fared.map(|it| it.to_string()).unwrap_or_default(),
            row.by.join("; "),
            row.count.to_string(),
            word(row.first.as_deref()),
            row.last.clone(),
        ];
        let _ = sheet.write_record(fields.map(|it| harmless(&it)));
    }
    String::from_utf8_lossy(&sheet.into_inner().unwrap_or_default()).into_owned()
}

/// What was forgotten.
pub fn cleared(report: &Cleared, _: &Screen) -> String {
    format!("forgotten: {}\n", counted(report.forgotten as u64, "entry", "entries"))
}

/// What was written down.
pub fn saved(report: &Saved, _: &Screen) -> String {
    format!("written down: {}\n", counted(report.saved as u64, "entry", "entries"))
}

fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}
