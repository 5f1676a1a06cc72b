//! `enforce` and `release` as text: one line that says what changed.

use super::{Screen, Style, clean};
use crate::app::enforce::{Released, Report};

/// What `enforce` changed.
pub fn enforced(report: &Report, screen: &Screen) -> String {
    let host = clean(&report.host);
    let mut parts = Vec::new();
    match &report.replaced {
        None => parts.push("no rules of ours were in force before".to_owned()),
        Some(other) if *other != report.host => {
            parts.push(format!("in place of the rules of {}", clean(other)));
        }
        Some(_) => {
            for (word, names) in
                [("new", &report.new), ("changed", &report.changed), ("gone", &report.gone)]
            {
                if !names.is_empty() {
                    parts.push(format!("{word}: {}", clean(&names.join(", "))));
                }
            }
            if parts.is_empty() {
                parts.push("nothing changed".into());
            }
        }
    }
    let rules = match report.rules {
        1 => "1 rule".to_owned(),
        count => format!("{count} rules"),
    };
    let paused = match report.paused {
        0 => String::new(),
        count => format!(", {count} paused"),
    };
    let ended = match report.ended.len() {
        0 => String::new(),
        count => format!(", {count} ended and left out ({})", clean(&report.ended.join(", "))),
    };
    let lead = screen.paint(Style::Good, "enforced");
    format!("{lead} {host}: {rules}{paused}{ended}; {}\n", parts.join("; "))
}

/// What `release` changed.
pub fn released(report: &Released, screen: &Screen) -> String {
    if !report.released {
        return "nothing to release: no rules of ours are in the kernel\n".into();
    }
    let host = clean(report.host.as_deref().unwrap_or_default());
    let lead = screen.paint(Style::Mixed, "released");
    format!("{lead} {host}: our rules are out of the kernel and stop nothing any more\n")
}
