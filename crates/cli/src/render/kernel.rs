//! `status --kernel` as text.

use super::{Cell, Screen, Style, Table, clean};
use tipstaff_app::kernel::Report;
use tipstaff_app::vocabulary::Need;

/// What this kernel can do, and what is done without it.
pub fn kernel(report: &Report, screen: &Screen) -> String {
    let mut table = Table::new(["", "here", "what for"]);
    for ability in &report.abilities {
        let (word, style) = match (ability.there, ability.name) {
            (true, _) => ("yes", Style::Good),
            (false, Need::Rules) => ("no", Style::Wrong),
            (false, _) => ("no", Style::Mixed),
        };
        let mut what = Cell::plain(ability.what);
        if let Some(lacking) = &ability.lacking {
            what = what.line(format!("lacking: {lacking}"), Style::Faint);
        }
        if let Some(without) = ability.without {
            what = what.line(format!("so {without}"), Style::Plain);
        }
        table.row(vec![Cell::plain(ability.name.as_str()), Cell::new(word, style), what]);
    }
    let heading = format!("{}: what Linux {} can do for the policy", report.host, report.kernel);
    let mut text =
        format!("{}\n{}", screen.paint(Style::Strong, &clean(&heading)), table.render(screen));
    if report.too_old {
        let lead = screen.paint(Style::Wrong, "too old:");
        text.push_str(&format!("\n{lead} rules are proven from {} on\n", report.oldest));
    } else if report.falls_short {
        let lead = screen.paint(Style::Wrong, "falls short:");
        text.push_str(&format!("\n{lead} the policy cannot be enforced here as it is\n"));
    }
    text
}
