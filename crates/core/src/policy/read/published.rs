//! The ports at which callers asked for what was led elsewhere.

use super::super::Diagnostic;
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, Names};
use super::common::nonempty_list;
use crate::space::{ByProtocol, Direction, PortProtocol, RangeSet, TrafficSet};

/// The key `published`, for each protocol the ports; and the terms.
pub(super) fn published(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
    traffic: &TrafficSet,
) -> (Option<ByProtocol<RangeSet<u16>>>, Vec<String>) {
    let Some(key) = table.key_span("published") else { return (None, Vec::new()) };
    if direction == Direction::Outbound {
        let origin = reader.origin(key.clone());
        let message = "what leaves this host was not led to it";
        reader.report(
            Diagnostic::error("nothing-published", message, origin)
                .expected("`published` is for rules about inbound and forwarded packets"),
        );
    }
    let list = nonempty_list(reader, table, "published");
    let before = reader.problems.len();
    let mut meant = ByProtocol::new(|_| RangeSet::empty());
    for term in &list {
        let Some(ports) = ports(reader, names, term) else { continue };
        for protocol in PortProtocol::ALL {
            meant[protocol] = meant[protocol].union(&ports[protocol]);
        }
    }
    let carried = PortProtocol::ALL
        .into_iter()
        .any(|it| !meant[it].is_empty() && !traffic.ports[it].is_empty());
    if reader.problems.len() == before && !list.is_empty() && !carried && !traffic.is_empty() {
        let origin = reader.origin(table.value_span("published").unwrap_or(key));
        let message = "the traffic is of other protocols than the published ports";
        reader.report(
            Diagnostic::error("nothing-published", message, origin)
                .expected("no packet can match: what is led elsewhere keeps its protocol"),
        );
    }
    (Some(meant), list.into_iter().map(|term| term.value).collect())
}

/// The ports that a term names.
fn ports(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    term: &Text,
) -> Option<ByProtocol<RangeSet<u16>>> {
    let refuse = |reader: &mut Reader<'_>, message: String, expected: &str| {
        let origin = reader.origin(term.inner());
        reader.report(Diagnostic::error("not-a-port", message, origin).expected(expected));
    };
    let word = term.value.escape_debug().to_string();
    if term.value.starts_with('!') {
        refuse(
            reader,
            format!("`{word}` leaves something out"),
            "`published` lists the ports that callers see, such as \"8088/tcp\"",
        );
        return None;
    }
    let set = terms::traffic(reader, names.services, term)?;
    let only_ports = set.icmp.is_empty() && set.icmpv6.is_empty() && set.others.is_empty();
    // Nobody asks for port 0: in the rules it stands for what was led nowhere.
    let ports = ByProtocol::new(|it| set.ports[it].difference(&RangeSet::single(0)));
    if !only_ports || ports.values().all(RangeSet::is_empty) {
        refuse(
            reader,
            format!("`{word}` is more than ports, or none"),
            "callers ask for ports of TCP, UDP or SCTP, such as \"8088/tcp\"",
        );
        return None;
    }
    Some(ports)
}
