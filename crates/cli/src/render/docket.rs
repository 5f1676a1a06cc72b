//! The docket as text.

use super::{Cell, Screen, Style, Table, clean};
use tipstaff_app::docket::{List, Mended, Shown};
use tipstaff_app::store::{Entry, Kind, State};

/// All entries, newest first.
pub fn docket(list: &List, screen: &Screen) -> String {
    if list.entries.is_empty() {
        let nothing = format!("nothing was enforced yet, by {}\n", clean(&list.state));
        return nothing + &lost(list, screen);
    }
    let mut table = Table::new(["entry", "when", "what", "by", "effect", "became"]).numbers(&[0]);
    for entry in list.entries.iter().rev() {
        let (word, style) = became(entry.state);
        table.row(vec![
            Cell::plain(entry.id.to_string()),
            Cell::plain(&entry.time),
            Cell::plain(what(entry)),
            Cell::plain(by(entry)),
            Cell::plain(&entry.effect),
            Cell::new(word, style),
        ]);
    }
    let mut text = table.render(screen);
    text.push_str(&lost(list, screen));
    if let Some(id) = list.pending {
        text.push_str(&format!(
            "\nentry {id} goes back by itself unless `tipstaff confirm` comes\n"
        ));
    }
    text
}

/// Lines that cannot be read.
fn lost(list: &List, screen: &Screen) -> String {
    if list.lost.is_empty() {
        return String::new();
    }
    let lead = screen.paint(Style::Wrong, "damaged:");
    let lines: Vec<String> =
        list.lost.iter().map(|it| format!("line {} {}", it.line, it.why)).collect();
    format!("\n{lead} {}; `tipstaff docket mend` keeps the rest\n", lines.join(", "))
}

/// What was saved of a docket.
pub fn mended(report: &Mended, screen: &Screen) -> String {
    let state = clean(&report.state);
    let mut text = match report.lost.is_empty() {
        true => format!(
            "{} every line of the docket in {state} can be read\n",
            screen.paint(Style::Good, "whole:")
        ),
        false => format!(
            "{} the docket in {state} has {} entries now; lost:\n",
            screen.paint(Style::Mixed, "mended:"),
            report.entries
        ),
    };
    text.extend(report.lost.iter().map(|it| format!("  line {}, which {}\n", it.line, it.why)));
    text.extend(report.found.iter().map(|it| format!("  {}\n", clean(it))));
    text
}

fn what(entry: &Entry) -> String {
    let host = entry.host.as_deref().unwrap_or("?");
    match (entry.kind, entry.of) {
        (Kind::Enforce, _) => format!("enforce {host}"),
        (Kind::Revert, Some(of)) => format!("revert to {of} ({host})"),
        (Kind::Revert, None) => format!("revert ({host})"),
        (Kind::Boot, Some(of)) => format!("boot, {of} ({host})"),
        (Kind::Boot, None) => format!("boot ({host})"),
        (Kind::Release, _) => format!("release {host}"),
        (Kind::Take, _) => {
            let name = entry.posture.as_ref().map_or("?", |it| &it.name);
            format!("take {name} ({host})")
        }
        (Kind::Leave, _) => format!("leave ({host})"),
        (Kind::Refresh, _) => format!("refresh ({host})"),
    }
}

fn by(entry: &Entry) -> String {
    let mut words = entry.user.clone();
    if let Some(login) = &entry.login {
        words.push_str(&format!(", logged in as {login}"));
    }
    if let Some(from) = &entry.from {
        words.push_str(&format!(", from {from}"));
    }
    if !entry.despite.is_empty() {
        words.push_str(&format!(", although {}", entry.despite.join(", ")));
    }
    words
}

fn became(state: State) -> (&'static str, Style) {
    match state {
        State::Intended => ("unknown", Style::Mixed),
        State::Failed => ("failed", Style::Wrong),
        State::Pending => ("waits", Style::Mixed),
        State::Confirmed => ("kept", Style::Good),
        State::Reverted => ("went back", Style::Closed),
    }
}

/// One entry, with its policy.
pub fn docket_entry(shown: &Shown, screen: &Screen) -> String {
    let entry = &shown.entry;
    let heading = format!("entry {}: {}", entry.id, what(entry));
    let (word, style) = became(entry.state);
    let mut text = format!(
        "{}\n  {} by {}\n  {}\n  {} since {}\n",
        screen.paint(Style::Strong, &clean(&heading)),
        entry.time,
        clean(&by(entry)),
        clean(&entry.effect),
        screen.paint(style, word),
        entry.since
    );
    for (name, policy) in shown.policy.iter().flat_map(|it| &it.files) {
        text.push_str(&format!("\n{}\n", screen.paint(Style::Strong, &clean(name))));
        text.extend(policy.lines().map(|line| format!("  {}\n", clean(line))));
    }
    text
}
