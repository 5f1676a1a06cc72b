//! `compare` as text.

use super::{Screen, Style, clean, effects};
use tipstaff_app::compare::Report;

/// The differences.
pub fn compare(report: &Report, screen: &Screen) -> String {
    let heading = format!("from {} to {}", clean(&report.first), clean(&report.second));
    let heading = screen.paint(Style::Strong, &heading);
    if report.equal {
        return format!("{heading}\n\nno difference: every packet fares the same\n");
    }
    format!("{heading}\n\n{}", effects(&report.found, screen))
}
