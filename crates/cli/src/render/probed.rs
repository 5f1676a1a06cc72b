//! What hosts really reach, as text.

use super::{Cell, Screen, Style, Table, clean};
use tipstaff_app::fleet::{Probed, Tried};
use tipstaff_app::grouped;
use tipstaff_app::vocabulary::Holds;

/// What hosts really reach, held against the policy.
pub fn probed(report: &Probed, screen: &Screen) -> String {
    let count = |holds: Holds| report.tries.iter().filter(|it| it.agrees == holds).count();
    let [agree, differ, unknown] =
        [Holds::Yes, Holds::No, Holds::Unknown].map(|it| grouped(count(it) as u64));
    let heading = format!(
        "{}, by number {}: {agree} as the policy says, {differ} otherwise, {unknown} not known",
        clean(&report.traffic),
        report.number
    );
    let mut table = Table::new(["from", "to", "at", "policy", "met", "as said", "how it was seen"]);
    for it in &report.tries {
        table.row(row(it));
    }
    format!("{}\n\n{}", screen.paint(Style::Strong, &heading), table.render(screen))
}

fn row(it: &Tried) -> Vec<Cell> {
    let said: Vec<&str> = it.said.iter().map(|it| it.as_str()).collect();
    let said = if said.is_empty() { "-".to_owned() } else { said.join(" or ") };
    let (agrees, style) = match it.agrees {
        Holds::Yes => ("yes", Style::Good),
        Holds::No => ("no", Style::Wrong),
        Holds::Unknown => ("not known", Style::Mixed),
    };
    vec![
        Cell::new(clean(&it.from), Style::Strong),
        Cell::new(clean(&it.to), Style::Strong),
        Cell::plain(clean(&format!("{}/{}", it.at, it.protocol))),
        Cell::plain(said),
        Cell::plain(it.met.as_deref().unwrap_or("-")),
        Cell::new(agrees, style),
        Cell::plain(clean(&it.evidence)),
    ]
}
