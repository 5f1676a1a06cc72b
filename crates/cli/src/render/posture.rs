//! Postures as text.

use super::{Cell, Screen, Style, Table, clean, wrap};
use tipstaff_app::grouped;
use tipstaff_app::posture::{Known, Report};
use tipstaff_app::transaction::Followed;
use tipstaff_app::vocabulary::Moved;

/// Which posture holds, and what was done about it.
pub fn posture(report: &Report, screen: &Screen) -> String {
    let of = |name: &Option<String>| clean(name.as_deref().unwrap_or_default());
    let good = |lead: &str| screen.paint(Style::Good, lead);
    let mut text = match report.done {
        Moved::Opened => {
            let before = match &report.posture {
                Some(posture) => format!("posture {} holds", clean(posture)),
                None => "the policy's own rules hold".to_owned(),
            };
            format!("{} {before}, as before\n", good("open again:"))
        }
        Moved::NothingToLeave => {
            let why = match (&report.behind, &report.posture) {
                (Some(_), Some(now)) => {
                    format!(
                        "{} was left meanwhile; posture {} is in force",
                        of(&report.behind),
                        clean(now)
                    )
                }
                (Some(_), None) => format!("{} was left meanwhile", of(&report.behind)),
                _ => "no posture is in force".to_owned(),
            };
            format!("nothing to leave: {why}\n")
        }
        Moved::Left => {
            let again = match &report.posture {
                Some(posture) => format!("posture {} holds again", clean(posture)),
                None => "all is as it was without it".to_owned(),
            };
            format!("{} {}; {again}\n", good("left:"), of(&report.behind))
        }
        Moved::WouldLeave if report.behind.is_none() => "would open the door again\n".to_owned(),
        Moved::WouldLeave => format!("would leave {}\n", of(&report.behind)),
        Moved::WouldTake => format!("would take {}\n", of(&report.posture)),
        Moved::Shut | Moved::Taken | Moved::Looked => in_force(report, screen),
    };
    if report.done == Moved::Looked {
        text.push_str(&all(report, screen));
        text.push_str(&not_attended(report, screen));
    }
    if let Some(change) = &report.change {
        text.push_str(&super::enforced(change, screen));
    }
    if let Some(ended) = report.living.as_ref().filter(|it| !it.living.is_empty()) {
        text.push_str(&format!("\nadmitted by the posture only:\n{}", super::cut(ended, screen)));
    }
    for remark in &report.remarks {
        text.push_str(&format!("{}\n", wrap(&clean(remark), screen.width).join("\n")));
    }
    text
}

/// A host, and the posture in which it is looked at.
pub fn host_in(host: &str, posture: Option<&str>) -> String {
    match posture {
        Some(posture) => clean(&format!("{host}, in posture {posture}")),
        None => clean(host),
    }
}

/// The posture in force.
pub fn in_force(report: &Report, screen: &Screen) -> String {
    let (Some(name), Some(since)) = (&report.posture, &report.since) else {
        return "no posture is in force: the policy's own rules hold\n".to_owned();
    };
    if report.is_shut() {
        return shut(report, since, screen);
    }
    let lead = screen.paint(Style::Strong, "posture:");
    let until = match (&report.until, report.ends_with) {
        _ if report.by_itself == Some(true) && report.at_boot.as_ref() == Some(name) => {
            "wherever no other belongs".to_owned()
        }
        _ if report.by_itself == Some(true) => "while this machine is here".to_owned(),
        (Some(until), _) => format!("until {until}"),
        (None, Some(pid)) => format!("while process {pid} runs"),
        (None, None) => "until `tipstaff posture leave`".to_owned(),
    };
    let then = match &report.then {
        Some(then) => format!(", then {}", clean(then)),
        None => String::new(),
    };
    let mut text = format!("{lead} {}, since {since}, {until}{then}\n", clean(name));
    if let Some(why) = &report.why {
        text.push_str(&format!("  why: {}\n", clean(why)));
    }
    text
}

/// Those of the policy.
fn all(report: &Report, screen: &Screen) -> String {
    let Some(postures) = &report.postures else { return String::new() };
    if postures.is_empty() {
        return "\nthe policy has none of its own; `shut` is built in\n".to_owned();
    }
    let mut table = Table::new(["posture", "rules", "", "what for"]);
    for Known { name, rules, instead, in_force, by_place, why } in postures {
        let place = if *instead { "instead of the host's" } else { "ahead of the host's" };
        let boot = report.at_boot.as_ref() == Some(name);
        let elsewhere = report.by_itself.is_some().then_some("elsewhere");
        let state: Vec<&str> = [
            in_force.then_some("in force"),
            boot.then_some("at boot"),
            elsewhere.filter(|_| boot),
            by_place.then_some("by itself"),
        ]
        .into_iter()
        .flatten()
        .collect();
        table.row(vec![
            Cell::plain(name),
            Cell::plain(format!("{rules}, {place}")),
            Cell::new(state.join(", "), Style::Strong),
            Cell::plain(why.as_deref().unwrap_or_default()),
        ]);
    }
    format!("\n{}", table.render(screen))
}

/// That nobody sees at once to where the machine is, if so.
fn not_attended(report: &Report, screen: &Screen) -> String {
    if report.attended != Some(false) {
        return String::new();
    }
    let lead = screen.paint(Style::Mixed, "not attended:");
    let rest = "a posture that holds by itself comes with the next command of tipstaff; at once by `tipstaff \
                attend`, which the service tipstaff-attend runs";
    format!("\n{}\n", wrap(&format!("{lead} {rest}"), screen.width).join("\n"))
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
    if let Some(behind) = &report.behind {
        text.push_str(&format!("  behind it, posture {} is in force\n", clean(behind)));
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

/// A posture that was taken by itself.
pub fn followed(report: &Followed) -> String {
    let before = match &report.before {
        Some(before) => format!("instead of {}", clean(before)),
        None => "where none was".to_owned(),
    };
    let mut text = format!("posture {} is in force, {before}\n", clean(&report.posture));
    if let Some(trouble) = &report.trouble {
        text.push_str(&format!("{}\n", clean(trouble)));
    }
    text
}
