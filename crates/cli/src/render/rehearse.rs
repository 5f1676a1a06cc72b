//! `rehearse` as text.

use super::posture::host_in;
use super::{Cell, Screen, Style, Table, clean, wrap};
use std::collections::{HashMap, HashSet};
use tipstaff_app::grouped;
use tipstaff_app::rehearse::{Report, Row, Witness};
use tipstaff_app::vocabulary::Tried;

const INDENT: usize = 2;
/// With more lines than this, senders that meet the same share one whatever they are called.
const MOST_LINES: usize = 40;

/// Rows that say the same share a line.
struct Line<'r> {
    rows: Vec<&'r Row>,
}

/// The report as text.
pub fn rehearsed(report: &Report, screen: &Screen) -> String {
    let what = match report.tried {
        Tried::Copy => "a copy of this machine as it stands, tried in a lab",
        _ => "the policy, tried on this kernel in a lab",
    };
    let heading = format!("{}: {what}", host_in(&report.host, report.posture.as_deref()));
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
    if report.not_known > 0 {
        let lead = screen.paint(Style::Mixed, "not known:");
        let line = format!(
            "where rules of others lead {} of them; what those met is told, and held against nothing",
            grouped(report.not_known)
        );
        for line in wrap(&format!("{lead} {line}"), screen.width) {
            text.push_str(&format!("{line}\n"));
        }
    }
    for missing in &report.missing {
        let lead = screen.paint(Style::Mixed, "not copied:");
        text.push_str(&format!("{lead} {}\n", clean(missing)));
    }
    let legend = "What is not named met silence. How it was seen: each packet's fate in the kernel, \
                  behind the last rule; no listener was needed.";
    let owners = "To a program or user: a socket in the lab bore the mark by which rules know it. That \
                  real sockets get that mark is not part of a rehearsal.";
    let owned = report.rows.iter().any(|it| owner(it).is_some());
    let legends = [Some(legend), owned.then_some(owners)].into_iter().flatten();
    for line in legends.flat_map(|it| wrap(it, screen.width)) {
        text.push_str(&format!("{}\n", screen.paint(Style::Faint, &line)));
    }
    text
}

fn table(report: &Report, screen: &Screen) -> String {
    let mut lines = lines(report, true);
    if lines.len() > MOST_LINES {
        lines = self::lines(report, false);
    }
    let mut table = Table::new(["from", "coming in", "what it meets"]);
    for line in &lines {
        let mut from = Cell::default();
        for name in some(line.rows.iter().map(|row| row.from.clone())) {
            from = from.line(name, Style::Strong);
        }
        if let Some(owner) = owner(line.rows[0]) {
            from = from.line(format!("to {}", clean(&owner)), Style::Plain);
        }
        // A single address goes by itself.
        let sources = line.rows.iter().map(|row| (&row.from, row.source.to_string()));
        let sources = sources.filter(|(name, source)| *name != source).map(|it| it.1);
        for source in some(sources) {
            from = from.line(source, Style::Faint);
        }
        table.row(vec![from, ways(line), fate(line.rows[0])]);
    }
    table.render(screen)
}

/// Whose socket listened, if anybody's.
fn owner(row: &Row) -> Option<String> {
    let program = row.program.as_deref().map(|it| it.rsplit('/').next().unwrap_or(it));
    match (program, &row.user) {
        (None, None) => None,
        (Some(program), None) => Some(program.to_owned()),
        (None, Some(user)) => Some(format!("a socket of {user}")),
        (Some(program), Some(user)) => Some(format!("{program} by {user}")),
    }
}

/// What is different among some words, but not all of very many.
fn some(words: impl Iterator<Item = String>) -> Vec<String> {
    const SHOWN: usize = 6;
    let mut seen = HashSet::new();
    let mut words: Vec<String> = words.filter(|word| seen.insert(word.clone())).collect();
    if words.len() > SHOWN + 1 {
        let more = words.len() - SHOWN;
        words.truncate(SHOWN);
        words.push(format!("and {} more", grouped(more as u64)));
    }
    words
}

/// Puts together those who meet the same; by name, or whatever they are called.
fn lines(report: &Report, by_name: bool) -> Vec<Line<'_>> {
    let mut lines: Vec<Line<'_>> = Vec::new();
    let mut places: HashMap<(&str, Option<String>, [&str; 6]), usize> = HashMap::new();
    for row in report.rows.iter().filter(|row| row.is_usual()) {
        let name = if by_name { row.from.as_str() } else { row.version.as_str() };
        let key = (name, owner(row), row.fates());
        let place = *places.entry(key).or_insert_with(|| {
            lines.push(Line { rows: Vec::new() });
            lines.len() - 1
        });
        lines[place].rows.push(row);
    }
    lines
}

/// What else is open to packets that come from certain ports.
fn other_ports(report: &Report) -> Vec<String> {
    let mut lines: Vec<(u16, Vec<String>, Vec<String>)> = Vec::new();
    let ends = |row: &'_ Row| (row.source, row.destination, row.interface.clone());
    let plain = |it: &&Row| it.is_usual() && owner(it).is_none();
    let usual: HashMap<_, &Row> =
        report.rows.iter().filter(plain).map(|it| (ends(it), it)).collect();
    for row in report.rows.iter().filter(|row| !row.is_usual()) {
        let main = usual.get(&ends(row));
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
        let (more, from) = (more.join(", "), some(from.into_iter()).join(", "));
        clean(&format!("also open to what comes from port {port}: {more} (from {from})"))
    };
    lines.into_iter().map(words).collect()
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
        packet.way(),
        decided_by.name,
    );
    let lines = wrap(&clean(&line), screen.width.saturating_sub(2));
    lines.iter().map(|line| format!("  {line}\n")).collect()
}
