//! A line for each decision.

use super::alarm::Alarm;
use crate::render::{Format, Screen, Style, clean, clean_json};
use std::io::{ErrorKind, Write};
use std::time::{Duration, Instant};
use tipstaff_app::handing::Outlet;
use tipstaff_app::vocabulary::Verdict;
use tipstaff_app::watch::{Decision, Filter, Watching};
use tipstaff_app::{Failure, grouped};

/// When it is over.
#[derive(Clone, Copy, Debug, Default)]
pub struct Until {
    /// After so long.
    pub time: Option<Duration>,
    /// After so many decisions.
    pub count: Option<u64>,
}

/// So often it is asked how many decisions came too fast.
const ASK_EVERY: Duration = Duration::from_secs(1);
/// So long at most nothing else is looked at.
const PATIENCE: Duration = Duration::from_millis(200);

/// What is told of decisions that were not seen.
#[derive(serde::Serialize)]
struct Missed {
    /// How many decisions came too fast, since the last that is told.
    not_seen: u64,
}

/// Prints each decision until it is over, or nobody reads any more.
///
/// # Errors
/// [`Failure`] if the kernel tells nothing any more, or it cannot be written.
pub fn print(
    watching: &mut Watching,
    filter: &Filter,
    (format, screen, silent): (Format, &Screen, bool),
    until: Until,
    (alarm, outlets): (&mut Alarm, &[Outlet]),
) -> Result<(), Failure> {
    if let Some(remark) = &watching.remark {
        eprintln!("{remark}");
    }
    let began = Instant::now();
    let (mut asked, mut lost, mut told) = (began, 0, 0);
    let mut out = std::io::stdout().lock();
    loop {
        let over = until.time.is_some_and(|it| began.elapsed() >= it);
        let left = until.time.map_or(PATIENCE, |it| it.saturating_sub(began.elapsed()));
        let mut decisions = if over { Vec::new() } else { watching.next(left.min(PATIENCE))? };
        let mut missed = 0;
        if over || asked.elapsed() >= ASK_EVERY {
            asked = Instant::now();
            let (losses, more) = if over { watching.end()? } else { watching.losses()? };
            decisions.extend(more);
            missed = losses.lost.saturating_sub(lost);
            lost += missed;
        }
        let mut text = String::new();
        for decision in decisions.iter().filter(|it| filter.takes(it)) {
            if until.count.is_some_and(|it| told >= it) {
                break;
            }
            told += 1;
            alarm.ring(decision);
            outlets.iter().for_each(|it| it.decision(decision));
            if silent {
                continue;
            }
            match format {
                Format::Json => {
                    let json = serde_json::to_string(decision).unwrap_or_default();
                    text.push_str(&clean_json(&json));
                }
                _ => text.push_str(&line(decision, screen)),
            }
            text.push('\n');
        }
        for why in outlets.iter().filter_map(Outlet::trouble) {
            eprintln!("nobody takes what is handed on, and it is tried again: {}", clean(&why));
        }
        if missed > 0 {
            outlets.iter().for_each(|it| it.missed(missed));
        }
        if missed > 0 && !silent {
            match format {
                Format::Json => {
                    let json = serde_json::to_string(&Missed { not_seen: missed });
                    text.push_str(&json.unwrap_or_default());
                }
                _ => {
                    let words = format!("{} more were not seen: too many came", grouped(missed));
                    text.push_str(&screen.paint(Style::Wrong, &words));
                }
            }
            text.push('\n');
        }
        match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
            Err(error) if error.kind() == ErrorKind::BrokenPipe => return Ok(()),
            Err(error) => {
                return Err(Failure::System {
                    message: format!("cannot write the decisions: {error}"),
                    help: Vec::new(),
                });
            }
            Ok(()) => {}
        }
        if over || until.count.is_some_and(|it| told >= it) {
            return Ok(());
        }
    }
}

/// One decision in a line: what became of it first, then who decided.
fn line(decision: &Decision, screen: &Screen) -> String {
    let at = decision.time.get(11..23).unwrap_or(&decision.time);
    let by = clean(decision.by.as_deref().unwrap_or("(not known)"));
    let place = decision.places.first().map(|it| format!(" ({})", clean(it))).unwrap_or_default();
    let service = decision.service.as_deref().map(|it| format!(" ({it})")).unwrap_or_default();
    let direction = match decision.direction.as_str() {
        "inbound" => String::new(),
        other => format!("{other} "),
    };
    let verdict =
        screen.paint(style(decision.verdict), &format!("{:<6}", decision.verdict.as_str()));
    format!(
        "{at}  {verdict}  {direction}{}{service} from {} to {}{place} by {by}",
        clean(&decision.traffic),
        decision.from,
        decision.to,
    )
}

/// How a verdict looks.
pub(super) fn style(verdict: Verdict) -> Style {
    match verdict {
        Verdict::Allow => Style::Good,
        Verdict::Deny => Style::Closed,
        Verdict::Reject => Style::Mixed,
    }
}
