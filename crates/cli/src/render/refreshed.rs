//! What came of reading the files of places anew, as text.

use super::edit::on_hosts;
use super::review::finding;
use super::{Cell, Screen, Style, Table, clean, enforced};
use tipstaff_app::attend::Reread;
use tipstaff_app::grouped;
use tipstaff_app::places::Report;
use tipstaff_app::vocabulary::Refreshed;

/// Each place, what changes for packets, and how it was put in force.
pub fn refreshed(report: &Report, screen: &Screen) -> String {
    let mut table = Table::new(vec!["place", "files", "ranges", "came", "went", "so since"])
        .numbers(&[2, 3, 4]);
    for place in &report.places {
        let style = match place.done {
            Refreshed::New | Refreshed::Changed => Style::Good,
            Refreshed::Same => Style::Plain,
            Refreshed::Refused => Style::Wrong,
        };
        let number = |it: usize| grouped(it as u64);
        table.row(vec![
            Cell::new(&place.name, Style::Strong),
            Cell::new(place.done, style),
            Cell::plain(place.ranges.map(number).unwrap_or_default()),
            Cell::plain(number(place.came)),
            Cell::plain(number(place.gone)),
            Cell::plain(place.taken.clone().unwrap_or_default()),
        ]);
    }
    let mut text = table.render(screen);
    for place in &report.places {
        for why in &place.why {
            let lead = screen.paint(Style::Wrong, "not taken:");
            text.push_str(&format!("\n{lead} {}: {}\n", clean(&place.name), clean(why)));
        }
    }
    let refused = report.places.iter().filter(|it| it.done == Refreshed::Refused).count();
    if refused > 0 {
        text.push_str("What such places held before holds still.\n");
    }
    text.push_str(&on_hosts(&report.hosts, screen));
    if report.hosts.is_empty() {
        text.push_str("\nchanges nothing for any packet\n");
    }
    for broken in &report.broken {
        text.push_str(&format!("\nThis breaks an expectation:\n{}", finding(broken, screen)));
    }
    if !report.written {
        text.push_str("\nnothing was kept or changed: --dry-run\n");
    }
    if let Some(report) = &report.enforced {
        text.push_str(&format!("\n{}", enforced(report, screen)));
    }
    for remark in &report.remarks {
        text.push_str(&format!("{}\n", clean(remark)));
    }
    text
}

/// Files of places that were read anew by whoever attends.
pub fn reread(reread: &Reread) -> String {
    let mut text = String::new();
    for place in &reread.places {
        let name = clean(&place.name);
        if place.done == Refreshed::Refused {
            for why in &place.why {
                text.push_str(&format!("place {name}: not taken: {}\n", clean(why)));
            }
        } else {
            let (came, gone) = (grouped(place.came as u64), grouped(place.gone as u64));
            text.push_str(&format!("place {name}: {came} came, {gone} went\n"));
        }
    }
    for remark in &reread.remarks {
        text.push_str(&format!("{}\n", clean(remark)));
    }
    if reread.in_force {
        text.push_str("what the files of places say now is in force\n");
    }
    text
}
