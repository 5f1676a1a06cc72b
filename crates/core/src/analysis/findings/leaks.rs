//! What leaves by other interfaces than it should: what that is to somebody who relies on a tunnel.

use super::super::question::Share;
use crate::plan::RuleId;
use crate::policy::{Expectation, Verdict};
use crate::space::{Direction, Family, Piece, PortProtocol, RangeSet};

/// Name resolution: DNS (RFC 1035), over TLS (RFC 7858), and on the link (RFC 6762, RFC 4795).
const NAMES: [(PortProtocol, u16); 5] = [
    (PortProtocol::Udp, 53),
    (PortProtocol::Tcp, 53),
    (PortProtocol::Tcp, 853),
    (PortProtocol::Udp, 5353),
    (PortProtocol::Udp, 5355),
];

/// What leaks, as the end of a sentence; empty if the expectation is not about all interfaces but one.
pub(super) fn leaks(expectation: &Expectation, shares: &[Share<'_>]) -> String {
    let about_a_way = matches!(&expectation.egress[..], [one] if one.starts_with('!'));
    if !about_a_way || expectation.verdict == Verdict::Allow {
        return String::new();
    }
    let passing = shares.iter().filter(|it| it.decision.act.verdict() == Verdict::Allow);
    let (standing, begun): (Vec<&Share<'_>>, Vec<&Share<'_>>) =
        passing.partition(|it| it.decision.id == RuleId::baseline("replies"));
    let pieces = || begun.iter().flat_map(|it| &it.pieces);
    let mut found = Vec::new();
    if expectation.direction == Direction::Forwarded {
        found.push("what is forwarded, such as that of virtual machines");
    }
    if pieces().any(asks_for_names) {
        found.push("name resolution");
    }
    if pieces().any(|it| it.has(Family::V6)) && !pieces().any(|it| it.has(Family::V4)) {
        found.push("all of this over IPv6 only");
    }
    if !standing.is_empty() {
        found.push(
            "packets of connections that stand: answers to those that came in, and those whose way falls back \
             to another interface when theirs is gone",
        );
    }
    if found.is_empty() { String::new() } else { format!("; there leaks {}", found.join("; ")) }
}

fn asks_for_names(piece: &Piece) -> bool {
    NAMES.iter().any(|(protocol, port)| {
        !piece.traffic.ports[*protocol].intersection(&RangeSet::single(*port)).is_empty()
    })
}
