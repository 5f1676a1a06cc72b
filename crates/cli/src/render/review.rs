//! `review` as text.

use super::posture::host_in;
use super::{Screen, Style, clean, place, wrap};
use std::collections::HashMap;
use tipstaff_app::Finding;
use tipstaff_app::PacketWords;
use tipstaff_app::review::{Explanation, Report};
use tipstaff_app::vocabulary::Severity;

/// The findings.
pub fn review(report: &Report, screen: &Screen) -> String {
    let live = if report.live { " and of what listens here" } else { "" };
    let heading =
        format!("{}: review of the policy{live}", host_in(&report.host, report.posture.as_deref()));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    for found in &grouped(&report.findings) {
        text.push('\n');
        text.push_str(&finding(found, screen));
    }
    for unknown in &report.unknown {
        let lead = screen.paint(Style::Mixed, "not known:");
        text.push_str(&format!("\n{lead} {}\n", clean(unknown)));
    }
    let count = |severity: Severity| {
        report.findings.iter().filter(|it| it.severity == severity && it.accepted.is_none()).count()
    };
    let words: Vec<String> = [Severity::Error, Severity::Warning, Severity::Note]
        .into_iter()
        .filter_map(|word| match count(word) {
            0 => None,
            1 => Some(format!("1 {word}")),
            many => Some(format!("{many} {word}s")),
        })
        .collect();
    let accepted = report.findings.iter().filter(|it| it.accepted.is_some()).count();
    let mut summary = if words.is_empty() { "nothing to mend".into() } else { words.join(", ") };
    if accepted > 0 {
        summary.push_str(&format!(", {accepted} accepted"));
    }
    text.push_str(&format!("\n{summary}"));
    if !words.is_empty() {
        text.push_str("; `tipstaff review --explain CODE` says more about one");
    }
    text.push('\n');
    text
}

/// Many rules below one list of those who may not would each have the same note: they share one.
fn grouped(findings: &[Finding]) -> Vec<Finding> {
    let mut list: Vec<Finding> = Vec::new();
    let mut notes: HashMap<_, usize> = HashMap::new();
    for found in findings {
        let what = (found.code.as_str(), &found.message, &found.others);
        let open = found.accepted.is_none();
        match notes.get(&what).filter(|_| open && found.rule.is_some()) {
            Some(&known) => list[known].subject.push_str(&format!(", {}", found.subject)),
            None => {
                if open && found.severity == Severity::Note {
                    notes.entry(what).or_insert(list.len());
                }
                list.push(found.clone());
            }
        }
    }
    list
}

/// One finding.
pub fn finding(found: &Finding, screen: &Screen) -> String {
    let (style, word) = match (&found.accepted, found.severity) {
        (Some(_), _) => (Style::Faint, "accepted"),
        (None, Severity::Error) => (Style::Closed, "error"),
        (None, Severity::Warning) => (Style::Mixed, "warning"),
        (None, Severity::Note) => (Style::Plain, "note"),
    };
    let posture = match &found.posture {
        Some(posture) => format!(" in posture {}", clean(posture)),
        None => String::new(),
    };
    let mut text = format!(
        "{} {} {}{posture}  {}\n",
        screen.paint(style, word),
        screen.paint(Style::Strong, &clean(&found.subject)),
        found.code,
        screen.paint(
            Style::Faint,
            &clean(&found.origin.as_ref().map_or_else(String::new, |it| place(Some(it))))
        )
    );
    let mut line = |words: &str| {
        for part in wrap(&clean(words), screen.width.saturating_sub(4)) {
            text.push_str(&format!("    {part}\n"));
        }
    };
    line(&found.message);
    if let Some(packet) = &found.witness {
        line(&format!("for example: {}", example(packet)));
    }
    if let Some(reason) = &found.accepted {
        line(&format!("accepted: {reason}"));
    } else if let Some(mend) = &found.mend {
        line(&format!("to mend it: {mend}"));
    }
    text
}

/// A packet in a line.
fn example(packet: &PacketWords) -> String {
    let program = packet.program.iter().map(|program| format!(" of {program}"));
    let user = packet.user.iter().map(|user| format!(" by {user}"));
    format!(
        "{} {} from {} to {}{}{}",
        packet.direction,
        packet.traffic(),
        packet.source,
        packet.destination,
        packet.way(),
        program.chain(user).collect::<String>()
    )
}

/// What a kind of finding means.
pub fn explanation(report: &Explanation, screen: &Screen) -> String {
    let lines = wrap(report.meaning, screen.width.min(80));
    format!("{}\n{}\n", screen.paint(Style::Strong, report.code.as_str()), lines.join("\n"))
}
