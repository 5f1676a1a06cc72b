//! What stands in a policy, as text: rules, places and services.

use super::asked::asked;
use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, clean, place};
use tipstaff_app::grouped;
use tipstaff_app::listing::{DataWords, HostList, NameList, RuleList, RuleShown, RuleWords};
use tipstaff_app::vocabulary::{Direction, Named};

/// What narrows a rule beside its traffic and its ends.
fn narrowed(rule: &RuleWords) -> Cell {
    let by = |word: &str, list: &[String]| {
        (!list.is_empty()).then(|| format!("{word} {}", list.join(" or ")))
    };
    let told = [
        by("in by", &rule.ingress),
        by("out by", &rule.egress),
        by("program", &rule.programs),
        by("user", &rule.users),
        rule.source_ports.as_ref().map(|it| format!("from port {it}")),
        by("published at", &rule.published),
        rule.rate.clone(),
        rule.until.as_ref().map(|it| format!("until {it}")),
        rule.log.as_ref().map(|it| format!("reported: {it}")),
    ];
    let told = told.into_iter().flatten();
    told.fold(Cell::default(), |cell, line| cell.line(line, Style::Plain))
}

fn or_anywhere(list: &[String]) -> String {
    if list.is_empty() { "anywhere".into() } else { list.join(", ") }
}

fn verdict(rule: &RuleWords) -> Cell {
    if rule.paused {
        Cell::new(format!("paused ({})", rule.verdict), Style::Faint)
    } else {
        Cell::new(rule.verdict, verdict_style(rule.verdict))
    }
}

fn traffic(rule: &RuleWords) -> String {
    let traffic = rule.traffic.join(", ");
    match rule.direction {
        Direction::Inbound => traffic,
        other => format!("{other} {traffic}"),
    }
}

/// The senders and the receivers, with the host's own addresses that it is narrowed to.
fn ends(rule: &RuleWords) -> (String, String) {
    let own = (!rule.at.is_empty()).then(|| format!("at {}", rule.at.join(", ")));
    let with = |list: &[String], own: Option<String>| match (list.is_empty(), own) {
        (true, Some(own)) => own,
        (false, Some(own)) => format!("{}, {own}", list.join(", ")),
        (_, None) => or_anywhere(list),
    };
    match rule.direction {
        Direction::Outbound => (with(&rule.from, own), with(&rule.to, None)),
        _ => (with(&rule.from, None), with(&rule.to, own)),
    }
}

/// The rules of a host.
pub fn rules(report: &RuleList, screen: &Screen) -> String {
    let narrowed_anywhere = report.rules.iter().any(|it| !narrowed(it).is_empty());
    let mut titles = vec!["name", "verdict", "traffic", "from", "to"];
    titles.extend(narrowed_anywhere.then_some("narrowed to"));
    let counted = report.rules.iter().any(|it| it.packets.is_some());
    titles.extend(counted.then_some("packets"));
    titles.push("written at");
    let last = titles.len() - 1;
    let mut table = Table::new(titles).spare(&[last]);
    if counted {
        table = table.numbers(&[last - 1]);
    }
    for rule in &report.rules {
        let mut name = Cell::new(&rule.name, Style::Strong);
        if let Some(bundle) = &rule.bundle {
            name = name.line(format!("of {bundle}"), Style::Faint);
        }
        if let Some(label) = &rule.label {
            name = name.line(format!("by the label {label}"), Style::Faint);
        }
        let (from, to) = ends(rule);
        let mut row = vec![
            name,
            verdict(rule),
            Cell::plain(traffic(rule)),
            Cell::plain(from),
            Cell::plain(to),
        ];
        row.extend(narrowed_anywhere.then(|| narrowed(rule)));
        row.extend(rule.packets.map(|it| Cell::plain(grouped(it))));
        row.push(Cell::new(place(Some(&rule.origin)), Style::Faint));
        table.row(row);
    }
    if report.rules.is_empty() {
        return format!("{}: no such rules\n", clean(&report.host));
    }
    let heading = format!("{}: the rules", clean(&report.host));
    format!("{}\n{}", screen.paint(Style::Strong, &heading), table.render(screen))
}

fn count(number: u64, what: &str) -> String {
    format!("{} {what}{}", grouped(number), if number == 1 { "" } else { "s" })
}

/// One rule in full: its lines, what it decides, what it has taken.
pub fn rule(report: &RuleShown, screen: &Screen) -> String {
    let rule = &report.rule;
    let whose = match (&rule.bundle, &rule.label) {
        (Some(bundle), _) => format!(", of the bundle {bundle}"),
        (None, Some(label)) => format!(", by the label {label}"),
        (None, None) => String::new(),
    };
    let paused = if rule.paused { ", paused" } else { "" };
    let heading = format!(
        "{}: {}{whose}{paused}, at {}",
        clean(&report.host),
        clean(&rule.name),
        place(Some(&rule.origin))
    );
    let mut text = format!("{}\n\n", screen.paint(Style::Strong, &heading));
    text.extend(report.lines.iter().map(|line| format!("  {}\n", clean(line))));
    let decides = asked(&report.decides, screen);
    text.push_str(&format!("\n{decides}\n"));
    text.push_str(&match (&report.taken, &report.not_known) {
        (Some(taken), _) => {
            let excess = taken.excess_packets.filter(|it| *it > 0);
            let excess =
                excess.map(|it| format!(", and turned away {} beyond its rate", grouped(it)));
            format!(
                "In force, it has taken {}, {}{}.\n",
                count(taken.packets, "packet"),
                count(taken.bytes, "byte"),
                excess.unwrap_or_default()
            )
        }
        (None, Some(why)) => format!("What it has taken is not known: {}\n", clean(why)),
        (None, None) => "No rule of that name is in force here.\n".to_owned(),
    });
    text
}

/// The hosts of a policy.
pub fn hosts(report: &HostList, screen: &Screen) -> String {
    let away = report.hosts.iter().any(|it| !it.turned_away.is_empty());
    let mut titles = vec!["name", "addresses", "labels", "rules"];
    titles.extend(away.then_some("turned away"));
    titles.push("written at");
    let last = titles.len() - 1;
    let mut table = Table::new(titles).numbers(&[3]).spare(&[last]);
    for host in &report.hosts {
        let addresses: Vec<String> = host.addresses.iter().map(ToString::to_string).collect();
        let mut row = vec![
            Cell::new(&host.name, Style::Strong),
            match addresses[..] {
                [] => Cell::new("whichever it has", Style::Faint),
                _ => Cell::plain(addresses.join(", ")),
            },
            Cell::plain(host.labels.join(", ")),
            Cell::plain(host.rules.to_string()),
        ];
        row.extend(away.then(|| Cell::plain(host.turned_away.join(", "))));
        row.push(Cell::new(place(Some(&host.origin)), Style::Faint));
        table.row(row);
    }
    table.render(screen)
}

/// So many items of what a name stands for are told.
const TOLD: usize = 6;

/// What a name stands for; of much, the beginning and how much more it is.
fn shortened(holds: &str) -> String {
    let items: Vec<&str> = holds.split(", ").collect();
    match items.len().checked_sub(TOLD) {
        None | Some(0..=2) => holds.to_owned(),
        Some(more) => {
            let more = grouped(u64::try_from(more).unwrap_or(u64::MAX));
            format!("{} and {more} more", items[..TOLD].join(", "))
        }
    }
}

/// Places or services.
pub fn names(report: &NameList, screen: &Screen) -> String {
    if report.names.is_empty() {
        return format!("no {}s\n", report.what);
    }
    let holds = match report.what {
        Named::Place | Named::Service => "stands for",
        Named::Bundle | Named::Label => "rules",
    };
    let titles = ["name", holds, "used", "why", "written at"];
    let mut table = Table::new(titles).numbers(&[2]).spare(&[4]);
    for name in &report.names {
        let mut holds = Cell::plain(shortened(&name.holds));
        let described = name
            .ports
            .iter()
            .filter_map(|it| Some((&it.term, it.meaning.as_ref()?)))
            .filter(|it| !it.1.is_empty());
        for (term, meaning) in described {
            holds = holds.line(format!("{term}: {meaning}"), Style::Faint);
        }
        if let Some(data) = &name.data {
            for line in files(data) {
                holds = holds.line(line, Style::Faint);
            }
        }
        table.row(vec![
            Cell::new(&name.name, Style::Strong),
            holds,
            Cell::plain(name.uses.to_string()),
            Cell::plain(name.why.as_deref().unwrap_or_default()),
            Cell::new(place(name.origin.as_ref()), Style::Faint),
        ]);
    }
    table.render(screen)
}

/// What is to be known of the files of a place.
fn files(data: &DataWords) -> Vec<String> {
    let mut lines = vec![format!("from {}", data.of)];
    match (&data.read, &data.taken, data.came.zip(data.gone)) {
        (Some(read), Some(taken), Some((came, gone))) => {
            lines.push(format!("so since {taken}: {came} came, {gone} went"));
            lines.push(format!("read {read}"));
        }
        _ => lines.push("not read yet: `tipstaff place refresh`".into()),
    }
    lines
}
