//! Rules that cannot match here, or serve one IP version only.

use super::super::lines::Lines;
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use super::subjects::Subjects;
use crate::policy::{Code, Severity};
use crate::space::{AddressSet, Direction, Family, loopback};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::NeverHere,
            severity: Severity::Warning,
            meaning: "The rule is about addresses that this host does not have, so no packet of this host \
             can match it. Often it was copied from another host, or the host's address changed.",
        },
        FindingKind {
            code: Code::OneIpVersion,
            severity: Severity::Warning,
            meaning: "The rule names a place that has addresses of both IP versions, but together with its \
             other conditions it can match packets of one version only. Who connects over the \
             other version is treated by some other rule or the default.",
        },
    ],
    looks: &[Look::Rules(findings)],
};

/// Findings about the rules of one direction.
fn findings(subjects: &Subjects<'_>, lines: &Lines<'_>) -> Vec<Finding> {
    let own: AddressSet = if subjects.plan.moving {
        AddressSet::full()
    } else {
        subjects.plan.addresses.iter().map(|&address| AddressSet::single(address)).collect()
    };
    let here = match lines.direction {
        Direction::Inbound => Some(own.union(&heard())),
        Direction::Outbound => Some(own.union(&unset())),
        Direction::Forwarded => None,
    };
    let mut findings = Vec::new();
    for (at, decision) in subjects.rules(lines.direction) {
        let name = &decision.id;
        let rule = lines.of_decision(at);
        let elsewhere = here.as_ref().is_some_and(|here| {
            rule.iter().all(|line| {
                let inbound = lines.direction == Direction::Inbound;
                let named = if inbound { &line.piece.destination } else { &line.piece.source };
                let both = named.intersection(here);
                Family::BOTH.iter().all(|&family| !line.piece.has(family) || !both.has(family))
            })
        });
        if elsewhere {
            let what = if lines.direction == Direction::Inbound { "is for" } else { "comes from" };
            let message = format!("never matches here: this host has no address that it {what}");
            findings.push(
                Finding::about(Code::NeverHere, Severity::Warning, decision, message)
                    .mend(Mend::Remove(name.clone())),
            );
            continue;
        }
        let serves = |family| rule.iter().any(|line| line.piece.has(family));
        let (v4, v6) = (serves(Family::V4), serves(Family::V6));
        if v4 == v6 {
            continue;
        }
        let (served, missing) =
            if v4 { (Family::V4, Family::V6) } else { (Family::V6, Family::V4) };
        let Some(written) = subjects.by_name.get(name.name.as_str()) else { continue };
        let terms = written.from_terms.iter().chain(&written.to_terms);
        let places = terms.filter_map(|term| subjects.policy.place(term));
        let both = |set: &AddressSet| Family::BOTH.iter().all(|&family| set.has(family));
        if let Some(place) = places.into_iter().find(|place| both(&place.addresses)) {
            let message = format!(
                "serves {served} only, although `{}` is named for both IP versions: over \
                 {missing}, it matches nothing",
                place.name
            );
            let witness = rule.iter().find_map(|line| {
                line.piece.example(&(subjects.likely)(lines.direction), lines.direction)
            });
            let finding = Finding::about(Code::OneIpVersion, Severity::Warning, decision, message);
            findings.push(finding.witness(witness));
        }
    }
    findings
}

/// Addresses at which a host hears what is for many (RFC 919, RFC 1112, RFC 4291).
fn heard() -> AddressSet {
    let v4 = AddressSet::from_v4([(0xe000_0000, 0xefff_ffff), (u32::MAX, u32::MAX)]);
    v4.union(&AddressSet::from_v6([(0xff << 120, u128::MAX), (0xfe80 << 112, (0xfec0 << 112) - 1)]))
        .union(&loopback())
}

/// Addresses from which a host sends before it has its own, and on its links.
fn unset() -> AddressSet {
    let v4 = AddressSet::from_v4([(0, 0)]);
    v4.union(&AddressSet::from_v6([(0, 0), (0xfe80 << 112, (0xfec0 << 112) - 1)]))
        .union(&loopback())
}
