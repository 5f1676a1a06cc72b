//! Changes of the policy as text, and what is in it.

use super::review::finding;
use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, changes, clean, place, regions};
use tipstaff_app::edit::{Note, Report};
use tipstaff_app::listing::{NameList, RuleList};
use tipstaff_app::vocabulary::Idle;

/// More changed lines than this are not shown.
const LINES: usize = 60;

/// What a change did.
pub fn edited(report: &Report, screen: &Screen) -> String {
    let (lead, style) = match (report.written, report.lines.is_empty()) {
        (_, true) => ("unchanged", Style::Mixed),
        (true, false) => ("written", Style::Good),
        (false, false) => ("not written", Style::Mixed),
    };
    let mut text =
        format!("{} {}: {}\n", screen.paint(style, lead), clean(&report.file), clean(&report.done));
    for host in &report.hosts {
        text.push_str(&format!("\n{}\n", screen.paint(Style::Strong, &clean(&host.host))));
        text.push_str(&changes(&host.changes, screen));
    }
    if let Some(why) = &report.nothing {
        text.push_str(&format!("\n{}\n", clean(why)));
    }
    // Why nothing changes has been said already.
    for note in report.notes.iter().filter(|_| report.nothing.is_none()) {
        text.push_str(&self::note(note));
    }
    for broken in &report.broken {
        text.push_str(&format!("\nThis breaks an expectation:\n{}", finding(broken, screen)));
    }
    if !report.written && !report.lines.is_empty() {
        text.push_str("\nThe lines that would change:\n");
        text.push_str(&lines(report, screen));
    }
    text
}

fn note(note: &Note) -> String {
    let what = match note.kind {
        Idle::DecidedAbove => format!("`{}` above it decides {} for", note.by, note.verdict),
        Idle::AlreadySo => format!("`{}` decided {} before already for", note.by, note.verdict),
    };
    format!("\n{}\n{}", clean(&what), regions(&note.regions, "  "))
}

fn lines(report: &Report, screen: &Screen) -> String {
    let mut text = String::new();
    for line in report.lines.iter().take(LINES) {
        let (mark, style) = if line.comes { ("+", Style::Good) } else { ("-", Style::Closed) };
        let line = format!("{mark} {:>5}  {}", line.number, clean(&line.text));
        text.push_str(&format!("{}\n", screen.paint(style, &line)));
    }
    if report.lines.len() > LINES {
        text.push_str(&format!("... and {} more lines\n", report.lines.len() - LINES));
    }
    text
}

/// The rules of a host.
pub fn rules(report: &RuleList, screen: &Screen) -> String {
    let mut table =
        Table::new(["name", "verdict", "traffic", "from", "to", "direction", "written at"]);
    for rule in &report.rules {
        let verdict = if rule.paused {
            Cell::new(format!("paused ({})", rule.verdict), Style::Faint)
        } else {
            Cell::new(rule.verdict, verdict_style(rule.verdict))
        };
        let or_anywhere =
            |list: &[String]| if list.is_empty() { "anywhere".into() } else { list.join(", ") };
        let mut name = Cell::new(&rule.name, Style::Strong);
        if let Some(bundle) = &rule.bundle {
            name = name.line(format!("of {bundle}"), Style::Faint);
        }
        if let Some(label) = &rule.label {
            name = name.line(format!("by the label {label}"), Style::Faint);
        }
        table.row(vec![
            name,
            verdict,
            Cell::plain(rule.traffic.join(", ")),
            Cell::plain(or_anywhere(&rule.from)),
            Cell::plain(or_anywhere(&rule.to)),
            Cell::plain(rule.direction),
            Cell::new(place(Some(&rule.origin)), Style::Faint),
        ]);
    }
    let heading = format!("{}: the rules, in order", clean(&report.host));
    format!("{}\n{}", screen.paint(Style::Strong, &heading), table.render(screen))
}

/// Places or services.
pub fn names(report: &NameList, screen: &Screen) -> String {
    if report.names.is_empty() {
        return format!("no {}s\n", report.what);
    }
    let mut table = Table::new(["name", "stands for", "used", "why", "written at"]).numbers(&[2]);
    for name in &report.names {
        let mut holds = Cell::plain(&name.holds);
        let described = name
            .ports
            .iter()
            .filter_map(|it| Some((&it.term, it.meaning.as_ref()?)))
            .filter(|it| !it.1.is_empty());
        for (term, meaning) in described {
            holds = holds.line(format!("{term}: {meaning}"), Style::Faint);
        }
        table.row(vec![
            Cell::new(&name.name, Style::Strong),
            holds,
            Cell::plain(name.uses.to_string()),
            Cell::plain(name.why.as_deref().unwrap_or_default()),
            Cell::new(place(name.origin.as_ref()), Style::Faint),
        ]);
    }
    table.render(screen)
}
