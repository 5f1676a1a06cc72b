//! Text to [`Policy`]: every mistake in the file is found in one run.

use super::model::{Baseline, Default, Defaults, Host, Ping, Place, Policy, Rule, Verdict};
use super::table::{Reader, Table, Text};
use super::terms::{BUILT_IN_PLACES, Names};
use super::{Diagnostic, Origin, Rate, RateError, Source, nearest, terms};
use crate::space::{AddressSet, Direction, RangeSet, TrafficSet};
use std::collections::HashMap;
use std::net::IpAddr;
use toml::de::DeTable;

/// The edition of the language that this version reads.
const EDITION: &str = "1";

/// Reads a policy.
///
/// # Errors
/// Everything that is wrong with the text, in the order of the text. When it is not TOML at all,
/// only the first mistake is given, since the rest would be echoes of it.
///
/// # References
/// TOML 1.1, <https://toml.io/en/v1.1.0>.
pub fn read(source: &Source) -> Result<Policy, Vec<Diagnostic>> {
    let text = source.text.as_ref();
    let root = match DeTable::parse(text) {
        Ok(root) => root,
        Err(error) => return Err(vec![syntax(source, &error)]),
    };
    let mut reader = Reader { source, problems: Vec::new() };
    let file = Table::check(&mut reader, "", root.get_ref(), 0..0);
    edition(&mut reader, &file);
    let places = places(&mut reader, &file);
    let hosts: Vec<Host> = file
        .named(&mut reader, "host")
        .into_iter()
        .map(|(name, table)| host(&mut reader, &places, &name, &table))
        .collect();
    if hosts.is_empty() && !file.has("host") {
        reader.report(
            Diagnostic::general("no-host", "the policy has no host")
                .help("add a section such as [host.sluice] with `addresses` and rules"),
        );
    }
    let mut problems = reader.problems;
    if problems.is_empty() {
        return Ok(Policy { sources: vec![source.clone()], places, hosts });
    }
    problems.sort_by_key(Diagnostic::offset);
    Err(problems)
}

/// Reads one traffic term that stands alone, such as an argument of a command.
///
/// # Errors
/// What is wrong with it.
pub fn read_traffic(source: &Source) -> Result<TrafficSet, Vec<Diagnostic>> {
    let mut reader = Reader { source, problems: Vec::new() };
    let set = terms::traffic(&mut reader, &Text::whole(source));
    set.ok_or(reader.problems)
}

/// Reads one sender or receiver that stands alone: a place of the policy, or an address.
///
/// # Errors
/// What is wrong with it.
pub fn read_addresses(policy: &Policy, source: &Source) -> Result<AddressSet, Vec<Diagnostic>> {
    let mut reader = Reader { source, problems: Vec::new() };
    let names = Names { places: &policy.places, this_host: None };
    let set = terms::addresses(&mut reader, &names, &[Text::whole(source)]);
    if reader.problems.is_empty() { Ok(set) } else { Err(reader.problems) }
}

fn syntax(source: &Source, error: &toml::de::Error) -> Diagnostic {
    let length = source.text.len();
    let span = error.span().unwrap_or(length..length);
    let message = error.message().lines().next().unwrap_or("this is not TOML").to_owned();
    let is_duplicate = message == "duplicate key";
    let problem = Diagnostic::error("syntax", message, source.origin(span));
    if is_duplicate { problem.expected("each name is defined once") } else { problem }
}

fn edition(reader: &mut Reader<'_>, file: &Table<'_, '_>) {
    let (Some(found), Some(span)) = (file.number("edition"), file.value_span("edition")) else {
        return;
    };
    if found != EDITION {
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error("edition", format!("edition {found} is not known"), origin)
                .expected(format!("this version reads edition {EDITION}")),
        );
    }
}

fn places(reader: &mut Reader<'_>, file: &Table<'_, '_>) -> Vec<Place> {
    let mut places = Vec::new();
    for (name, table) in file.named(reader, "place") {
        check_name(reader, "place", &name);
        if BUILT_IN_PLACES.contains(&name.value.as_str()) {
            let origin = reader.origin(name.span.clone());
            let message = format!("`{}` is a place of the language", name.value);
            reader.report(
                Diagnostic::error("reserved-name", message, origin).expected("choose another name"),
            );
        }
        let blocks = nonempty_list(reader, &table, "addresses");
        let addresses =
            blocks.iter().filter_map(|term| terms::block_or_range(reader, term)).collect();
        places.push(Place {
            addresses,
            why: table.text(reader, "why").map(|text| text.value),
            origin: reader.origin(name.span),
            name: name.value,
        });
    }
    places
}

fn host(reader: &mut Reader<'_>, places: &[Place], name: &Text, table: &Table<'_, '_>) -> Host {
    check_name(reader, "host", name);
    let addresses: Vec<IpAddr> = nonempty_list(reader, table, "addresses")
        .iter()
        .filter_map(|term| own_address(reader, term))
        .collect();
    let own = addresses.iter().map(|&address| AddressSet::single(address)).collect();
    let names = Names { places, this_host: Some(&own) };
    let defaults = table.table(reader, "default");
    let baseline = table.table(reader, "baseline");
    let mut first_of: HashMap<String, Origin> = HashMap::new();
    let mut rules = Vec::new();
    for table in table.tables(reader, "rule") {
        if let Some(rule) = rule(reader, &names, &mut first_of, &table) {
            rules.push(rule);
        }
    }
    Host {
        name: name.value.clone(),
        addresses,
        defaults: Defaults {
            inbound: default(reader, defaults.as_ref(), "inbound", Verdict::Deny),
            outbound: default(reader, defaults.as_ref(), "outbound", Verdict::Allow),
            forwarded: default(reader, defaults.as_ref(), "forwarded", Verdict::Deny),
        },
        baseline: read_baseline(reader, baseline.as_ref()),
        rules,
        origin: reader.origin(name.span.clone()),
    }
}

fn own_address(reader: &mut Reader<'_>, term: &Text) -> Option<IpAddr> {
    let block = terms::block(reader, term)?;
    let address = block.as_single();
    if address.is_none() {
        let origin = reader.origin(term.inner());
        reader.report(
            Diagnostic::error("bad-address", format!("`{block}` is a network"), origin)
                .expected("expected one of the host's own addresses, without a prefix length"),
        );
    }
    address
}

fn default(
    reader: &mut Reader<'_>,
    table: Option<&Table<'_, '_>>,
    key: &str,
    otherwise: Verdict,
) -> Default {
    let written = table.and_then(|table| table.text(reader, key));
    let Some(text) = written else {
        return Default { verdict: otherwise, origin: None };
    };
    let verdict = choice(reader, &text, &Verdict::ALL.map(Verdict::as_str))
        .and_then(Verdict::parse)
        .unwrap_or(otherwise);
    Default { verdict, origin: Some(reader.origin(text.span)) }
}

fn read_baseline(reader: &mut Reader<'_>, table: Option<&Table<'_, '_>>) -> Baseline {
    let usual = Ping::Rate(Rate { count: 5, seconds: 1, burst: 5 });
    let Some(text) = table.and_then(|table| table.text(reader, "ping")) else {
        return Baseline { ping: usual, ping_origin: None };
    };
    let ping = match text.value.as_str() {
        "allow" => Ping::Allow,
        "deny" => Ping::Deny,
        other => match Rate::parse(other) {
            Ok(rate) => Ping::Rate(rate),
            Err(error) => {
                let origin = reader.origin(text.inner());
                reader.report(bad_rate(&text.value, error, origin));
                usual
            }
        },
    };
    Baseline { ping, ping_origin: Some(reader.origin(text.span)) }
}

fn bad_rate(found: &str, error: RateError, origin: Origin) -> Diagnostic {
    let problem = Diagnostic::error("bad-rate", format!("`{found}` is not a rate"), origin);
    match error {
        RateError::Form => {
            problem.expected("expected `allow`, `deny` or a rate such as `5/second`")
        }
        RateError::Count => problem.expected(format!("the number goes from 1 to {}", Rate::MOST)),
        RateError::Unit => problem.expected("the unit is `second`, `minute`, `hour` or `day`"),
        RateError::Burst => {
            problem.expected(format!("after the comma: `burst` and a number up to {}", Rate::MOST))
        }
    }
}

fn rule(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    first_of: &mut HashMap<String, Origin>,
    table: &Table<'_, '_>,
) -> Option<Rule> {
    let name = table.text(reader, "name");
    if let Some(name) = &name {
        check_name(reader, "rule", name);
        let origin = reader.origin(name.span.clone());
        match first_of.get(&name.value) {
            Some(first) => reader.report(
                Diagnostic::error(
                    "duplicate-name",
                    format!("this host has two rules named `{}`", name.value),
                    origin,
                )
                .expected("choose another name")
                .context(first.clone(), "the first one"),
            ),
            None => {
                first_of.insert(name.value.clone(), origin);
            }
        }
    }
    let verdict = the_verdict(reader, table);
    let (mut traffic, mut traffic_terms) = (TrafficSet::empty(), Vec::new());
    for verdict in Verdict::ALL {
        for term in nonempty_list(reader, table, verdict.as_str()) {
            if let Some(set) = terms::traffic(reader, &term) {
                traffic = traffic.union(&set);
            }
            traffic_terms.push(term.value);
        }
    }
    let direction = match table.text(reader, "direction") {
        None => Direction::Inbound,
        Some(text) => choice(reader, &text, &Direction::ALL.map(Direction::as_str))
            .and_then(Direction::parse)
            .unwrap_or(Direction::Inbound),
    };
    let (mut from, from_terms) = ends(reader, names, table, "from");
    let (mut to, to_terms) = ends(reader, names, table, "to");
    let (at, at_terms) = own_ends(reader, names, table, direction);
    match direction {
        Direction::Outbound => from = from.intersection(&at),
        Direction::Inbound | Direction::Forwarded => to = to.intersection(&at),
    }
    let source_ports = source_ports(reader, table, &traffic);
    let paused = table.switch("paused").unwrap_or(false);
    let why = table.text(reader, "why").map(|text| text.value);
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
        source_ports,
        paused,
        why,
    })
}

/// A rule from IPv4 senders to IPv6 receivers can never match anything.
fn one_version_at_least(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    from: &AddressSet,
    to: &AddressSet,
) {
    use crate::space::Family;
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

fn ends(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    key: &str,
) -> (AddressSet, Vec<String>) {
    if !table.has(key) {
        return (AddressSet::full(), Vec::new());
    }
    let list = nonempty_list(reader, table, key);
    let before = reader.problems.len();
    let set = terms::addresses(reader, names, &list);
    let understood = !list.is_empty() && reader.problems.len() == before;
    if let (true, true, Some(span)) = (understood, set.is_empty(), table.value_span(key)) {
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error(
                "nobody-left",
                format!("`{key}` leaves out all that it names"),
                origin,
            )
            .expected("no packet can match"),
        );
    }
    (set, list.into_iter().map(|term| term.value).collect())
}

/// The `at` key: some of the host's own addresses; all addresses when left out.
fn own_ends(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
) -> (AddressSet, Vec<String>) {
    let Some(key) = table.key_span("at") else { return (AddressSet::full(), Vec::new()) };
    if direction == Direction::Forwarded {
        let origin = reader.origin(key);
        reader.report(
            Diagnostic::error("at-forwarded", "forwarded packets are not for this host", origin)
                .expected("name receivers with `to`, senders with `from`"),
        );
    }
    let list = nonempty_list(reader, table, "at");
    let mut sets = Vec::new();
    for term in &list {
        let Some(block) = terms::block(reader, term) else { continue };
        let own = |address| names.this_host.is_some_and(|own| own.contains(address));
        if block.as_single().is_some_and(own) {
            sets.push(block.addresses());
        } else {
            let origin = reader.origin(term.inner());
            let message = format!("`{block}` is not an address of this host");
            let problem = Diagnostic::error("not-own-address", message, origin);
            let own = names.this_host.map(ToString::to_string).unwrap_or_default();
            reader.report(problem.expected(format!("its addresses are: {own}")));
        }
    }
    (sets.into_iter().collect(), list.into_iter().map(|term| term.value).collect())
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
    if traffic.tcp.is_empty() && traffic.udp.is_empty() && *traffic != TrafficSet::empty() {
        let origin = reader.origin(key);
        reader.report(
            Diagnostic::error("no-ports", "the traffic of this rule has no ports", origin)
                .expected("only TCP and UDP have source ports"),
        );
    }
    RangeSet::from_ranges(ranges)
}

/// A list that, if it is there at all, must have an item: an empty one reads like "nobody" to
/// some and like "everybody" to others.
fn nonempty_list(reader: &mut Reader<'_>, table: &Table<'_, '_>, key: &str) -> Vec<Text> {
    let list = table.list(reader, key);
    let span = table.value_span(key);
    if let (Some(list), Some(span)) = (&list, span)
        && list.is_empty()
        && reader.source.text.get(span.clone()).is_some_and(|text| text.starts_with('['))
        && !reader
            .problems
            .iter()
            .any(|problem| problem.offset() >= span.start && problem.offset() < span.end)
    {
        let origin = reader.origin(span);
        let example = table.spec.key(key).map_or("", |key| key.example);
        reader.report(
            Diagnostic::error("empty-list", format!("`{key}` is empty"), origin)
                .expected(format!("expected at least one item, such as {example}")),
        );
    }
    list.unwrap_or_default()
}

fn choice<'a>(reader: &mut Reader<'_>, text: &'a Text, words: &[&'a str]) -> Option<&'a str> {
    if let Some(word) = words.iter().find(|&&word| word == text.value) {
        return Some(word);
    }
    let problem = Diagnostic::error(
        "unknown-word",
        format!("`{}` is not a choice here", text.value),
        reader.origin(text.inner()),
    );
    reader.report(match nearest(&text.value, words.iter().copied()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem.expected(format!("expected one of: {}", words.join(", "))),
    });
    None
}

/// Names are spoken aloud, typed into commands and carried into the kernel: lower-case letters,
/// digits and hyphens only, at most 63 of them.
fn check_name(reader: &mut Reader<'_>, what: &str, name: &Text) {
    let good = |char: char| char.is_ascii_lowercase() || char.is_ascii_digit() || char == '-';
    let found = &name.value;
    if (1..=63).contains(&found.len()) && found.chars().all(good) && !found.starts_with('-') {
        return;
    }
    let mended: String = found
        .to_lowercase()
        .chars()
        .map(|char| if good(char) { char } else { '-' })
        .take(63)
        .collect();
    let mended = mended.trim_matches('-').to_owned();
    let problem = Diagnostic::error(
        "bad-name",
        format!("{what} name `{}` cannot be used", found.escape_debug()),
        reader.origin(name.inner()),
    )
    .expected("a name has 1 to 63 lower-case letters, digits and hyphens");
    reader.report(if mended.is_empty() || what != "rule" {
        problem
    } else {
        problem.replace_with(mended)
    });
}
