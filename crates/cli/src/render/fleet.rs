//! What was sealed, whether it would be taken, and what it changes, as text.

use super::{Screen, Style, clean, effects, wrap};
use tipstaff_app::fleet::{Compared, Sealed, Verified};
use tipstaff_app::grouped;

/// So many hosts are named; the rest are counted.
const NAMED: usize = 12;

/// What was sealed.
pub fn sealed(report: &Sealed, screen: &Screen) -> String {
    let statement = &report.statement;
    let done = if report.dry { "would seal" } else { "sealed" };
    let heading = format!(
        "{done} number {} of the fleet {}, for {}",
        statement.sequence,
        clean(&statement.fleet),
        count(statement.hosts.len(), "host")
    );
    let mut text = format!("{}\n\n", screen.paint(Style::Strong, &heading));
    let mut line = |name: &str, value: &str| {
        text.push_str(&format!("  {name:<9} {}\n", clean(value)));
    };
    line("where", &report.place);
    if let (Some(sha256), Some(bytes)) = (&report.sha256, report.bytes) {
        line("sha256", sha256);
        line("size", &format!("{} bytes", grouped(bytes as u64)));
    }
    line("signed by", &report.key);
    if let Some(expires) = &statement.expires {
        line("until", expires);
    }
    line(
        "revision",
        statement.revision.as_deref().unwrap_or("none: the policy is not as committed"),
    );
    text.push('\n');
    match &report.changes {
        Some(changes) => text.push_str(&compared(changes, screen)),
        None => text.push_str("no bundle before it counts that it could be compared with\n"),
    }
    for remark in &report.remarks {
        text.push_str(&format!("\n{}\n", wrap(&clean(remark), screen.width).join("\n")));
    }
    text
}

/// Whether it would be taken.
pub fn verified(report: &Verified, screen: &Screen) -> String {
    let file = clean(&report.file);
    let mut text = match &report.refused {
        None => format!("{} {file}\n\n", screen.paint(Style::Good, "accepted:")),
        Some(refused) => {
            let lead = screen.paint(Style::Wrong, "refused:");
            let why = format!("{lead} {file}: {}", clean(&refused.why));
            format!("{}\n\n", wrap(&why, screen.width).join("\n"))
        }
    };
    let mut line = |name: &str, value: &str| {
        text.push_str(&format!("  {name:<9} {}\n", clean(value)));
    };
    line("sha256", &report.sha256);
    if let Some(statement) = &report.statement {
        line("fleet", &statement.fleet);
        line("number", &statement.sequence.to_string());
        line("sealed", &statement.sealed);
        line("until", statement.expires.as_deref().unwrap_or("for ever"));
        line("revision", statement.revision.as_deref().unwrap_or("none is stated"));
        line("hosts", &hosts(&statement.hosts));
    }
    match (&report.signer, &report.key) {
        (Some(signer), Some(key)) => line("signed by", &format!("{signer} ({key})")),
        (None, Some(key)) => line("key", key),
        _ => {}
    }
    line("seen", &report.seen.map_or("none of this fleet yet".into(), |it| format!("number {it}")));
    text
}

/// What changes for whom.
pub fn compared(report: &Compared, screen: &Screen) -> String {
    let heading = format!("from {} to {}", clean(&report.first), clean(&report.second));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    if report.equal {
        let same = count(report.same.len(), "host");
        text.push_str(&format!("\nno difference on {same}: every packet fares the same\n"));
        return text;
    }
    for alike in &report.changed {
        let who = format!("on {}", named(&alike.hosts));
        text.push_str(&format!("\n{}\n", wrap(&who, screen.width).join("\n")));
        text.push_str(&effects(&alike.found, screen));
    }
    for (list, what) in [
        (&report.came, "only in the second"),
        (&report.went, "only in the first"),
        (&report.same, "nothing changes on"),
    ] {
        if !list.is_empty() {
            let line = format!("{what}: {}", named(list));
            text.push_str(&format!("\n{}\n", wrap(&line, screen.width).join("\n")));
        }
    }
    text
}

/// How many hosts, and their names.
pub(super) fn named(names: &[String]) -> String {
    match names {
        [one] => clean(one),
        _ => format!("{} ({})", count(names.len(), "host"), hosts(names)),
    }
}

/// The names of hosts, as far as they are wanted.
fn hosts(names: &[String]) -> String {
    let mut told: Vec<String> = names.iter().take(NAMED).map(|it| clean(it)).collect();
    if names.len() > NAMED {
        told.push(format!("and {} more", grouped((names.len() - NAMED) as u64)));
    }
    told.join(", ")
}

fn count(number: usize, what: &str) -> String {
    let plural = if number == 1 { "" } else { "s" };
    format!("{} {what}{plural}", grouped(number as u64))
}
