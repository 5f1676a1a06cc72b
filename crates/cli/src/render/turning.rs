//! Who is turned away, as text.

use super::{Screen, clean, edited, enforced};
use tipstaff_app::turning::Report;

/// What was done in the policy, and in force.
pub fn turned(report: &Report, screen: &Screen) -> String {
    let mut text = edited(&report.edit, screen);
    if let Some(report) = &report.enforced {
        text.push_str(&format!("\n{}", enforced(report, screen)));
    }
    for remark in &report.remarks {
        text.push_str(&format!("{}\n", clean(remark)));
    }
    text
}
