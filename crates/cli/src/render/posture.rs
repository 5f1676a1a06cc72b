//! Postures as text.

use super::{Screen, Style, clean, wrap};
use tipstaff_app::grouped;
use tipstaff_app::posture::Report;
use tipstaff_app::vocabulary::Moved;

/// Which posture holds, and what was done about it.
pub fn posture(report: &Report, screen: &Screen) -> String {
    let mut text = match (report.done, &report.since) {
        (Moved::Opened, _) => {
            let lead = screen.paint(Style::Good, "open again:");
            format!("{lead} the policy's own rules hold, as before\n")
        }
        (Moved::NothingToOpen, _) => "nothing to open: the door is not shut\n".to_owned(),
        (_, None) => "no posture is in force: the policy's own rules hold\n".to_owned(),
        (_, Some(since)) => shut(report, since, screen),
    };
    for remark in &report.remarks {
        text.push_str(&format!("{}\n", wrap(&clean(remark), screen.width).join("\n")));
    }
    text
}

fn shut(report: &Report, since: &str, screen: &Screen) -> String {
    let until = match &report.until {
        Some(until) => format!("until {until}"),
        None => "until `tipstaff posture leave`".to_owned(),
    };
    let lead = screen.paint(Style::Closed, "shut:");
    let mut text = format!("{lead} since {since}, {until}; only loopback passes\n");
    if let Some(why) = &report.why {
        text.push_str(&format!("  why: {}\n", clean(why)));
    }
    if let Some(session) = &report.session {
        text.push_str(&format!("  and this session: {session}\n"));
    }
    if let Some(ended) = report.ended {
        text.push_str(&format!("  {} connections were ended\n", grouped(ended)));
    }
    if let Some(packets) = report.turned_away {
        text.push_str(&format!("  {} packets were turned away\n", grouped(packets)));
    }
    if report.intact == Some(false) {
        let lead = screen.paint(Style::Wrong, "changed:");
        let rest = "somebody has changed its rules, so it may not hold; shut it again";
        text.push_str(&format!("{lead} {rest}\n"));
    }
    text
}
