//! `enforce`, `confirm`, `revert` and `release` as text.

use super::{Screen, Style, clean, effects, regions};
use tipstaff_app::StaysOpen;
use tipstaff_app::effect::Effects;
use tipstaff_app::enforce::Report as Enforced;
use tipstaff_app::transaction::{Booted, Report, Settled};
use tipstaff_app::vocabulary::{AtPath, BootDid, Changed, Decided};

/// What a change did.
pub fn enforced(report: &Report, screen: &Screen) -> String {
    let mut text = match (report.done, &report.enforced) {
        (Changed::NothingToRelease, _) => {
            return "nothing to release: no rules of ours are in the kernel\n".into();
        }
        (_, None) => {
            let lead = screen.paint(Style::Mixed, "released");
            format!("{lead}: our rules are out of the kernel and stop nothing any more\n")
        }
        (Changed::WouldEnforce, Some(rules)) => {
            format!("{} {}", screen.paint(Style::Mixed, "would enforce"), summary(rules))
        }
        (Changed::Unchanged, Some(rules)) => {
            let lead = screen.paint(Style::Good, "in force already");
            let host = clean(&rules.host);
            format!("{lead} {host}: nothing was changed, and what was counted stays\n")
        }
        (_, Some(rules)) => format!("{} {}", screen.paint(Style::Good, "enforced"), summary(rules)),
    };
    if !report.effects.is_nothing() && !report.told {
        text.push_str(&format!("\n{}", effects(&report.effects, screen)));
    }
    text.push_str(&stays_open(&report.stays_open, screen));
    if let Some(rules) = &report.enforced {
        text.push_str(&programs(rules, screen));
    }
    match (&report.living, report.living_on) {
        (Some(ended), _) if !ended.living.is_empty() => {
            text.push_str(&format!("\n{}", super::cut(ended, screen)));
        }
        (_, Some(count)) if count > 0 => {
            let what = if count == 1 { "1 connection lives" } else { "connections live" };
            let many = if count == 1 { String::new() } else { format!("{count} ") };
            let them = if count == 1 { "it" } else { "them" };
            text.push_str(&format!(
                "\n{many}{what} on that the policy would not admit; `tipstaff cut` ends {them}\n"
            ));
        }
        _ => {}
    }
    text.extend(report.remarks.iter().map(|it| format!("{}\n", clean(it))));
    if let (Some(seconds), Some(entry)) = (report.confirm_within, report.entry) {
        let lead = screen.paint(Style::Mixed, "not kept yet:");
        text.push_str(&format!(
            "\n{lead} entry {entry} goes back by itself in {seconds} seconds.\n\
             Open a new session, try what you need, and keep it there with `tipstaff confirm`.\n"
        ));
    }
    text
}

/// What the first rules leave open.
fn stays_open(directions: &[StaysOpen], screen: &Screen) -> String {
    let mut text = String::new();
    for it in directions {
        let lead = screen.paint(Style::Strong, it.direction.as_str());
        let words = match &it.open {
            _ if it.everything => "everything stays open",
            None => "some is closed, some stays open: too much to be told",
            Some(open) if open.is_empty() && it.more == 0 => {
                "everything is closed, but for what the baseline serves"
            }
            Some(_) => "closed from now on, but for what the baseline serves and",
        };
        text.push_str(&format!("\n{lead}: {words}\n"));
        for open in it.open.iter().flatten().filter(|_| !it.everything) {
            let rate = open.rate.as_ref().map(|it| format!(", {it}")).unwrap_or_default();
            let by = format!(" ({}{rate})\n", clean(&open.by.name));
            text.push_str(&regions(&open.regions, "  ").replace('\n', &by));
        }
        if it.more > 0 && !it.everything {
            text.push_str(&format!(
                "  and what {} more rules allow; `tipstaff show` lists them\n",
                it.more
            ));
        }
    }
    text
}

/// Rules that are left out for their programs, and programs that are not what rules take them for.
fn programs(rules: &Enforced, screen: &Screen) -> String {
    let mut lines = Vec::new();
    if !rules.left_out.is_empty() {
        let names: Vec<String> = rules.left_out.iter().map(|it| clean(it)).collect();
        lines.push(format!("left out, since they name programs or users: {}", names.join(", ")));
    }
    for program in rules.programs.iter().filter(|it| it.file != AtPath::Program) {
        let path = clean(&program.path);
        lines.push(match program.file {
            AtPath::Script => format!("{path} is a script: rules for it match nothing"),
            AtPath::Missing => format!("{path} is not there: rules for it match nothing yet"),
            _ => format!("{path} may not be executed: rules for it match nothing"),
        });
    }
    lines.extend(rules.not_recognised.iter().map(|it| format!("this kernel: {}", clean(it))));
    let mut text = String::new();
    for line in lines {
        let lead = screen.paint(Style::Mixed, "programs:");
        text.push_str(&format!("{lead} {line}\n"));
    }
    text
}

/// What will change, told before it does.
pub fn will_change(list: &Effects, screen: &Screen) -> String {
    format!("{}\n{}\n", screen.paint(Style::Strong, "this will change:"), effects(list, screen))
}

/// Which rules a change concerns.
fn summary(report: &Enforced) -> String {
    let host = clean(&report.host);
    let mut parts = Vec::new();
    match &report.replaced {
        None => parts.push("no rules of ours were in force before".to_owned()),
        Some(other) if *other != report.host => {
            parts.push(format!("in place of the rules of {}", clean(other)));
        }
        Some(_) => {
            for (word, names) in
                [("new", &report.new), ("changed", &report.changed), ("gone", &report.gone)]
            {
                if !names.is_empty() {
                    parts.push(format!("{word}: {}", clean(&names.join(", "))));
                }
            }
            if parts.is_empty() {
                parts.push("nothing changed".into());
            }
        }
    }
    let rules = match report.rules {
        1 => "1 rule".to_owned(),
        count => format!("{count} rules"),
    };
    let paused = match report.paused {
        0 => String::new(),
        count => format!(", {count} paused"),
    };
    let ended = match report.ended.len() {
        0 => String::new(),
        count => format!(", {count} ended and left out ({})", clean(&report.ended.join(", "))),
    };
    format!("{host}: {rules}{paused}{ended}; {}\n", parts.join("; "))
}

/// What `confirm`, or going back at once, did.
pub fn settled(report: &Settled, screen: &Screen) -> String {
    let entry = report.entry;
    let mut text = match (report.done, report.back_to) {
        (Decided::Confirmed, _) => {
            format!("{} entry {entry}: it stays\n", screen.paint(Style::Good, "confirmed"))
        }
        (_, Some(id)) => {
            let lead = screen.paint(Style::Closed, "went back");
            format!("{lead} from entry {entry}: entry {id} is in force again\n")
        }
        (_, None) => {
            let lead = screen.paint(Style::Closed, "went back");
            format!("{lead} from entry {entry}: our rules are out of the kernel\n")
        }
    };
    text.extend(report.remarks.iter().map(|it| format!("  {}\n", clean(it))));
    text
}

/// What was loaded at boot.
pub fn booted(report: &Booted, screen: &Screen) -> String {
    let host = clean(report.host.as_deref().unwrap_or_default());
    let entry = report.entry.unwrap_or_default();
    let mut text = match report.done {
        BootDid::Loaded => {
            format!("{} {host}, as of entry {entry}\n", screen.paint(Style::Good, "loaded"))
        }
        BootDid::LoadedEarlier => {
            format!(
                "{} {host}, as of entry {entry}\n",
                screen.paint(Style::Mixed, "loaded an earlier policy of")
            )
        }
        BootDid::LoadedWithoutPrograms => {
            format!(
                "{} {host}, as of entry {entry}\n",
                screen.paint(Style::Mixed, "loaded, without its rules for programs and users,")
            )
        }
        BootDid::There => format!("nothing loaded: rules of {host} are in the kernel\n"),
        BootDid::Waits => "nothing loaded: a change waits to be confirmed\n".into(),
        BootDid::Released => "nothing loaded: the rules were released\n".into(),
        BootDid::Closed => {
            let lead = screen.paint(Style::Wrong, "closed");
            let shell = clean(&report.shell.join(", "));
            format!("{lead} {host}: only the baseline and the remote shell ({shell}) stay open\n")
        }
        BootDid::Open => {
            let lead = screen.paint(Style::Wrong, "open");
            format!(
                "{lead} {host}: no rules could be loaded, and the policy lets everything pass then\n"
            )
        }
        BootDid::NothingConfirmed => {
            "nothing loaded: no policy was confirmed yet, and everything passes; begin with \
              `tipstaff draft`, then `tipstaff enforce`\n"
                .into()
        }
    };
    for line in &report.trouble {
        text.push_str(&format!("  {}\n", clean(line)));
    }
    text
}
