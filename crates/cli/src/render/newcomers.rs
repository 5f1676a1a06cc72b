//! What began to listen, as text.

use super::{Screen, Style, clean, regions};
use tipstaff_app::asked::Answer;
use tipstaff_app::newcomers::{Newcomer, Report};
use tipstaff_app::vocabulary::{ReachedBy, Verdict};

/// What listens that nobody has said he knows, what the policy says of it, and what to do about it.
pub fn newcomers(report: &Report, screen: &Screen) -> String {
    let heading = format!("{}: what began to listen", clean(&report.host));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    if report.newcomers.is_empty() {
        text.push_str(match report.first {
            true => "\nnobody had looked before: all that listens now counts as known\n",
            false => "\nnothing that did not before\n",
        });
    }
    for newcomer in &report.newcomers {
        text.push_str(&format!("\n{}", one(newcomer, screen)));
        if report.made_known == 0 {
            let admit = match newcomer.reached_by {
                Some(ReachedBy::Everybody) => "to admit fewer:    ",
                _ => "to admit some:     ",
            };
            text.push_str(&format!("  {admit} {}\n", clean(&newcomer.to_admit)));
            let shut = match newcomer.reached_by {
                Some(ReachedBy::Nobody) | None => "to leave it shut:  ",
                Some(_) => "to shut it:        ",
            };
            text.push_str(&format!("  {shut} {}\n", clean(&newcomer.to_shut)));
        }
    }
    if report.made_known > 0 {
        text.push_str("\nFrom now on they are known.\n");
    } else if !report.newcomers.is_empty() {
        text.push_str("\n`tipstaff newcomers --known` says that you know them.\n");
    }
    for line in &report.unseen {
        text.push_str(&format!("{}\n", clean(line)));
    }
    text
}

/// One that came just now, in a line.
pub fn came(newcomer: &Newcomer) -> String {
    let by = match newcomer.reached_by {
        Some(ReachedBy::Everybody) => "everybody can reach it",
        Some(ReachedBy::Some) => "some can reach it",
        Some(ReachedBy::Nobody) => "nobody can reach it",
        None => "who can reach it is not known",
    };
    let (whose, traffic) = (clean(&newcomer.whose), clean(&newcomer.traffic));
    format!(
        "{whose} listens at {traffic}, where it did not before: {by}, by the policy; `tipstaff newcomers`\n"
    )
}

fn one(newcomer: &Newcomer, screen: &Screen) -> String {
    let traffic = screen.paint(Style::Strong, &clean(&newcomer.traffic));
    let gone = if newcomer.listens { "" } else { ", not any more" };
    let mut text =
        format!("{traffic}  {}, since {}{gone}\n", clean(&newcomer.whose), newcomer.since);
    let (lead, style) = match newcomer.reached_by {
        Some(ReachedBy::Everybody) => ("everybody can reach it", Style::Good),
        Some(ReachedBy::Some) => ("some can reach it", Style::Mixed),
        Some(ReachedBy::Nobody) => ("nobody can reach it", Style::Closed),
        None => ("who can reach it is not known", Style::Mixed),
    };
    text.push_str(&format!("  {}", screen.paint(style, lead)));
    let decides = |it: &&Answer| it.verdict == Verdict::Allow;
    let admitting: Vec<&Answer> = newcomer.answers.iter().filter(decides).collect();
    let by = if admitting.is_empty() { newcomer.answers.iter().collect() } else { admitting };
    let names: Vec<String> = by.iter().flat_map(|it| &it.by).map(|it| clean(&it.name)).collect();
    if !names.is_empty() {
        text.push_str(&format!(", by {}", names.join(", ")));
    }
    text.push('\n');
    if newcomer.reached_by == Some(ReachedBy::Some) {
        for answer in newcomer.answers.iter().filter(decides) {
            text.push_str(&regions(&answer.regions, "    "));
        }
    }
    text
}
