//! `programs` as text.

use super::{Cell, Screen, Style, Table, clean, wrap};
use tipstaff_app::programs::{Program, Report};
use tipstaff_app::vocabulary::AtPath;

/// The report as text.
pub fn programs(report: &Report, screen: &Screen) -> String {
    let title = if report.users.is_empty() { "Programs" } else { "Programs and users" };
    let title = format!("{title} that rules name");
    let mut text = format!("{}\n", screen.paint(Style::Strong, &title));
    if report.programs.is_empty() && report.users.is_empty() && report.trouble.is_empty() {
        text.push_str("  none: no rule in force is about a program or user\n");
        return text;
    }
    if !report.programs.is_empty() {
        let mut table = Table::new(["program", "known by its sockets", "processes"]);
        for program in &report.programs {
            table.row(vec![
                Cell::new(clean(&program.path), Style::Plain),
                known(program),
                processes(program),
            ]);
        }
        text.push_str(&table.render(screen));
    }
    if !report.users.is_empty() {
        let mut table = Table::new(["user", "known by their sockets", "number"]);
        for user in &report.users {
            table.row(vec![
                Cell::new(clean(&user.name), Style::Plain),
                match (user.recognised, user.number) {
                    (true, _) => Cell::new("yes", Style::Good),
                    (false, None) => Cell::new("no such user", Style::Mixed),
                    (false, Some(_)) => Cell::new("no: another number now", Style::Mixed),
                },
                Cell::plain(user.number.map(|it| it.to_string()).unwrap_or_default()),
            ]);
        }
        text.push_str(&table.render(screen));
    }
    for trouble in &report.trouble {
        for (at, line) in wrap(&clean(trouble), screen.width.saturating_sub(4)).iter().enumerate() {
            let lead = if at == 0 { "  ! " } else { "    " };
            text.push_str(&format!("{}\n", screen.paint(Style::Mixed, &format!("{lead}{line}"))));
        }
    }
    for less in &report.not_recognised {
        for line in wrap(&format!("this kernel: {}", clean(less)), screen.width) {
            text.push_str(&format!("{}\n", screen.paint(Style::Faint, &line)));
        }
    }
    text
}

fn known(program: &Program) -> Cell {
    match (program.file, program.recognised) {
        (AtPath::Missing, _) => Cell::new("no such file", Style::Mixed),
        (AtPath::NotExecutable, _) => Cell::new("not executable", Style::Mixed),
        (AtPath::Script, _) => Cell::new("never: a script", Style::Mixed),
        (_, true) => Cell::new("yes", Style::Good),
        (_, false) => Cell::new("no: another file now", Style::Mixed),
    }
}

fn processes(program: &Program) -> Cell {
    const SHOWN: usize = 6;
    let word = |pid: &u32| {
        let old = if program.outdated.contains(pid) { " (old file)" } else { "" };
        format!("{pid}{old}")
    };
    let mut words: Vec<String> = program.processes.iter().take(SHOWN).map(word).collect();
    if let Some(more) = program.processes.len().checked_sub(SHOWN).filter(|it| *it > 0) {
        words.push(format!("{more} more"));
    }
    if words.is_empty() {
        return Cell::new("none runs", Style::Faint);
    }
    Cell::new(words.join(", "), Style::Plain)
}

/// What rules name that was recognised anew by whoever attends, in a line, and what is wrong with it.
pub fn recognised(report: &Report) -> String {
    let programs = report.programs.iter().filter(|it| it.recognised).map(|it| clean(&it.path));
    let users = report.users.iter().filter(|it| it.recognised).map(|it| clean(&it.name));
    let names: Vec<String> = programs.chain(users).collect();
    let mut text = format!("recognised as they are now: {}\n", names.join(", "));
    for trouble in &report.trouble {
        text.push_str(&format!("{}\n", clean(trouble)));
    }
    text
}
