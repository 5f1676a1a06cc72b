//! `show` as text.

use super::posture::host_in;
use super::{Cell, Screen, Style, Table, clean, place, wrap};
use tipstaff_app::show::{Line, Meaning, Report};
use tipstaff_app::vocabulary::{Origin, Verdict};

/// The report as text.
pub fn show(report: &Report, screen: &Screen) -> String {
    let labels = match &report.labels[..] {
        [] => String::new(),
        labels => format!(" ({})", labels.join(", ")),
    };
    let heading = format!(
        "{}{labels}: the decision list of {}",
        host_in(&report.host, report.posture.as_deref()),
        clean(&report.policy)
    );
    let reading = "In each direction the first line that matches a packet decides.";
    let mut text = format!(
        "{}\n{}\n",
        screen.paint(Style::Strong, &heading),
        wrap(reading, screen.width).join("\n")
    );
    for direction in &report.directions {
        text.push_str(&format!(
            "\n{}\n",
            screen.paint(Style::Strong, direction.direction.as_str())
        ));
        // An empty column would only take room.
        let to = direction.decisions.iter().any(|line| line.to != "anywhere");
        let mut titles = vec!["name", "verdict", "traffic", "from"];
        titles.extend(to.then_some("to"));
        titles.push("written at");
        let mut table = Table::new(titles);
        for line in &direction.decisions {
            table.row(row(line, to));
        }
        text.push_str(&table.render(screen));
    }
    text
}

fn row(line: &Line, to: bool) -> Vec<Cell> {
    let style = if line.kind == Origin::Rule { Style::Strong } else { Style::Plain };
    let mut cells =
        vec![Cell::new(&line.name, style), verdict(line), traffic(line), Cell::plain(&line.from)];
    cells.extend(to.then(|| Cell::plain(&line.to)));
    cells.push(Cell::new(place(line.origin.as_ref()), Style::Faint));
    cells
}

/// What it is about, and what its ports are for.
fn traffic(line: &Line) -> Cell {
    const TOLD: usize = 6;
    // Of a single port it goes without saying which one.
    let only = |it: &Meaning| line.traffic.split(' ').next() == Some(it.traffic.as_str());
    let words = line.meanings.iter().map(|it| match only(it) {
        true => it.meaning.clone(),
        false => format!("{}: {}", it.traffic, it.meaning),
    });
    let mut cell = Cell::plain(&line.traffic);
    let told = if line.meanings.len() > TOLD + 1 { TOLD } else { line.meanings.len() };
    for word in words.take(told) {
        cell = cell.line(word, Style::Faint);
    }
    match line.meanings.len() - told {
        0 => cell,
        more => cell.line(format!("and {more} more"), Style::Faint),
    }
}

fn verdict(line: &Line) -> Cell {
    if line.paused || line.ended {
        let why = if line.paused { "paused" } else { "ended" };
        return Cell::new(format!("{why} ({})", line.verdict), Style::Faint);
    }
    let mut text = line.verdict.to_string();
    if let Some(rate) = &line.rate {
        text.push_str(&format!(" {rate}"));
    }
    if let Some(until) = &line.until {
        text.push_str(&format!(", until {until}"));
    }
    match line.log.as_deref() {
        None => {}
        Some("all") => text.push_str(", logged"),
        Some(cap) => text.push_str(&format!(", logged {cap}")),
    }
    let limited = line.rate.is_some() || line.until.is_some();
    Cell::new(text, if limited { Style::Mixed } else { verdict_style(line.verdict) })
}

/// The style of a verdict's word.
pub fn verdict_style(verdict: Verdict) -> Style {
    match verdict {
        Verdict::Allow => Style::Good,
        Verdict::Deny => Style::Closed,
        Verdict::Reject => Style::Mixed,
    }
}
