//! Changes of the policy as text, and what is in it.

use super::review::finding;
use super::{Screen, Style, changes, clean, regions};
use tipstaff_app::edit::{HostEffect, Line, Note, Report};
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
    let files = [&report.file].into_iter().chain(report.others.iter().map(|it| &it.file));
    let files: Vec<String> = files.map(|it| clean(it)).collect();
    let mut text =
        format!("{} {}: {}\n", screen.paint(style, lead), files.join(", "), clean(&report.done));
    text.push_str(&on_hosts(&report.hosts, screen));
    if let Some(why) = &report.nothing {
        text.push_str(&format!("\n{}\n", clean(why)));
    }
    // Why nothing changes has been said already.
    for note in report.notes.iter().filter(|_| report.nothing.is_none()) {
        text.push_str(&self::note(note));
    }
    for place in &report.unread {
        text.push_str(&clean(&format!(
            "\nWhat `{place}` holds is not known yet; this is told as if it held nothing. `tipstaff place refresh \
             {place}` reads its files."
        )));
        text.push('\n');
    }
    for broken in &report.broken {
        let lead = match report.hosts.is_empty() {
            true => "This does not hold",
            false => "This breaks an expectation",
        };
        text.push_str(&format!("\n{lead}:\n{}", finding(broken, screen)));
    }
    if !report.written && !report.lines.is_empty() {
        text.push_str("\nThe lines that would change:\n");
        text.push_str(&lines(&report.lines, screen));
        for other in &report.others {
            text.push_str(&format!("in {}:\n{}", clean(&other.file), lines(&other.lines, screen)));
        }
    }
    text
}

/// What changes on each host, in which posture.
pub(super) fn on_hosts(hosts: &[HostEffect], screen: &Screen) -> String {
    let mut text = String::new();
    for host in hosts {
        let lead = super::posture::host_in(&host.host, host.posture.as_deref());
        text.push_str(&format!("\n{}\n", screen.paint(Style::Strong, &lead)));
        text.push_str(&changes(&host.changes, screen));
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

fn lines(lines: &[Line], screen: &Screen) -> String {
    let mut text = String::new();
    for line in lines.iter().take(LINES) {
        let (mark, style) = if line.comes { ("+", Style::Good) } else { ("-", Style::Closed) };
        let line = format!("{mark} {:>5}  {}", line.number, clean(&line.text));
        text.push_str(&format!("{}\n", screen.paint(style, &line)));
    }
    if lines.len() > LINES {
        text.push_str(&format!("... and {} more lines\n", lines.len() - LINES));
    }
    text
}
