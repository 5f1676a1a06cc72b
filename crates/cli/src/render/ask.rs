//! `ask` as text.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, clean, place};
use tipstaff_app::ask::{Open, PathStep, Report};
use tipstaff_app::vocabulary::Verdict;

/// The report as text.
pub fn ask(report: &Report, screen: &Screen) -> String {
    // As it comes; what it is where it is led is told behind that.
    let packet = report.led.as_ref().map_or(&report.packet, |it| &it.packet);
    let owned = |what: &str, name: &Option<String>| {
        name.as_ref().map(|it| format!(" ({what} {})", clean(it))).unwrap_or_default()
    };
    let (program, user) = (owned("program", &packet.program), owned("user", &packet.user));
    let heading = format!(
        "{}: {} {} from {} to {}{}{program}{user}",
        clean(&report.host),
        packet.direction,
        packet.traffic(),
        packet.source,
        packet.destination,
        clean(&packet.way()),
    );
    if !report.answers.is_empty() {
        return format!("{}\n\n{}", screen.paint(Style::Strong, &heading), answers(report, screen));
    }
    let led = report.led.as_ref().map_or_else(String::new, |it| {
        let there = &report.packet;
        format!(
            "  led to {} by table {}, before anything is decided here; there it is {}{}\n",
            it.to,
            clean(&it.by),
            there.direction,
            clean(&there.interfaces())
        )
    });
    let decided = &report.decided_by;
    let origin = decided.origin.as_ref().map_or_else(|| "built in".into(), ToString::to_string);
    let mut text = format!(
        "{}\n\n{led}  {}  by {} ({})\n  {}\n\n",
        screen.paint(Style::Strong, &heading),
        screen.paint(verdict_style(report.verdict), report.verdict.as_str()),
        screen.paint(Style::Strong, &clean(&decided.name)),
        clean(&origin),
        consequence(report)
    );
    if packet.in_interface.as_deref() == Some("lo") {
        text.push_str(
            "  From the host itself everything can be reached; that says nothing about others.\n\n",
        );
    }
    text.push_str("The path of the decision:\n");
    let mut table = Table::new(["", "name", "verdict", "why not this one", "written at"]);
    for step in &report.path {
        table.row(row(step));
    }
    text.push_str(&table.render(screen));
    text
}

/// Every answer, and what would make it one.
fn answers(report: &Report, screen: &Screen) -> String {
    let word = |open: &Open| match open {
        Open::Ingress => "--ingress",
        Open::Egress => "--egress",
        Open::Program => "--program",
        Open::User => "--user",
        Open::SourcePort => "--source-port",
        Open::Published => "--published",
        Open::Link => "whether it is on a link of the host",
    };
    let words: Vec<&str> = report.depends_on.iter().map(word).collect();
    let mut text = format!("It depends on what is left open: {}.\n\n", words.join(", "));
    let mut table = Table::new(["verdict", "by", "when", "written at"]);
    for answer in &report.answers {
        let limited = if answer.limited { " (limited)" } else { "" };
        let when: Vec<&str> = answer.when.iter().map(String::as_str).collect();
        table.row(vec![
            Cell::new(format!("{}{limited}", answer.verdict), verdict_style(answer.verdict)),
            Cell::new(&answer.decided_by.name, Style::Strong),
            Cell::plain(when.join("; or ")),
            Cell::new(place(answer.decided_by.origin.as_ref()), Style::Faint),
        ]);
    }
    text.push_str(&table.render(screen));
    text
}

fn consequence(report: &Report) -> &'static str {
    match (report.verdict, report.limited, report.answered) {
        (Verdict::Allow, false, _) => "It passes, and so do the replies to it.",
        (Verdict::Allow, true, _) => {
            "It passes while the rate is kept; beyond it, it meets silence."
        }
        (Verdict::Deny, ..) => "The sender hears nothing.",
        (_, _, true) => "The sender is told at once: a reset over TCP, otherwise \"prohibited\".",
        (_, _, false) => "The sender hears nothing: packets of this kind are never answered.",
    }
}

fn row(step: &PathStep) -> Vec<Cell> {
    let (mark, name) = if step.takes { ("=>", Style::Strong) } else { ("", Style::Plain) };
    vec![
        Cell::new(mark, Style::Strong),
        Cell::new(&step.by.name, name),
        if step.takes {
            Cell::new(step.verdict, verdict_style(step.verdict))
        } else {
            Cell::new(step.verdict, Style::Faint)
        },
        Cell::plain(step.because.as_deref().unwrap_or("decides")),
        Cell::new(place(step.by.origin.as_ref()), Style::Faint),
    ]
}
