//! `reach` as text: listeners down, places across.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, clean};
use crate::app::reach::{Entry, From, Part, Report};

/// The mark of a cell whose witnesses disagree.
const MARK: &str = "!";

/// The report as text.
pub fn reach(report: &Report, screen: &Screen) -> String {
    let heading = format!("{}: what listens, and who can reach it", clean(&report.host));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    if report.listeners.is_empty() {
        text.push_str("  nothing listens here\n");
    } else {
        text.push_str(&matrix(report, screen));
        text.push_str(&legend(report, screen));
    }
    for unknown in &report.unknown {
        let lead = screen.paint(Style::Mixed, "not known:");
        text.push_str(&format!("{lead} {}\n", clean(unknown)));
    }
    text.push_str(&disagreements(report, screen));
    text
}

fn matrix(report: &Report, screen: &Screen) -> String {
    let mut places: Vec<&str> = Vec::new();
    for from in report.listeners.iter().flat_map(|entry| &entry.from) {
        if !places.contains(&from.place.as_str()) {
            places.push(&from.place);
        }
    }
    let mut table = Table::new(["port", "listener"].into_iter().chain(places.iter().copied()));
    for entry in &report.listeners {
        let mut cells = vec![
            Cell::new(format!("{}/{}", entry.port, entry.protocol), Style::Strong),
            listener(entry),
        ];
        cells.extend(places.iter().map(|place| {
            let views: Vec<&From> =
                entry.from.iter().filter(|from| from.place == *place).collect();
            view(&views)
        }));
        table.row(cells);
    }
    table.render(screen)
}

fn listener(entry: &Entry) -> Cell {
    let program = entry.program.as_deref().unwrap_or("(program not known)");
    // Programs are told apart by their file's name; the whole path is in the JSON form.
    let program = program.rsplit('/').next().unwrap_or(program);
    let who = match entry.pid {
        Some(pid) => format!("pid {pid}, {}", entry.user),
        None => entry.user.clone(),
    };
    Cell::new(program, Style::Plain).line(bound(entry), Style::Faint).line(who, Style::Faint)
}

fn bound(entry: &Entry) -> String {
    match (entry.address.as_str(), entry.versions.as_slice()) {
        ("0.0.0.0" | "::", versions) => format!("all {}", versions.join("+")),
        (address, _) => address.to_owned(),
    }
}

/// One cell: a line for both IP versions if they fare alike, otherwise one for each.
fn view(views: &[&From]) -> Cell {
    let [first, rest @ ..] = views else { return Cell::new("-", Style::Faint) };
    if rest.iter().all(|it| alike(it, first)) {
        return one_view(Cell::default(), first, "");
    }
    views.iter().fold(Cell::default(), |cell, from| {
        one_view(cell, from, if from.version == "IPv4" { "v4 " } else { "v6 " })
    })
}

fn alike(a: &From, b: &From) -> bool {
    let parts_alike = a.policy != "partly" && a.observed != Some("partly");
    parts_alike
        && (a.policy, a.kernel, a.observed, a.agree) == (b.policy, b.kernel, b.observed, b.agree)
        && a.decided_by == b.decided_by
}

fn one_view(cell: Cell, from: &From, version: &str) -> Cell {
    if from.policy != "partly" && from.observed != Some("partly") && from.kernel != "partly" {
        let words = words(from.policy, from.kernel, from.observed, from.agree);
        let style = style(from.policy, from.agree);
        let by = from.decided_by.as_ref().map_or("", |by| by.name.as_str());
        return cell.line(format!("{version}{words}"), style).line(by, Style::Faint);
    }
    from.parts.iter().fold(cell, |cell, part| {
        let words = words(part.policy, part.kernel, part.observed, part.agree);
        let style = style(part.policy, part.agree);
        cell.line(format!("{version}{words}"), style).line(whom(part), Style::Faint)
    })
}

/// Which senders a part is about: the networks if they are few.
fn whom(part: &Part) -> String {
    let count = part.senders.split(", ").count();
    let by = &part.decided_by.name;
    if count > 2 { format!("{by}, others") } else { format!("{by}, {}", part.senders) }
}

fn words(policy: &str, kernel: &str, observed: Option<&str>, agree: Option<bool>) -> String {
    let kernel_differs = kernel != policy && kernel != "unknown";
    let mut words = match (agree, kernel_differs) {
        (Some(false), _) => format!("{MARK} {policy}"),
        _ => policy.to_owned(),
    };
    if kernel_differs {
        words.push_str(&format!(", kernel {kernel}"));
    }
    if let Some(observed) = observed {
        words.push_str(&format!(", {observed}"));
    }
    words
}

fn style(policy: &str, agree: Option<bool>) -> Style {
    if agree == Some(false) { Style::Wrong } else { verdict_style(policy) }
}

fn legend(report: &Report, screen: &Screen) -> String {
    let probed = report
        .listeners
        .iter()
        .flat_map(|entry| &entry.from)
        .any(|from| from.observed.is_some());
    let anywhere = "anywhere: everybody who is at none of the other places.";
    let first = if probed {
        "A cell: the policy's verdict, what a real probe met, and below it who decides."
    } else {
        "A cell: the policy's verdict, and below it who decides. No probe was sent: name a \
         vantage with --vantage."
    };
    let mut text = String::new();
    for line in [first, anywhere] {
        text.push_str(&format!("{}\n", screen.paint(Style::Faint, line)));
    }
    text
}

fn disagreements(report: &Report, screen: &Screen) -> String {
    let mut text = String::new();
    let mut count = 0;
    for entry in &report.listeners {
        for from in &entry.from {
            for part in from.parts.iter().filter(|part| part.agree == Some(false)) {
                count += 1;
                text.push_str(&format!(
                    "  {MARK} {}/{} from {} ({}): the policy says {} ({}), the kernel {}{}{}\n",
                    entry.port,
                    entry.protocol,
                    clean(&from.place),
                    from.version,
                    part.policy,
                    clean(&part.decided_by.name),
                    part.kernel,
                    part.kernel_decided_by
                        .as_ref()
                        .map(|by| format!(" ({})", clean(by)))
                        .unwrap_or_default(),
                    part.evidence
                        .as_ref()
                        .zip(part.observed)
                        .map(|(how, what)| format!(", and a probe met {what} ({})", clean(how)))
                        .unwrap_or_default()
                ));
            }
        }
    }
    if count == 0 {
        return text;
    }
    let words = match count {
        1 => "1 disagreement".to_owned(),
        count => format!("{count} disagreements"),
    };
    format!("{} between the witnesses:\n{text}", screen.paint(Style::Wrong, &words))
}
