//! Expectations.

use super::super::Diagnostic;
use super::super::Verdict;
use super::super::model::Expectation;
use super::super::table::{Reader, Table};
use super::super::terms::Names;
use super::common::{accepted, choice, nonempty_list};
use super::ends::ends;
use super::published::published;
use super::rule::{direction, interfaces, traffic};

/// The parts of the baseline that an expectation can leave aside: what they let pass is the same on every host.
const BESIDES: [&str; 2] = ["dhcp", "neighbours"];

/// Reads one expectation; what is wrong with it is reported.
pub(super) fn expectation(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
) -> Option<Expectation> {
    let before = reader.problems.len();
    let (traffic, traffic_terms) = traffic(reader, names, table, "traffic");
    let (from, from_terms) = ends(reader, names, table, "from");
    let (to, to_terms) = ends(reader, names, table, "to");
    let direction = direction(reader, table);
    let (ingress, egress) = interfaces(reader, names, table, direction);
    let (published, published_terms) = published(reader, names, table, direction, &traffic);
    let why = table.text(reader, "why").map(|text| text.value);
    let accepted = accepted(reader, table);
    let postures = nonempty_list(reader, table, "posture");
    let postures = postures.into_iter().map(|text| text.value).collect();
    let every_packet = table.switch("every-packet").unwrap_or(false);
    let besides = nonempty_list(reader, table, "besides");
    let besides =
        besides.iter().filter_map(|text| choice(reader, text, &BESIDES)).map(str::to_owned);
    let besides = besides.collect();
    let verdict = table.text(reader, "verdict")?;
    let origin = reader.origin(verdict.span.clone());
    let verdict =
        choice(reader, &verdict, &Verdict::ALL.map(Verdict::as_str)).and_then(Verdict::parse)?;
    let possible = crate::space::Family::BOTH.iter().any(|&it| from.has(it) && to.has(it));
    if !possible && reader.problems.len() == before {
        reader.report(
            Diagnostic::error(
                "mixed-versions",
                "senders and receivers of this expectation are of different IP versions",
                origin.clone(),
            )
            .expected("no packet is meant"),
        );
    }
    Some(Expectation {
        direction,
        traffic,
        traffic_terms,
        from,
        from_terms,
        to,
        to_terms,
        ingress,
        egress,
        published,
        published_terms,
        verdict,
        every_packet,
        besides,
        postures,
        label: None,
        why,
        accepted,
        origin,
    })
}
