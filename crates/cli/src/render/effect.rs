//! Changes for packets as text: what opens, what closes, what else.

use super::{Cell, Screen, Style, Table, clean};
use tipstaff_app::RegionWords;
use tipstaff_app::effect::{ChangeWords, Effects};
use tipstaff_app::vocabulary::{Direction, Effect};

/// Lists of regions are cut here; JSON has all of them.
const MOST: usize = 8;

/// What a change of what the kernel holds changes for packets.
pub fn effects(effects: &Effects, screen: &Screen) -> String {
    if !effects.changes_known {
        return "the rules overlap in too many ways to tell here what changes; --all works it out, \
                however long that takes\n"
            .into();
    }
    let mut text = changes(&effects.changes, screen);
    if effects.more_changes > 0 {
        text.push_str(&format!("and {} more; --all tells them\n", effects.more_changes));
    }
    text
}

/// A table of changes.
pub fn changes(changes: &[ChangeWords], screen: &Screen) -> String {
    let mut table = Table::new(["", "traffic", "from where, to where", "before", "after"]);
    let mut hidden = 0;
    for change in changes {
        let (mark, style) = mark(change.kind);
        if !screen.in_full && change.told.belongs {
            hidden += change.regions.len();
            continue;
        }
        let regions = if screen.in_full { &change.regions } else { &change.told.regions };
        let most = if screen.in_full { usize::MAX } else { MOST };
        let mut rows: Vec<(String, String)> =
            regions.iter().take(most).map(|it| parts(it, screen.in_full)).collect();
        if regions.len() > most {
            rows.push((format!("... and {} more", regions.len() - most), String::new()));
        }
        hidden += if screen.in_full { 0 } else { change.told.more };
        if change.rest {
            rows.push(("all that no rule decides".to_owned(), String::new()));
        }
        if rows.is_empty() {
            let example = change
                .witness
                .as_ref()
                .map(|packet| format!("such as {} from {}", packet.traffic(), packet.source));
            rows.push(("too much to list".to_owned(), example.unwrap_or_default()));
        }
        for (at, (traffic, ends)) in rows.into_iter().enumerate() {
            let first = at == 0;
            let direction = if change.direction == Direction::Inbound {
                String::new()
            } else {
                format!("{} ", change.direction)
            };
            table.row(vec![
                Cell::new(if first { mark } else { "" }, style),
                Cell::plain(format!("{}{traffic}", if first { &direction } else { "" })),
                Cell::plain(ends),
                if first {
                    side(&change.before.words(), &change.before.by.name)
                } else {
                    Cell::plain("")
                },
                if first {
                    side(&change.after.words(), &change.after.by.name)
                } else {
                    Cell::plain("")
                },
            ]);
        }
    }
    let mut text = table.render(screen);
    if hidden > 0 {
        let parts = if hidden == 1 { "1 small part goes" } else { "small parts go" };
        let count = if hidden == 1 { String::new() } else { format!("{hidden} ") };
        text.push_str(&format!("  ({count}{parts} with that; --in-full tells them)\n"));
    }
    text
}

fn side(words: &str, by: &str) -> Cell {
    Cell::plain(words).line(format!("({by})"), Style::Faint)
}

fn mark(kind: Effect) -> (&'static str, Style) {
    match kind {
        Effect::Opens => ("opens", Style::Good),
        Effect::Closes => ("closes", Style::Closed),
        Effect::Limits => ("limits", Style::Mixed),
        Effect::Unlimits => ("no limit", Style::Good),
        Effect::Answers => ("answers", Style::Mixed),
        Effect::Silences => ("silences", Style::Mixed),
    }
}

/// The traffic of a region, and where it goes from and to.
fn parts(region: &RegionWords, in_full: bool) -> (String, String) {
    let rest = region.narrowed();
    let ends = match (rest.is_empty(), region.from.is_empty()) {
        (true, _) => "from anywhere".to_owned(),
        (false, true) => format!("from anywhere {rest}"),
        (false, false) => rest,
    };
    (if in_full { region.traffic.clone() } else { region.traffic_in_short() }, ends)
}

/// Regions as lines.
pub fn regions(regions: &[RegionWords], indent: &str) -> String {
    let mut text = String::new();
    for region in regions.iter().take(MOST * 3) {
        text.push_str(&format!("{indent}{}\n", clean(&region.line())));
    }
    if regions.len() > MOST * 3 {
        let more = regions.len() - MOST * 3;
        text.push_str(&format!("{indent}... and {more} more (all with --format json)\n"));
    }
    text
}
