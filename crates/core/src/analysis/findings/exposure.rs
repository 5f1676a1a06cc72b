//! Ports that are commonly kept private, open to nearly everybody.

use super::super::budget::Budget;
use super::super::lines::{Lines, piece_of};
use super::super::question::ordinary;
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use super::subjects::Subjects;
use crate::hands::{Turn, in_turns};
use crate::plan::Decision;
use crate::policy::{Code, Severity, Verdict};
use crate::space::{AddressSet, Direction, Piece, PortProtocol, RangeSet, TrafficSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::WideOpen,
        severity: Severity::Warning,
        meaning: "The rule allows nearly everybody (at least half of all addresses of an IP version) to \
             reach a port that commonly serves only a few: databases, remote desktops, file \
             shares, metrics, management. Name who needs it with `from`.",
    }],
    looks: &[Look::Rules(findings)],
};

/// Ranges of ports, first and last.
type Ports = &'static [(u16, u16)];

/// Databases, caches, remote desktops, file shares, metrics and management, with the ports that
/// the IANA registry or common use gives them.
const PRIVATE: [(&str, Ports, Ports); 6] = [
    (
        "databases",
        &[
            (1433, 1434),
            (1521, 1521),
            (3050, 3050),
            (3306, 3306),
            (5432, 5432),
            (5984, 5984),
            (6379, 6379),
            (7000, 7001),
            (8086, 8086),
            (9042, 9042),
            (9200, 9200),
            (9300, 9300),
            (11211, 11211),
            (27017, 27019),
            (50000, 50000),
        ],
        &[(1434, 1434), (11211, 11211)],
    ),
    ("remote desktops", &[(3389, 3389), (5900, 5910), (6000, 6010)], &[(3389, 3389), (177, 177)]),
    (
        "file shares",
        &[(111, 111), (137, 139), (445, 445), (548, 548), (873, 873), (2049, 2049)],
        &[(111, 111), (137, 138), (2049, 2049)],
    ),
    ("metrics", &[(9090, 9094), (9100, 9100), (9187, 9187), (19999, 19999)], &[(8125, 8125)]),
    (
        "management",
        &[
            (23, 23),
            (512, 514),
            (623, 623),
            (2375, 2376),
            (2379, 2380),
            (6443, 6443),
            (10250, 10250),
        ],
        &[(69, 69), (161, 161), (514, 514), (623, 623)],
    ),
    ("printers", &[(515, 515), (631, 631)], &[(631, 631)]),
];

/// Findings about the rules of one direction.
fn findings(subjects: &Subjects<'_>, lines: &Lines<'_>) -> Vec<Finding> {
    if lines.direction != Direction::Inbound {
        return Vec::new();
    }
    let ordinary = ordinary(subjects.plan, lines.direction);
    let to_everybody = |decision: &Decision| {
        let all = &decision.conditions;
        decision.act.verdict() == Verdict::Allow
            && all.iter().any(|it| nearly_everybody(&it.source))
    };
    let rules: Vec<(usize, &Decision)> =
        subjects.rules(lines.direction).filter(|it| to_everybody(it.1)).collect();
    let look = |turn: Turn<'_>| turn.map(|at| (at, opened(rules[at], lines, &ordinary))).collect();
    let mut found: Vec<(usize, Vec<Opened>)> = in_turns(subjects.hands, rules.len(), &look)
        .into_iter()
        .flat_map(|it: Vec<_>| it)
        .collect();
    found.sort_unstable_by_key(|it| it.0);
    let mut findings = Vec::new();
    for (at, kinds) in found {
        let decision = rules[at].1;
        let Some((_, _, piece)) = kinds.first() else { continue };
        let witness = piece.example(&(subjects.likely)(lines.direction), lines.direction);
        let words: Vec<String> = kinds.iter().map(|it| format!("{} ({})", it.0, it.1)).collect();
        let message = format!(
            "opens ports to nearly everybody that are commonly kept private: {}",
            words.join(", ")
        );
        let finding = Finding::about(Code::WideOpen, Severity::Warning, decision, message);
        findings.push(finding.witness(witness).mend(Mend::Change {
            rule: decision.id.clone(),
            key: "from",
            value: None,
        }));
    }
    findings
}

/// A kind of traffic that is commonly kept private, and what of it is open.
type Opened = (&'static str, TrafficSet, Piece);

/// What a rule opens of that to nearly everybody.
fn opened((at, decision): (usize, &Decision), lines: &Lines<'_>, ordinary: &Piece) -> Vec<Opened> {
    let mut kinds: Vec<Opened> = Vec::new();
    for condition in decision.conditions.iter().filter(|it| nearly_everybody(&it.source)) {
        let ordinary = piece_of(condition).intersection(ordinary);
        for (kind, tcp, udp) in PRIVATE {
            let of = |protocol: PortProtocol, ports: &[(u16, u16)]| {
                protocol.traffic(RangeSet::from_ranges(ports.iter().copied()))
            };
            let private = of(PortProtocol::Tcp, tcp).union(&of(PortProtocol::Udp, udp));
            let traffic = ordinary.traffic.intersection(&private);
            let piece = Piece { traffic, ..ordinary.clone() };
            if piece.is_empty() {
                continue;
            }
            let left = lines.left_to(at, vec![piece], &mut Budget::new(20_000));
            let open = left.unwrap_or_default();
            if let Some(open) = open.into_iter().find(|it| nearly_everybody(&it.source)) {
                match kinds.iter_mut().find(|it| it.0 == kind) {
                    Some(known) => known.1 = known.1.union(&open.traffic),
                    None => kinds.push((kind, open.traffic.clone(), open)),
                }
            }
        }
    }
    kinds
}

/// Whether a set holds at least half of the addresses of an IP version.
#[must_use]
pub fn nearly_everybody(set: &AddressSet) -> bool {
    let v4: u64 = set.v4.ranges().iter().map(|it| u64::from(it.1) - u64::from(it.0) + 1).sum();
    // Half of the whole numbers fit without the carry that all of them would need.
    let v6 = set.v6.ranges().iter().fold(0u128, |all, it| all.saturating_add(it.1 - it.0));
    v4 >= 1 << 31 || v6 >= 1 << 126
}
