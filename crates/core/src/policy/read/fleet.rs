//! What is said of all hosts together.

use super::super::Verdict;
use super::super::fleet::{Fleet, FleetExpectation, FleetProbe, Named, Route};
use super::super::model::{Host, Used};
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, Names};
use super::super::{Diagnostic, nearest};
use super::common::{choice, nonempty_list};
use super::ends::ends;
use super::rule::traffic;
use crate::space::{AddressSet, ByProtocol, PortProtocol, RangeSet, TrafficSet};

/// So many connections are tried of one probe and host.
const MOST_PORTS: u32 = 16;

/// Reads what the file says of all hosts together; what is wrong with it is reported.
pub(super) fn fleet(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    hosts: &[Host],
    file: &Table<'_, '_>,
) -> Fleet {
    let Some(table) = file.table(reader, "fleet") else { return Fleet::default() };
    let routes = table.tables(reader, "route");
    let routes = routes.iter().filter_map(|it| route(reader, names, hosts, it)).collect();
    let expectations = table.tables(reader, "expect");
    let expectations =
        expectations.iter().filter_map(|it| expectation(reader, names, hosts, it)).collect();
    let probes = table.tables(reader, "probe");
    let probes = probes.iter().filter_map(|it| probe(reader, names, hosts, it)).collect();
    Fleet { routes, expectations, probes }
}

fn route(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    hosts: &[Host],
    table: &Table<'_, '_>,
) -> Option<Route> {
    let ends = nonempty_list(reader, table, "between");
    let origin = reader.origin(table.value_span("between")?);
    let through = nonempty_list(reader, table, "through");
    let mut passing: Vec<String> = Vec::new();
    for text in &through {
        if passing.contains(&text.value) {
            let origin = reader.origin(text.inner());
            let message = format!("packets pass `{}` twice", text.value.escape_debug());
            let problem = Diagnostic::error("named-twice", message, origin);
            reader.report(problem.expected("each host once, in the order of the way"));
        } else if hosts.iter().any(|it| it.name == text.value) {
            reader.uses(Used::Host, text);
            passing.push(text.value.clone());
        } else {
            unknown(reader, text, hosts, false);
        }
    }
    let [first, second] = &ends[..] else {
        if !ends.is_empty() {
            let message = format!("a route is between two places, here are {}", ends.len());
            let problem = Diagnostic::error("not-two", message, origin);
            reader.report(problem.expected("two items: places or addresses"));
        }
        return None;
    };
    let between =
        [first, second].map(|it| terms::addresses(reader, names, std::slice::from_ref(it)));
    Some(Route {
        between,
        between_terms: ends.iter().map(|it| it.value.clone()).collect(),
        through: passing,
        why: table.text(reader, "why").map(|it| it.value),
        origin,
    })
}

fn expectation(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    hosts: &[Host],
    table: &Table<'_, '_>,
) -> Option<FleetExpectation> {
    let (traffic, traffic_terms) = traffic(reader, names, table, "traffic");
    let from = named(reader, hosts, table, "from");
    let to = named(reader, hosts, table, "to");
    let (within, within_terms) = within(reader, names, table);
    let why = table.text(reader, "why").map(|it| it.value);
    let verdict = table.text(reader, "verdict")?;
    let origin = reader.origin(verdict.span.clone());
    let verdict =
        choice(reader, &verdict, &Verdict::ALL.map(Verdict::as_str)).and_then(Verdict::parse)?;
    Some(FleetExpectation {
        traffic,
        traffic_terms,
        from,
        to,
        within,
        within_terms,
        verdict,
        why,
        origin,
    })
}

fn probe(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    hosts: &[Host],
    table: &Table<'_, '_>,
) -> Option<FleetProbe> {
    let before = reader.problems.len();
    let (traffic, traffic_terms) = traffic(reader, names, table, "traffic");
    let from = named(reader, hosts, table, "from");
    let to = named(reader, hosts, table, "to");
    let (within, _) = within(reader, names, table);
    let why = table.text(reader, "why").map(|it| it.value);
    let origin = reader.origin(table.value_span("traffic")?);
    if reader.problems.len() == before && !is_few_ports(&traffic) {
        let message = "this cannot be tried by connecting".to_owned();
        let problem = Diagnostic::error("not-a-probe", message, origin.clone());
        reader.report(problem.expected(format!(
            "at most {MOST_PORTS} ports of TCP: over other protocols silence is no answer"
        )));
    }
    Some(FleetProbe { traffic, traffic_terms, from, to, within, why, origin })
}

fn within(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
) -> (Option<AddressSet>, Vec<String>) {
    if !table.has("within") {
        return (None, Vec::new());
    }
    let (ends, terms) = ends(reader, names, table, "within");
    (Some(ends.addresses()), terms)
}

/// Whether it is a few ports of TCP and nothing else.
fn is_few_ports(traffic: &TrafficSet) -> bool {
    let tcp = &traffic.ports[PortProtocol::Tcp];
    let only = ByProtocol::new(|it| match it {
        PortProtocol::Tcp => tcp.clone(),
        _ => RangeSet::empty(),
    });
    let only = TrafficSet { ports: only, ..TrafficSet::empty() };
    let count: u32 = tcp.ranges().iter().map(|it| u32::from(it.1 - it.0) + 1).sum();
    traffic.difference(&only).is_empty() && count <= MOST_PORTS
}

/// The hosts of a list of names and labels; all of them where it is left out.
fn named(reader: &mut Reader<'_>, hosts: &[Host], table: &Table<'_, '_>, key: &str) -> Named {
    let list = nonempty_list(reader, table, key);
    let before = reader.problems.len();
    let (mut meant, mut left_out): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
    for text in &list {
        let (text, those) = match text.value.starts_with('!') {
            true => (&text.after(1), &mut left_out),
            false => (text, &mut meant),
        };
        let is_host = hosts.iter().find(|it| it.name == text.value);
        let labelled = hosts.iter().filter(|it| it.labels.contains(&text.value));
        let labelled: Vec<&str> = labelled.map(|it| it.name.as_str()).collect();
        match (is_host, labelled.is_empty()) {
            (Some(host), true) => {
                reader.uses(Used::Host, text);
                those.push(&host.name);
            }
            (None, false) => {
                reader.uses(Used::Label, text);
                those.extend(labelled);
            }
            (Some(_), false) => {
                let origin = reader.origin(text.inner());
                let message = format!("`{}` is a host and a label", text.value.escape_debug());
                let problem = Diagnostic::error("two-meanings", message, origin);
                reader.report(problem.expected("a name that only one of them has"));
            }
            (None, true) => unknown(reader, text, hosts, true),
        }
    }
    // Who only says who is not meant means all others.
    let all_others = list.iter().all(|it| it.value.starts_with('!'));
    let is_meant = |it: &&str| (all_others || meant.contains(it)) && !left_out.contains(it);
    let all = hosts.iter().map(|it| it.name.as_str());
    let found: Vec<String> = all.filter(is_meant).map(str::to_owned).collect();
    if let (true, true, Some(span)) =
        (found.is_empty(), reader.problems.len() == before, table.value_span(key))
        && !hosts.is_empty()
    {
        let origin = reader.origin(span);
        let message = format!("`{key}` leaves out all that it names");
        let problem = Diagnostic::error("nobody-left", message, origin);
        reader.report(problem.expected("no host is meant"));
    }
    Named { hosts: found, terms: list.into_iter().map(|it| it.value).collect() }
}

fn unknown(reader: &mut Reader<'_>, text: &Text, hosts: &[Host], or_label: bool) {
    let origin = reader.origin(text.inner());
    let what = if or_label { "host and no label" } else { "host" };
    let message = format!("no {what} is called `{}`", text.value.escape_debug());
    let problem = Diagnostic::error("unknown-host", message, origin);
    let labels = hosts.iter().flat_map(|it| &it.labels).filter(|_| or_label);
    let mut known: Vec<&str> =
        hosts.iter().map(|it| &it.name).chain(labels).map(|it| &**it).collect();
    known.sort_unstable();
    known.dedup();
    reader.report(match nearest(&text.value, known.iter().copied()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem.expected("expected the name of a host of this policy"),
    });
}
