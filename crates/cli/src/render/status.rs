//! `status` as text.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, clean, wrap};
use tipstaff_app::grouped;
use tipstaff_app::status::{Other, Report, RuleCount};
use tipstaff_app::vocabulary::{Denies, Origin, Verdict};

/// The report as text.
pub fn status(report: &Report, screen: &Screen) -> String {
    let mut text = verdict(report, screen);
    if let Some(posture) = &report.posture {
        text.push_str(&super::posture::in_force(posture, screen));
    }
    for difference in &report.differences {
        text.push_str(&format!("  - {}\n", clean(&difference.message)));
        if let Some(witness) = &difference.witness {
            let packet = &witness.packet;
            text.push_str(&format!(
                "    for example {} from {} to {}: the policy says {}, the kernel {}\n",
                packet.traffic(),
                packet.source,
                packet.destination,
                witness.policy,
                witness.kernel
            ));
        }
    }
    if !report.rules.is_empty() {
        text.push_str(&format!(
            "\n{}\n",
            screen.paint(Style::Strong, "What each decision has taken")
        ));
        let mut table =
            Table::new(["direction", "name", "verdict", "packets", "bytes"]).numbers(&[3, 4]);
        for rule in &report.rules {
            for row in rows(rule) {
                table.row(row);
            }
        }
        text.push_str(&table.render(screen));
    }
    text.push_str(&super::attended::not_attended(report, screen));
    text.push_str(&programs(report, screen));
    text.push_str(&logging(report, screen));
    text.push_str(&super::attended::places(report, screen));
    text.push_str(&others(report, screen));
    text.push_str(&docket(report, screen));
    text
}

/// What is reported of decisions.
fn logging(report: &Report, screen: &Screen) -> String {
    let Some(logging) = &report.logging else { return String::new() };
    let which = match (logging.level.as_str(), &logging.all_until) {
        ("all", _) | (_, None) => logging.level.clone(),
        (level, Some(until)) => format!("all until {until}, then {level}"),
    };
    let mut text = format!(
        "\nreported of decisions: {which}; at most {}, and {}",
        logging.at_most, logging.at_most_of_one
    );
    if let (Some(reported), Some(beyond)) = (logging.reported, logging.beyond) {
        let (reported, beyond) = (grouped(reported), grouped(beyond));
        text.push_str(&format!(
            "\n  {reported} since the rules were put in force; {beyond} more were too many"
        ));
    }
    text.push('\n');
    if logging.taken == Some(false) {
        let lead = screen.paint(Style::Mixed, "nobody takes it:");
        let rest = "`tipstaff watch --logged` does, or the service tipstaff-watch";
        text.push_str(&format!("{lead} {rest}\n"));
    }
    text
}

/// The programs that rules name, and rules that are left out for theirs.
fn programs(report: &Report, screen: &Screen) -> String {
    let mut text = String::new();
    if !report.left_out.is_empty() {
        let lead = screen.paint(Style::Mixed, "without programs:");
        let names: Vec<String> = report.left_out.iter().map(|it| clean(it)).collect();
        let line = format!(
            "{} left out, as was chosen with --without-programs: {}",
            if names.len() == 1 { "1 rule is" } else { "these rules are" },
            names.join(", ")
        );
        text.push_str(&format!("\n{lead} {line}\n"));
    }
    match &report.programs {
        Some(programs)
            if !(programs.programs.is_empty()
                && programs.users.is_empty()
                && programs.trouble.is_empty()) =>
        {
            text.push_str(&format!("\n{}", super::programs(programs, screen)));
        }
        _ => {}
    }
    text
}

/// Since when, and what a reboot makes of it.
fn docket(report: &Report, screen: &Screen) -> String {
    let mut text = String::from("\n");
    if let Some(docket) = &report.docket {
        let how = match (docket.confirmed, docket.loaded_at_boot) {
            (_, true) => "loaded at boot",
            (true, false) => "confirmed",
            (false, false) => "not confirmed yet",
        };
        let entry = docket.entry;
        text.push_str(&format!("in the docket: entry {entry}, {how}, since {}\n", docket.since));
        if !docket.same_policy && docket.pending.is_none() {
            let lead = screen.paint(Style::Mixed, "the file says otherwise:");
            let what = match docket.went_back {
                Some(id) => format!(
                    "it is what entry {id} put in force, which went back; `tipstaff enforce` would bring just \
                     that in again"
                ),
                None => {
                    "it has changed since; `tipstaff enforce` puts in force what it says now".into()
                }
            };
            let other = format!(
                "`tipstaff docket restore {entry}` writes what is in force back to the file"
            );
            text.push_str(&format!("{lead} {what},\n  and {other}\n"));
        }
        if let Some(id) = docket.pending {
            let lead = screen.paint(Style::Mixed, "not kept yet:");
            let seconds = docket.seconds_left.unwrap_or_default();
            text.push_str(&format!(
                "{lead} entry {id} goes back by itself in {seconds} seconds unless `tipstaff \
                 confirm` comes\n"
            ));
            if docket.watched == Some(false) {
                let lead = screen.paint(Style::Wrong, "nobody watches:");
                let rest = "its watcher was ended; any command of tipstaff as root starts another";
                text.push_str(&format!("{lead} {rest}\n"));
            }
        }
    }
    for line in &report.odd_interfaces {
        text.push_str(&format!("{} {}\n", screen.paint(Style::Wrong, "interface:"), clean(line)));
    }
    for line in &report.kept_trouble {
        text.push_str(&format!("{} {}\n", screen.paint(Style::Wrong, "kept:"), clean(line)));
    }
    match (report.in_force, report.after_reboot, report.boot_service) {
        (_, true, Some(service)) => {
            let lead = screen.paint(Style::Good, "after a reboot:");
            let rest = "what was confirmed last is loaded before the network comes up";
            text.push_str(&format!("{lead} {rest} ({service})\n"));
        }
        (true, _, None) => {
            let lead = screen.paint(Style::Mixed, "after a reboot:");
            let rest = "these rules are gone, until the boot service is installed and enabled";
            text.push_str(&format!("{lead} {rest}\n"));
        }
        (true, false, Some(_)) => {
            let lead = screen.paint(Style::Mixed, "after a reboot:");
            let rest = match report.kept_trouble.is_empty() {
                true => "nothing is loaded, since nothing was confirmed",
                false => "what can still be read decides; perhaps only the remote shell stays open",
            };
            text.push_str(&format!("{lead} {rest}\n"));
        }
        _ => {}
    }
    text
}

fn verdict(report: &Report, screen: &Screen) -> String {
    let host = clean(&report.host);
    let (style, lead, rest) = match (report.in_force, report.dormant, report.equal) {
        (true, _, Some(true)) => {
            let form = match report.same_form {
                Some(false) => ", though not in the form we gave them; `enforce --keep` mends that",
                _ => "",
            };
            (Style::Good, "in force", format!("the kernel's rules mean what the policy says{form}"))
        }
        (true, ..) => {
            let other = report.enforced_host.as_deref().filter(|name| *name != report.host);
            let whose = other.map(|name| format!("; they were made for `{}`", clean(name)));
            let whose = whose.unwrap_or_default();
            // To enforce what went back would bring the mistake back.
            let back = report.docket.as_ref().is_some_and(|it| it.went_back.is_some());
            let mend = if back { "" } else { "; `enforce --keep` mends it" };
            let rest = format!("the kernel's rules are not the policy's{whose}{mend}");
            (Style::Wrong, "in force, but different", rest)
        }
        (false, true, _) => {
            let rest = "our rules are in the kernel but switched off; `enforce --keep` mends it";
            (Style::Wrong, "not in force", rest.to_owned())
        }
        (false, false, _) => {
            let rest = "no rules of ours are in the kernel; `enforce --keep` puts them there";
            (Style::Wrong, "not in force", rest.to_owned())
        }
    };
    format!("{}: {}: {rest}\n", screen.paint(Style::Strong, &host), screen.paint(style, lead))
}

fn rows(rule: &RuleCount) -> Vec<Vec<Cell>> {
    let verdict = rule.verdict.map_or("not in the policy", Verdict::as_str);
    let style = rule.verdict.map_or(Style::Mixed, verdict_style);
    let name = if rule.kind == Origin::Rule { Style::Strong } else { Style::Plain };
    let row = |verdict: Cell, packets: u64, bytes: u64| {
        let number = |value: u64| match value {
            0 => Cell::new("0", Style::Faint),
            value => Cell::plain(value.to_string()),
        };
        vec![
            Cell::plain(rule.direction),
            Cell::new(&rule.name, name),
            verdict,
            number(packets),
            number(bytes),
        ]
    };
    let mut rows = vec![row(Cell::new(verdict, style), rule.packets, rule.bytes)];
    if let (Some(packets), Some(bytes)) = (rule.excess_packets, rule.excess_bytes) {
        rows.push(row(Cell::new("deny (beyond the rate)", Style::Closed), packets, bytes));
    }
    if let Some(packets) = rule.crowded_packets.filter(|it| *it > 0) {
        let mut crowded = row(Cell::new("no room for the sender", Style::Wrong), packets, 0);
        crowded.pop();
        crowded.push(Cell::plain(""));
        rows.push(crowded);
    }
    rows
}

fn others(report: &Report, screen: &Screen) -> String {
    let title = screen.paint(Style::Strong, "Others that also decide");
    if report.others.is_empty() && report.older_tables.is_empty() {
        return format!("\n{title}\n  nobody: no other table sees packets on this host\n");
    }
    let mut text = format!("\n{title}\n");
    if !report.others.is_empty() {
        let mut table = Table::new(["table", "packets", "chain", "where", "what remains"]);
        for other in &report.others {
            other_rows(other, &mut table);
        }
        text.push_str(&table.render(screen));
    }
    if !report.older_tables.is_empty() {
        let names = clean(&report.older_tables.join(", "));
        text.push_str(&format!("  tables of the kernel's older packet filter: {names}\n"));
    }
    let names = |word| -> Vec<String> {
        report.others.iter().filter(|it| it.denies == word).map(|it| clean(&it.name)).collect()
    };
    for (word, what) in [
        (Denies::Can, "can keep out what this policy allows: what it drops stays dropped"),
        (
            Denies::Perhaps,
            "has parts that are not understood, and may keep out what this policy allows",
        ),
        (Denies::Never, "drops nothing"),
    ] {
        for name in names(word) {
            text.push_str(&format!("  {name} {what}.\n"));
        }
    }
    for other in report.others.iter().filter(|it| it.leads) {
        let line = format!(
            "{} leads packets elsewhere before this policy sees them: what it denies inbound may be let in there. \
             `tipstaff reach` tells which ports.",
            clean(&other.name)
        );
        for line in wrap(&line, screen.width.saturating_sub(2)) {
            text.push_str(&format!("  {line}\n"));
        }
    }
    text
}

fn other_rows(other: &Other, table: &mut Table) {
    for chain in &other.chains {
        let order = if chain.before_ours { "before ours" } else { "beside or after ours" };
        table.row(vec![
            Cell::new(&other.name, Style::Strong),
            Cell::plain(other.family.as_str()),
            Cell::plain(&chain.name),
            Cell::plain(format!("{}, {order}", chain.hook)),
            if chain.drops_the_rest {
                Cell::new("dropped", Style::Wrong)
            } else {
                Cell::plain("passes")
            },
        ]);
    }
}
