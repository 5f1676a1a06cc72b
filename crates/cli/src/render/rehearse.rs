//! `rehearse` as text.

use super::{Cell, Screen, Style, Table, clean, wrap};
use crate::app::grouped;
use crate::app::rehearse::{Report, Row, Witness};

const INDENT: usize = 2;

/// Rows that say the same share a line.
struct Line<'r> {
    rows: Vec<&'r Row>,
}

/// The report as text.
pub fn rehearsed(report: &Report, screen: &Screen) -> String {
    let what = match report.tried {
        "copy" => "a copy of this machine as it stands, tried in a lab",
        _ => "the policy, tried on this kernel in a lab",
    };
    let heading = format!("{}: {what}", clean(&report.host));
    let mut text = format!("{}\n\n", screen.paint(Style::Strong, &heading));
    text.push_str(&table(report, screen));
    for line in other_ports(report).iter().flat_map(|line| wrap(line, screen.width - INDENT)) {
        text.push_str(&format!("{}{line}\n", " ".repeat(INDENT)));
    }
    text.push('\n');
    let ports = if report.every_port { "" } else { ", only the ports that rules tell apart" };
    let agree = match report.disagreements {
        0 => "each met what the policy says".to_owned(),
        1 => "1 met something else than the policy says".to_owned(),
        count => format!("{count} met something else than the policy says"),
    };
    let sum =
        format!("{} packets{ports}, in {:.1} s: {agree}.", grouped(report.packets), report.seconds);
    let style = if report.disagreements == 0 { Style::Good } else { Style::Wrong };
    for line in wrap(&sum, screen.width) {
        text.push_str(&format!("{}\n", screen.paint(style, &line)));
    }
    if report.members_left_out > 0 {
        let words = format!(
            "{} more ends of ranges of senders were not tried; narrow it with --from.",
            grouped(report.members_left_out as u64)
        );
        for line in wrap(&words, screen.width) {
            text.push_str(&format!("{}\n", screen.paint(Style::Mixed, &line)));
        }
    }
    for witness in &report.witnesses {
        text.push_str(&differs(witness, screen));
    }
    let more = report.disagreements.saturating_sub(report.witnesses.len() as u64);
    if more > 0 && !report.witnesses.is_empty() {
        text.push_str(&format!("  and {} more\n", grouped(more)));
    }
    for missing in &report.missing {
        let lead = screen.paint(Style::Mixed, "not copied:");
        text.push_str(&format!("{lead} {}\n", clean(missing)));
    }
    let legend = "What is not named met silence. How it was seen: each packet's fate in the kernel, \
                  behind the last rule; no listener was needed.";
    for line in wrap(legend, screen.width) {
        text.push_str(&format!("{}\n", screen.paint(Style::Faint, &line)));
    }
    text
}

fn table(report: &Report, screen: &Screen) -> String {
    let mut lines: Vec<Line<'_>> = Vec::new();
    for row in report.rows.iter().filter(|row| row.is_usual()) {
        match lines.iter_mut().find(|line| alike(line.rows[0], row)) {
            Some(line) => line.rows.push(row),
            None => lines.push(Line { rows: vec![row] }),
        }
    }
    let mut table = Table::new(["from", "coming in", "what it meets"]);
    for line in &lines {
        let first = line.rows[0];
        let mut sources: Vec<String> = Vec::new();
        for row in &line.rows {
            let source = row.source.to_string();
            if !sources.contains(&source) {
                sources.push(source);
            }
        }
        let mut from = Cell::new(&first.from, Style::Strong);
        for source in sources {
            from = from.line(source, Style::Faint);
        }
        table.row(vec![from, ways(line), fate(first)]);
    }
    table.render(screen)
}

/// What else is open to packets that come from certain ports.
fn other_ports(report: &Report) -> Vec<String> {
    let mut lines: Vec<(u16, Vec<String>, Vec<String>)> = Vec::new();
    for row in report.rows.iter().filter(|row| !row.is_usual()) {
        let main = report.rows.iter().find(|it| {
            it.is_usual()
                && (it.source, it.destination, &it.interface)
                    == (row.source, row.destination, &row.interface)
        });
        let known: Vec<&str> = main.map_or(Vec::new(), |it| it.open.split(", ").collect());
        let more: Vec<String> = row
            .open
            .split(", ")
            .filter(|it| !it.is_empty() && !known.contains(it))
            .map(str::to_owned)
            .collect();
        if more.is_empty() {
            continue;
        }
        match lines.iter_mut().find(|it| it.0 == row.source_port && it.1 == more) {
            Some(line) if line.2.contains(&row.from) => {}
            Some(line) => line.2.push(row.from.clone()),
            None => lines.push((row.source_port, more, vec![row.from.clone()])),
        }
    }
    let words = |(port, more, from): (u16, Vec<String>, Vec<String>)| {
        let (more, from) = (more.join(", "), from.join(", "));
        clean(&format!("also open to what comes from port {port}: {more} (from {from})"))
    };
    lines.into_iter().map(words).collect()
}

fn alike(a: &Row, b: &Row) -> bool {
    let all = |row: &Row| {
        let Row { from, open, closed, limited, rejected, passed_on, stopped_early, .. } = row;
        [from, open, closed, limited, rejected, passed_on, stopped_early].map(Clone::clone)
    };
    all(a) == all(b)
}

/// By which interfaces, to which addresses.
fn ways(line: &Line<'_>) -> Cell {
    let mut ways: Vec<(&str, Vec<String>)> = Vec::new();
    for row in &line.rows {
        let to = row.destination.to_string();
        match ways.iter_mut().find(|way| way.0 == row.interface) {
            Some(way) if way.1.contains(&to) => {}
            Some(way) => way.1.push(to),
            None => ways.push((&row.interface, vec![to])),
        }
    }
    let same = ways.iter().all(|way| way.1 == ways[0].1);
    if same {
        let names: Vec<&str> = ways.iter().map(|way| way.0).collect();
        let mut cell = Cell::plain(format!("by {}", names.join(", ")));
        for to in &ways[0].1 {
            cell = cell.line(format!("to {to}"), Style::Faint);
        }
        return cell;
    }
    let mut cell = Cell::default();
    for (name, to) in ways {
        cell = cell.line(format!("by {name} to {}", to.join(", ")), Style::Plain);
    }
    cell
}

fn fate(row: &Row) -> Cell {
    let mut cell = Cell::default();
    for (word, traffic, style) in [
        ("open", &row.open, Style::Good),
        ("open up to a rate", &row.limited, Style::Mixed),
        ("closed, nobody listens", &row.closed, Style::Mixed),
        ("refused with an answer", &row.rejected, Style::Mixed),
        ("passed on", &row.passed_on, Style::Mixed),
        ("stopped before any inbound rule", &row.stopped_early, Style::Closed),
    ] {
        if !traffic.is_empty() {
            cell = cell.line(format!("{word}: {traffic}"), style);
        }
    }
    match cell {
        cell if row.nothing() => cell.line("silence", Style::Closed),
        cell => cell,
    }
}

fn differs(witness: &Witness, screen: &Screen) -> String {
    let Witness { packet, policy, decided_by, met } = witness;
    let line = format!(
        "! {} from {} to {}{}: the policy says {policy} ({}), it was {met}",
        packet.traffic(),
        packet.source,
        packet.destination,
        packet.in_interface.as_ref().map(|it| format!(" by {it}")).unwrap_or_default(),
        decided_by.name,
    );
    let lines = wrap(&clean(&line), screen.width.saturating_sub(2));
    lines.iter().map(|line| format!("  {line}\n")).collect()
}
