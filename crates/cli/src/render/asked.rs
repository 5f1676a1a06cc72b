//! `ask --who`, `--what` and `--why` as text.

use super::show::verdict_style;
use super::{Screen, Style, clean, regions};
use tipstaff_app::asked::{Answer, Report};
use tipstaff_app::reach::Entry;
use tipstaff_app::vocabulary::Asked;

/// The answer.
pub fn asked(report: &Report, screen: &Screen) -> String {
    let (host, about) = (clean(&report.host), clean(&report.about));
    let heading = match report.asked {
        Asked::Who => format!("{host}: what happens to {about}, {}", report.direction),
        Asked::What => {
            format!("{host}: what happens to traffic from {about}, {}", report.direction)
        }
        Asked::Why => format!("{host}: what `{about}` decides, {}", report.direction),
    };
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    if report.asked == Asked::Why && !report.answers.iter().any(|it| is_own(it, &report.about)) {
        text.push_str("\nnothing: it takes no packet\n");
    }
    for answer in &report.answers {
        text.push_str(&self::answer(answer, report, screen));
    }
    for entry in &report.published {
        text.push_str(&led(entry, screen));
    }
    text
}

/// Ports that are led elsewhere, and who is let through there.
fn led(entry: &Entry, screen: &Screen) -> String {
    let ports = entry.published.as_deref().unwrap_or_default();
    let lead =
        screen.paint(Style::Mixed, &format!("but {ports}/{} is led elsewhere:", entry.protocol));
    let mut text = format!("\n{lead} what is said above does not hold for it\n");
    for from in &entry.from {
        for part in &from.parts {
            let to = part.led_to.as_deref().unwrap_or("where it cannot be told");
            let by = part.led_by.as_deref().unwrap_or_default();
            text.push_str(&format!(
                "  {} ({}): {} by {}, led to {to} by table {}\n",
                clean(&from.place),
                clean(&part.senders),
                part.policy,
                clean(&part.decided_by.name),
                clean(by)
            ));
        }
    }
    text
}

fn is_own(answer: &Answer, name: &str) -> bool {
    answer.by.iter().any(|by| by.name == name)
}

fn answer(answer: &Answer, report: &Report, screen: &Screen) -> String {
    let mut verdict = answer.verdict.to_string();
    if let Some(rate) = &answer.rate {
        verdict.push_str(&format!(" {rate}"));
    }
    let names: Vec<String> = answer.by.iter().map(|by| clean(&by.name)).collect();
    let lead = if report.asked == Asked::Why && !is_own(answer, &report.about) {
        "matched too, but decided above: "
    } else {
        ""
    };
    format!(
        "\n{lead}{} by {}\n{}",
        screen.paint(verdict_style(answer.verdict), &verdict),
        names.join(", "),
        regions(&answer.regions, "  ")
    )
}
