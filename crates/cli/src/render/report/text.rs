//! The report on a terminal: the matrix, and what there is to worry about.

use super::short;
use crate::render::posture::host_in;
use crate::render::{Cell, Screen, Style, Table, came, clean, meant, wrap};
use tipstaff_app::report::{Cell as Met, Report, Row};
use tipstaff_app::vocabulary::{Reach, Severity};

/// The report as text.
pub fn reported(report: &Report, screen: &Screen) -> String {
    let heading = format!(
        "{}: what can be reached, from where",
        host_in(&report.host, report.posture.as_deref())
    );
    let mut text = format!("{}\n\n", screen.paint(Style::Strong, &heading));
    let programs = report.matrix.rows.iter().any(|row| row.programs.is_some());
    let came = report.matrix.came_within_seconds.is_some();
    let titles = ["port"].into_iter().chain(programs.then_some("program"));
    let titles = titles.chain(came.then_some("came"));
    let places = report.matrix.places.iter().map(String::as_str);
    let mut table = Table::new(titles.chain(places));
    for row in &report.matrix.rows {
        let mut cells = vec![meant(Cell::new(&row.what, Style::Strong), &row.meanings)];
        cells.extend(programs.then(|| listener(row)));
        cells.extend(came.then(|| came::bars(row.came.as_ref())));
        cells.extend(row.cells.iter().map(met));
        table.row(cells);
    }
    text.push_str(&table.render(screen));
    text.push('\n');
    let mut paragraph = |lead: &str, words: &str, style: Style| {
        for line in wrap(&format!("{lead}{}", clean(words)), screen.width) {
            text.push_str(&format!("{}\n", screen.paint(style, &line)));
        }
    };
    if let Some(note) = came::note_of_bars(report.matrix.came_within_seconds) {
        paragraph("", &note, Style::Faint);
    }
    for checked in &report.checked {
        paragraph("", checked, Style::Faint);
    }
    for unknown in &report.unknown {
        paragraph("not known: ", unknown, Style::Mixed);
    }
    for disagreement in &report.disagreements {
        paragraph("! ", disagreement, Style::Wrong);
    }
    let open: Vec<_> = report.findings.iter().filter(|it| it.accepted.is_none()).collect();
    let count = |severity: Severity| open.iter().filter(|it| it.severity == severity).count();
    let (errors, warnings, notes) =
        (count(Severity::Error), count(Severity::Warning), count(Severity::Note));
    if !open.is_empty() {
        let several = |count: usize, word: &str| match count {
            0 => None,
            1 => Some(format!("1 {word}")),
            count => Some(format!("{count} {word}s")),
        };
        let counts =
            [several(errors, "error"), several(warnings, "warning"), several(notes, "note")];
        let counts: Vec<String> = counts.into_iter().flatten().collect();
        let counts = counts.join(", ");
        let words = format!("{counts}: see tipstaff review, or the page (--format html).");
        let style = if errors + warnings > 0 { Style::Mixed } else { Style::Plain };
        paragraph("", &words, style);
    }
    text
}

fn listener(row: &Row) -> Cell {
    match row.programs.as_deref() {
        None => Cell::default(),
        Some([]) => Cell::new("nobody listens", Style::Mixed),
        Some(programs) => {
            let names = programs.iter().map(|it| short(it));
            Cell::plain(names.collect::<Vec<_>>().join(", "))
        }
    }
}

fn met(met: &Met) -> Cell {
    let style = match met.word {
        _ if met.agree == Some(false) => Style::Wrong,
        Reach::Open => Style::Good,
        Reach::Silence | Reach::Nobody => Style::Closed,
        _ => Style::Mixed,
    };
    let mark = if met.agree == Some(false) { "! " } else { "" };
    let mut cell = Cell::new(format!("{mark}{}", met.word), style);
    for part in &met.parts {
        cell = cell.line(part, Style::Faint);
    }
    cell
}
