//! What was made of others' rules, and what was not.

use tipstaff_app::adopted::{Differs, NotTaken, Report, Step, Tried};
use tipstaff_app::grouped;
use tipstaff_app::rehearse::Witness;

/// What is said beside the policy, line by line.
pub fn adopted(report: &Report) -> Vec<String> {
    let mut lines = vec![summary(report)];
    for table in report.tables.iter().filter(|it| it.leads) {
        lines.push(format!(
            "the table `{}` leads packets elsewhere; no policy does that, so it has to stay",
            table.name
        ));
    }
    lines.extend(report.unread.iter().map(|it| format!("there is more that cannot be read: {it}")));
    lines.extend(report.not_taken.iter().map(not_taken));
    lines.extend(report.beside.iter().map(|it| {
        let keeps = if it.sure { "keeps packets out" } else { "may keep packets out" };
        format!("{} {keeps} where no policy does ({}): it is not taken", it.chain, it.hook)
    }));
    lines.extend(report.differs.iter().map(differs));
    lines.extend(report.idle.iter().map(|it| format!("{it} decides about no packet")));
    if let Some(tried) = &report.tried {
        lines.extend(tried_lines(tried, "a copy of this machine with others' rules alone"));
    }
    for (at, step) in report.hand_over.iter().flatten().enumerate() {
        lines.extend(step_lines(at + 1, step));
    }
    lines
}

fn summary(report: &Report) -> String {
    let rules: usize = report.tables.iter().filter(|it| it.decides).map(|it| it.rules).sum();
    let tables = report.tables.iter().filter(|it| it.decides).count();
    let (s, es) = (plural(rules), plural(tables));
    let (taken, said) = (report.taken.len(), report.said_already.len());
    let not_taken = report.not_taken.len();
    let mut line = format!(
        "of {rules} rule{s} of others in {tables} table{es}, {taken} are said by rules of the policy, {said} by its \
         baseline and defaults, {not_taken} not"
    );
    match rules.saturating_sub(taken + said + not_taken + report.idle.len()) {
        0 => {}
        1 => line.push_str("; 1 only leads on, counts or reports"),
        more => line.push_str(&format!("; {more} only lead on, count or report")),
    }
    line
}

fn plural(count: usize) -> &'static str {
    if count == 1 { "" } else { "s" }
}

fn not_taken(it: &NotTaken) -> String {
    let more = if it.keeps_out { "; without it, the policy may let in more" } else { "" };
    format!("{} is not taken: {}{more}", it.rule, it.why)
}

fn differs(it: &Differs) -> String {
    let packet = &it.packet;
    let word = |verdict: Option<tipstaff_app::vocabulary::Verdict>| match verdict {
        Some(verdict) => verdict.to_string(),
        None => "nobody knows what".into(),
    };
    format!(
        "otherwise: {} {} ({}) from {} to {}{}: {} says {}, the policy {} ({})",
        packet.direction,
        packet.traffic(),
        packet.state,
        packet.source,
        packet.destination,
        packet.way(),
        it.theirs,
        word(it.their_verdict),
        word(it.our_verdict),
        it.ours,
    )
}

fn tried_lines(tried: &Tried, what: &str) -> Vec<String> {
    let ports = if tried.every_port { "every port" } else { "the ports that rules tell apart" };
    let found = match tried.disagreements {
        0 => "all met what the policy says".to_owned(),
        some => format!("{} met something else than the policy says", grouped(some)),
    };
    let crossed = match (tried.outbound, tried.forwarded) {
        (Some(outbound), Some(0)) => format!(", and {} outbound", grouped(outbound)),
        (Some(outbound), Some(forwarded)) => {
            format!(", {} outbound and {} forwarded", grouped(outbound), grouped(forwarded))
        }
        _ => ", none outbound or forwarded, as packets are led elsewhere there".to_owned(),
    };
    let mut lines = vec![format!(
        "tried on {what}: {} packets to {ports}{crossed}, {found}",
        grouped(tried.packets)
    )];
    if tried.left_out > 0 {
        lines.push(format!(
            "left out, as they are too many: {} outbound or forwarded",
            grouped(tried.left_out)
        ));
    }
    lines.extend(tried.witnesses.iter().map(witness));
    lines.extend(tried.missing.iter().map(|it| format!("not copied: {it}")));
    lines
}

fn witness(it: &Witness) -> String {
    let packet = &it.packet;
    format!(
        "{} from {} to {}{}: the policy says {} ({}), it was {}",
        packet.traffic(),
        packet.source,
        packet.destination,
        packet.way(),
        it.policy,
        it.decided_by.name,
        it.met,
    )
}

fn step_lines(number: usize, step: &Step) -> Vec<String> {
    let mut lines = vec![format!("step {number}: {}", step.what)];
    if let Some(tried) = &step.tried {
        lines.extend(tried_lines(tried, "a copy as it is then"));
    }
    lines
}
