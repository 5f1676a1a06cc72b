//! Defaults, the baseline and who is turned away: what a host says, and what its labels say for it.

use super::super::Verdict;
use super::super::model::{Baseline, Default, Defaults, Expectation, Ping, TurnedAway};
use super::super::table::{Reader, Table};
use super::super::{Diagnostic, Origin, Rate, nearest};
use super::common::choice;
use crate::space::Direction;

/// What one section says; what it leaves out is `None`, or not in the list.
#[derive(std::default::Default)]
pub(super) struct Settings {
    pub defaults: [Option<(Verdict, Origin)>; 3],
    pub ping: Option<(Ping, Origin)>,
    pub switches: Vec<(&'static str, bool, Origin)>,
}

/// What a label brings to a host, its rules aside.
pub(super) struct Part {
    pub label: String,
    /// Where the host has it.
    pub origin: Origin,
    pub settings: Settings,
    pub expectations: Vec<Expectation>,
    pub turned_away: Option<TurnedAway>,
}

/// How pings are answered where nothing is written: 5 a second.
const PING: Ping = Ping::Rate(Rate { count: 5, seconds: 1, burst: 5, per_source: false });

impl Settings {
    /// Reads the tables `default` and `baseline` of a section.
    pub(super) fn read(reader: &mut Reader<'_>, section: &Table<'_, '_>) -> Self {
        let mut settings = Self::default();
        if let Some(table) = section.table(reader, "default") {
            settings.defaults =
                Direction::ALL.map(|direction| default(reader, &table, direction.as_str()));
        }
        if let Some(table) = section.table(reader, "baseline") {
            for key in table.spec.keys {
                if let (Some(on), Some(span)) = (table.switch(key.name), table.value_span(key.name))
                {
                    settings.switches.push((key.name, on, reader.origin(span)));
                }
            }
            settings.ping = ping(reader, &table);
        }
        settings
    }
}

/// The host's own settings, those of its labels where it says nothing, and what the language supplies.
pub(super) fn settled(
    reader: &mut Reader<'_>,
    own: &Settings,
    parts: &[Part],
) -> (Defaults, Baseline) {
    let mut one = |key: &str, is_set: &dyn Fn(&Settings) -> bool| -> Option<usize> {
        let setting: Vec<usize> =
            (0..parts.len()).filter(|&at| is_set(&parts[at].settings)).collect();
        if let ([first, second, ..], false) = (&setting[..], is_set(own)) {
            let (first, second) = (&parts[*first], &parts[*second]);
            let message =
                format!("the labels `{}` and `{}` both set `{key}`", first.label, second.label);
            reader.report(
                Diagnostic::error("two-labels", message, second.origin.clone())
                    .expected("say it in the host's own section, or in one of the labels only")
                    .context(first.origin.clone(), "the other one"),
            );
        }
        setting.first().copied()
    };
    let mut defaults = Direction::ALL.map(|direction| {
        let at = direction as usize;
        let key = format!("default.{direction}");
        let from = one(&key, &|it| it.defaults[at].is_some());
        own.defaults[at].clone().or_else(|| parts[from?].settings.defaults[at].clone())
    });
    let mut default = |direction: Direction, otherwise| match defaults[direction as usize].take() {
        Some((verdict, origin)) => Default { verdict, origin: Some(origin) },
        None => Default { verdict: otherwise, origin: None },
    };
    let defaults = Defaults {
        inbound: default(Direction::Inbound, Verdict::Deny),
        outbound: default(Direction::Outbound, Verdict::Allow),
        forwarded: default(Direction::Forwarded, Verdict::Deny),
    };
    let from = one("baseline.ping", &|it| it.ping.is_some());
    let ping = own.ping.clone().or_else(|| parts[from?].settings.ping.clone());
    let mut switches = own.switches.clone();
    for part in parts {
        for (key, on, origin) in &part.settings.switches {
            let same = |it: &(&'static str, bool, Origin)| it.0 == *key;
            if !switches.iter().any(same) {
                one(&format!("baseline.{key}"), &|it| it.switches.iter().any(same));
                switches.push((key, *on, origin.clone()));
            }
        }
    }
    let (ping, ping_origin) = ping.map_or((PING, None), |(ping, origin)| (ping, Some(origin)));
    (defaults, Baseline { ping, ping_origin, switches })
}

fn default(reader: &mut Reader<'_>, table: &Table<'_, '_>, key: &str) -> Option<(Verdict, Origin)> {
    let text = table.text(reader, key)?;
    let verdict =
        choice(reader, &text, &Verdict::ALL.map(Verdict::as_str)).and_then(Verdict::parse)?;
    Some((verdict, reader.origin(text.span)))
}

fn ping(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<(Ping, Origin)> {
    let text = table.text(reader, "ping")?;
    let origin = reader.origin(text.span.clone());
    let ping = match text.value.as_str() {
        "allow" => Ping::Allow,
        "deny" => Ping::Deny,
        "by-rules" => Ping::ByRules,
        other => match Rate::parse(other) {
            Ok(rate) => Ping::Rate(rate),
            Err(error) => {
                let origin = reader.origin(text.inner());
                let problem = error.problem(&text.value, origin, "`allow`, `deny`, `by-rules` or ");
                reader.report(match nearest(&text.value, ["allow", "deny", "by-rules"]) {
                    Some(word) => {
                        problem.expected(format!("did you mean `{word}`?")).replace_with(word)
                    }
                    None => problem,
                });
                return None;
            }
        },
    };
    Some((ping, origin))
}
