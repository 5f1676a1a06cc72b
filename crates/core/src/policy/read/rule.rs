//! One rule.

use super::super::Verdict;
use super::super::interfaces::interfaces as named_interfaces;
use super::super::model::{Log, Rule};
use super::super::table::{Reader, Table};
use super::super::terms::{self, Names};
use super::super::{Diagnostic, Ends, Rate, Time};
use super::common::{accepted, check_name, choice, nonempty_list};
use super::ends::{ends, own_ends};
use super::owners::{programs, users};
use super::published::published;
use crate::space::{Direction, Family, RangeSet, TrafficSet};

/// Reads one rule; what is wrong with it is reported. Whether its name is free is not looked at.
pub(super) fn rule(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
) -> Option<Rule> {
    let name = table.text(reader, "name");
    match &name {
        Some(name) => check_name(reader, "rule", name),
        None if !table.has("name") => {
            let origin = reader.origin(table.span.clone());
            reader.report(
                Diagnostic::error("missing-key", "this rule has no name", origin)
                    .expected("needs `name`, or `use` and a bundle"),
            );
        }
        None => {}
    }
    let verdict = the_verdict(reader, table);
    let (mut set, mut traffic_terms) = (TrafficSet::empty(), Vec::new());
    for verdict in Verdict::ALL.into_iter().filter(|it| table.has(it.as_str())) {
        let (more, terms) = traffic(reader, names, table, verdict.as_str());
        set = set.union(&more);
        traffic_terms.extend(terms);
    }
    let traffic = set;
    let direction = direction(reader, table);
    let (mut from, from_terms) = ends(reader, names, table, "from");
    let (mut to, to_terms) = ends(reader, names, table, "to");
    let (at, at_terms) = own_ends(reader, names, table, direction);
    match direction {
        Direction::Outbound => from = from.intersection(&at),
        Direction::Inbound | Direction::Forwarded => to = to.intersection(&at),
    }
    let source_ports = source_ports(reader, table, &traffic);
    let (published, published_terms) = published(reader, names, table, direction, &traffic);
    let (ingress, egress) = interfaces(reader, names, table, direction);
    let rate = rate(reader, table);
    let (programs, users) = (programs(reader, table, direction), users(reader, table, direction));
    let log = log(reader, table);
    let until = until(reader, table);
    let paused = table.switch("paused").unwrap_or(false);
    let why = table.text(reader, "why").map(|text| text.value);
    let accepted = accepted(reader, table);
    let (name, verdict) = (name?, verdict?);
    one_version_at_least(reader, table, &from, &to);
    Some(Rule {
        origin: reader.origin(name.span),
        name: name.value,
        verdict,
        traffic,
        traffic_terms,
        direction,
        from,
        from_terms,
        to,
        to_terms,
        at_terms,
        ingress,
        egress,
        source_ports,
        published,
        published_terms,
        rate,
        programs,
        users,
        log,
        until,
        paused,
        bundle: None,
        label: None,
        why,
        accepted,
    })
}

/// The traffic that a list of terms names together, and the terms.
pub(super) fn traffic(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    key: &str,
) -> (TrafficSet, Vec<String>) {
    let (mut meant, mut left_out) = (TrafficSet::empty(), TrafficSet::empty());
    let list = nonempty_list(reader, table, key);
    let before = reader.problems.len();
    for term in &list {
        let (term, all) = match term.value.starts_with('!') {
            true => (&term.after(1), &mut left_out),
            false => (term, &mut meant),
        };
        if let Some(set) = terms::traffic(reader, names.services, term) {
            *all = all.union(&set);
        }
    }
    // Who only says what is not meant means all else.
    if list.iter().all(|it| it.value.starts_with('!')) && !list.is_empty() {
        meant = TrafficSet::any();
    }
    let traffic = meant.difference(&left_out);
    if let (true, true, Some(span)) = (
        traffic.is_empty() && !list.is_empty(),
        reader.problems.len() == before,
        table.value_span(key),
    ) {
        let origin = reader.origin(span);
        let message = format!("`{key}` leaves out all that it names");
        reader.report(
            Diagnostic::error("nothing-left", message, origin).expected("no packet can match"),
        );
    }
    (traffic, list.into_iter().map(|term| term.value).collect())
}

/// The `direction` key; inbound when left out.
pub(super) fn direction(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Direction {
    let text = table.text(reader, "direction");
    let word = text.as_ref().and_then(|text| {
        choice(reader, text, &Direction::ALL.map(Direction::as_str)).and_then(Direction::parse)
    });
    word.unwrap_or(Direction::Inbound)
}

/// The `log` key: off when left out.
fn log(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Log> {
    if let Some(on) = table.switch("log") {
        return on.then_some(Log { cap: None });
    }
    let text = table.text(reader, "log")?;
    let origin = reader.origin(text.inner());
    match Rate::parse(&text.value) {
        Ok(rate) if rate.per_source => {
            reader.report(
                Diagnostic::error("log-per-source", "reports are counted all together", origin)
                    .expected("a cap on them has no `per source`"),
            );
            None
        }
        Ok(rate) => Some(Log { cap: Some(rate) }),
        Err(error) => {
            reader.report(error.problem(&text.value, origin, "`true` without quotes, or "));
            None
        }
    }
}

/// Reads the key `until` of a rule.
fn until(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Time> {
    let text = table.time(reader, "until")?;
    let time = Time::parse(&text.value);
    if time.is_none() {
        let origin = reader.origin(text.inner());
        let message = format!("`{}` is not a moment", text.value.escape_debug());
        reader.report(
            Diagnostic::error("bad-time", message, origin)
                .expected("expected date, time and zone, such as 2026-12-24T18:00:00Z")
                .help("the zone is Z for UTC, or like +01:00; the year is before 2554"),
        );
    }
    time
}

/// A rule from IPv4 senders to IPv6 receivers can never match anything.
fn one_version_at_least(reader: &mut Reader<'_>, table: &Table<'_, '_>, from: &Ends, to: &Ends) {
    let span = ["to", "at", "from"].iter().find_map(|key| table.value_span(key));
    let possible = Family::BOTH.iter().any(|&family| from.has(family) && to.has(family));
    if let (false, false, false, Some(span)) = (possible, from.is_empty(), to.is_empty(), span) {
        let problem = Diagnostic::error(
            "mixed-versions",
            "senders and receivers of this rule are of different IP versions",
            reader.origin(span),
        )
        .expected("no packet can match");
        reader.report(problem);
    }
}

fn the_verdict(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Verdict> {
    let present: Vec<Verdict> =
        Verdict::ALL.into_iter().filter(|verdict| table.has(verdict.as_str())).collect();
    match present[..] {
        [verdict] => Some(verdict),
        [] => {
            let origin = reader.origin(table.span.clone());
            reader.report(
                Diagnostic::error("no-verdict", "this rule does not say what to do", origin)
                    .expected("needs one of `allow`, `deny` and `reject`"),
            );
            None
        }
        [first, second, ..] => {
            let at = |verdict: Verdict| table.key_span(verdict.as_str()).unwrap_or(0..0);
            let (first_at, second_at) = (reader.origin(at(first)), reader.origin(at(second)));
            reader.report(
                Diagnostic::error(
                    "two-verdicts",
                    format!("this rule has both `{}` and `{}`", first.as_str(), second.as_str()),
                    second_at,
                )
                .expected("a rule has exactly one of them; make it two rules")
                .context(first_at, "the other one"),
            );
            None
        }
    }
}

/// The interfaces of the keys `ingress` and `egress`. Only forwarded packets have both.
pub(super) fn interfaces(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
) -> (Vec<String>, Vec<String>) {
    let foreign = match direction {
        Direction::Inbound => Some(("egress", "ingress", "go out by no interface")),
        Direction::Outbound => Some(("ingress", "egress", "come in by no interface")),
        Direction::Forwarded => None,
    };
    if let Some((key, own, why)) = foreign
        && let Some(span) = table.key_span(key)
    {
        let origin = reader.origin(span);
        let mut problem =
            Diagnostic::error("wrong-interface-key", format!("{direction} packets {why}"), origin)
                .expected(format!("`{own}` names their interface"));
        if !table.has(own) {
            problem = problem.replace_with(own);
        }
        reader.report(problem);
    }
    let mut list = |key: &str| -> Vec<String> {
        let list = nonempty_list(reader, table, key);
        named_interfaces(reader, names, &list)
    };
    (list("ingress"), list("egress"))
}

fn rate(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Rate> {
    let text = table.text(reader, "rate")?;
    if !table.has(Verdict::Allow.as_str()) {
        let origin = reader.origin(table.key_span("rate").unwrap_or_else(|| text.inner()));
        reader.report(
            Diagnostic::error("rate-without-allow", "only what is allowed has a rate", origin)
                .expected("beyond the rate of an `allow` rule, packets are denied"),
        );
    }
    match Rate::parse(&text.value) {
        Ok(rate) => Some(rate),
        Err(error) => {
            let origin = reader.origin(text.inner());
            reader.report(error.problem(&text.value, origin, ""));
            None
        }
    }
}

fn source_ports(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    traffic: &TrafficSet,
) -> RangeSet<u16> {
    let Some(key) = table.key_span("source-ports") else { return RangeSet::full() };
    let list = nonempty_list(reader, table, "source-ports");
    let ranges: Vec<(u16, u16)> =
        list.iter().filter_map(|term| terms::ports(reader, term)).collect();
    if !traffic.has_ports() && *traffic != TrafficSet::empty() {
        let origin = reader.origin(key);
        reader.report(
            Diagnostic::error("no-ports", "the traffic of this rule has no ports", origin)
                .expected("only TCP, UDP and SCTP have source ports"),
        );
    }
    RangeSet::from_ranges(ranges)
}
