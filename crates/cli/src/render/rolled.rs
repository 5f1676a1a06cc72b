//! What came to which host, as text.

use super::fleet::{named, sealed};
use super::text::span;
use super::{Cell, Screen, Style, Table, clean, effects, wrap};
use tipstaff_app::fleet::{Held, HostStands, Overview, RolledOut, Taken, Undone};
use tipstaff_app::grouped;
use tipstaff_app::vocabulary::{Stands, Took};

/// How things stand with all hosts.
pub fn overview(report: &Overview, screen: &Screen) -> String {
    let newest = report
        .newest
        .map_or("nothing sealed that counts".into(), |it| format!("number {it} is the newest"));
    let heading = format!("fleet {}: {newest}", clean(&report.fleet));
    let mut text = format!("{}\n", screen.paint(Style::Strong, &heading));
    text.push_str(&format!("{}\n\n", counts(&report.hosts)));
    if !report.hosts.is_empty() {
        text.push_str(&table(&report.hosts).render(screen));
    }
    for remark in &report.remarks {
        text.push_str(&format!("\n{}\n", wrap(&clean(remark), screen.width).join("\n")));
    }
    text
}

/// What changed since it was looked before: a line for each host.
pub fn what_changed(before: &Overview, now: &Overview) -> String {
    let mut text = String::new();
    if before.newest != now.newest {
        let newest = now.newest.map_or("nothing".to_owned(), |it| format!("number {it}"));
        text.push_str(&format!("{newest} is the newest that counts\n"));
    }
    for host in &now.hosts {
        let was = before.hosts.iter().find(|it| it.host == host.host);
        let word = |it: &HostStands| {
            let has = it.has().map_or("nothing".to_owned(), |it| format!("number {it}"));
            format!("{}, has {has}", it.stands)
        };
        let now = word(host);
        if was.map(word).as_deref() != Some(&now) {
            let why = host.why.as_ref().map(|it| format!(": {}", clean(it))).unwrap_or_default();
            text.push_str(&format!("{}: {now}{why}\n", clean(&host.host)));
        }
    }
    text
}

/// How many stand how.
fn counts(hosts: &[HostStands]) -> String {
    let count = |word: Stands| hosts.iter().filter(|it| it.stands == word).count();
    let told = Stands::ALL.iter().map(|&it| (it, count(it))).filter(|it| it.1 > 0);
    let told: Vec<String> =
        told.map(|(it, number)| format!("{} {it}", grouped(number as u64))).collect();
    if told.is_empty() { "no hosts".into() } else { told.join(", ") }
}

fn table(hosts: &[HostStands]) -> Table {
    let mut table = Table::new(["host", "stands", "has", "should", "in force", "heard", "why"])
        .numbers(&[2, 3]);
    for host in hosts {
        let said = host.said.as_ref();
        let number = |it: Option<u64>| it.map_or("-".to_owned(), |it| it.to_string());
        let in_force = match said.and_then(|it| it.in_force) {
            Some(true) => "yes",
            Some(false) => "no",
            None => "not known",
        };
        let mut why: Vec<String> = host.why.iter().map(|it| clean(it)).collect();
        if let Some(posture) = said.and_then(|it| it.posture.as_ref()) {
            why.push(format!("in posture {}", clean(posture)));
        }
        if let Some(clock) = host.clock {
            let side = if clock > 0 { "ahead" } else { "behind" };
            why.push(format!("its clock is {} {side}", span(clock.unsigned_abs())));
        }
        table.row(vec![
            Cell::new(clean(&host.host), Style::Strong),
            Cell::new(host.stands.as_str(), style(host.stands)),
            Cell::plain(number(host.has())),
            Cell::plain(number(host.should)),
            Cell::plain(in_force),
            Cell::plain(host.heard.map_or("never".to_owned(), |it| format!("{} ago", span(it)))),
            Cell::plain(why.join("; ")),
        ]);
    }
    table
}

fn style(stands: Stands) -> Style {
    match stands {
        Stands::Well => Style::Good,
        Stands::Behind | Stands::Waits => Style::Mixed,
        _ => Style::Wrong,
    }
}

/// What came of a roll-out.
pub fn rolled_out(report: &RolledOut, screen: &Screen) -> String {
    let number = report.number;
    let have = grouped(report.have.len() as u64);
    let mut text = match &report.stopped {
        Some(why) => {
            let lead = screen.paint(Style::Wrong, "stopped:");
            let line = format!("{lead} number {number} goes to no more hosts: {}", clean(why));
            format!("{}\n", wrap(&line, screen.width).join("\n"))
        }
        None if report.done && report.wait.is_empty() => {
            let lead = screen.paint(Style::Good, "rolled out:");
            format!("{lead} number {number}, to all {have} hosts that are meant\n")
        }
        None => {
            let lead = screen.paint(Style::Mixed, "rolled out in part:");
            format!("{lead} number {number}, to {have} hosts\n")
        }
    };
    let mut list = |what: &str, names: &[String]| {
        if !names.is_empty() {
            let line = format!("{what}: {}", named(names));
            text.push_str(&format!("\n{}\n", wrap(&line, screen.width).join("\n")));
        }
    };
    list("have it", &report.have);
    list("wait for their turn", &report.wait);
    if !report.have_not.is_empty() {
        text.push_str("\ntold to take it, and do not have it:\n");
        text.push_str(&table(&report.have_not).render(screen));
    }
    text
}

/// What is held.
pub fn held(report: &Held, _screen: &Screen) -> String {
    let was = if report.was_held { " already" } else { "" };
    format!(
        "held{was}: number {} goes to no more hosts; {} were told to take it\n",
        report.number,
        who(&report.hosts, report.all)
    )
}

/// Who was told.
fn who(hosts: &[String], all: bool) -> String {
    match hosts {
        _ if all => "all hosts".into(),
        [] => "no hosts".into(),
        hosts => named(hosts),
    }
}

/// What was gone back to.
pub fn undone(report: &Undone, screen: &Screen) -> String {
    let who = who(&report.hosts, report.all);
    let told = if report.sealed.dry { "would be told" } else { "told" };
    format!("{}\n{told} to take it: {who}\n", sealed(&report.sealed, screen))
}

/// What a host took.
pub fn took(report: &Taken, screen: &Screen) -> String {
    let mut text = taken_line(report);
    if report.done == Took::Taken && !report.effects.is_nothing() {
        text.push_str(&format!("\n{}", effects(&report.effects, screen)));
    }
    if let Some(why) = &report.not_said {
        let remark = format!("the carrier could not be told how this host stands: {}", clean(why));
        text.push_str(&format!("\n{}\n", wrap(&remark, screen.width).join("\n")));
    }
    text
}

/// The same in a line.
pub fn taken_line(report: &Taken) -> String {
    let number = report.number.map(|it| format!("number {it}")).unwrap_or_default();
    match (report.done, &report.refused) {
        (Took::Taken, _) => format!("fleet: {number} was taken, and stays\n"),
        (Took::Refused, Some(refused)) => {
            format!(
                "fleet: {number} was not taken ({}): {}\n",
                clean(&refused.code),
                clean(&refused.why)
            )
        }
        _ => match (&report.has, report.number) {
            (Some(has), _) => format!("fleet: nothing new; this host has number {}\n", has.number),
            (None, _) => "fleet: this host was told to take nothing yet\n".into(),
        },
    }
}
