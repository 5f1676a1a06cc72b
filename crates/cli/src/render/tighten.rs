//! A rule for those who used it, as text.

use super::{Screen, Style, clean, edited, wrap};
use tipstaff_app::tighten::Report;
use tipstaff_core::analysis::lasting;

/// What was proposed, or done, and what it changes.
pub fn tightened(report: &Report, screen: &Screen) -> String {
    let who = match report.users {
        1 => "one address".to_owned(),
        users => format!("{users} addresses"),
    };
    let rule = clean(&report.rule);
    let mut text = format!(
        "{} used `{rule}` in the last {}. It is then for these only:\n",
        capital(&who),
        lasting(report.seconds)
    );
    let terms: Vec<String> = report.terms.iter().map(|it| clean(it)).collect();
    for line in wrap(&terms.join(", "), screen.width.saturating_sub(2)) {
        text.push_str(&format!("  {line}\n"));
    }
    match report.turned_away.as_slice() {
        [] => text.push_str("All who used it still get through.\n\n"),
        left => {
            let left: Vec<String> = left.iter().map(|it| clean(it)).collect();
            let line =
                format!("Used it, and will not get through any more: {}\n\n", left.join(", "));
            text.push_str(&screen.paint(Style::Mixed, &line));
        }
    }
    text.push_str(&edited(&report.edit, screen));
    text
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map(|it| it.to_ascii_uppercase()).into_iter().chain(chars).collect()
}
