//! Rules about ports whose packets others lead elsewhere before they come to any such rule.

use super::facts::{Machine, Published};
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use crate::plan::{Decision, Kind};
use crate::policy::{Code, Severity};
use crate::space::{ByProtocol, Direction, PortProtocol, RangeSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::LedElsewhere,
        severity: Severity::Warning,
        meaning: "The rule is about a port of this host at which nothing listens, and whose packets rules of others \
             lead elsewhere, by address translation, before rules about inbound packets see them. So it decides nothing \
             there, be it an `allow` or a `deny`: what is said of them where they are led does. A rule with \
             `published` says it by the port that callers see.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let decisions = &machine.plan.chain(Direction::Inbound).decisions;
    let rules = decisions.iter().filter(|it| it.id.kind == Kind::Rule && it.idle.is_none());
    rules.filter_map(|it| of_rule(machine, it)).collect()
}

/// The ports that a rule names, where it does not stand for very many.
fn named(decision: &Decision) -> ByProtocol<RangeSet<u16>> {
    let of = |protocol: PortProtocol| {
        let ports = decision.conditions.iter().filter(|it| it.published.is_full());
        let ports = ports.map(|it| &it.traffic.ports[protocol]).filter(|it| !it.is_full());
        ports.fold(RangeSet::empty(), |all, it| all.union(it))
    };
    ByProtocol::new(of)
}

impl Machine<'_> {
    /// The ports of a protocol that others lead elsewhere and at which nothing listens here.
    pub(super) fn led(&self, protocol: PortProtocol) -> RangeSet<u16> {
        let led = self.facts.published.iter().filter(|it| it.protocol == protocol);
        let listens = self.facts.listeners.iter().filter(|it| it.protocol == protocol);
        let listens = RangeSet::from_ranges(listens.map(|it| (it.port, it.port)));
        RangeSet::from_ranges(led.map(|it| it.ports)).difference(&listens)
    }
}

fn of_rule(machine: &Machine<'_>, decision: &Decision) -> Option<Finding> {
    let named = named(decision);
    let led = ByProtocol::new(|it| machine.led(it).intersection(&named[it]));
    let concerns = |it: &&Published| {
        let ports = RangeSet::from_ranges([it.ports]);
        !ports.intersection(&led[it.protocol]).is_empty()
    };
    let by = machine.facts.published.iter().find(concerns)?;
    let words = |(protocol, ports): (PortProtocol, &RangeSet<u16>)| {
        let term = |(first, last): &(u16, u16)| match first == last {
            true => format!("{first}/{protocol}"),
            false => format!("{first}-{last}/{protocol}"),
        };
        ports.ranges().iter().map(term).collect::<Vec<_>>()
    };
    let terms: Vec<String> = led.iter().flat_map(words).collect();
    let message = format!(
        "is about {}, but packets to there are led to {} by table {}, and do not come to it",
        terms.join(", "),
        by.to,
        by.by
    );
    let mut finding = Finding::about(Code::LedElsewhere, Severity::Warning, decision, message);
    finding.mend = (led == named && can_follow(machine, decision)).then(|| Mend::Follow {
        rule: decision.id.clone(),
        direction: by.direction,
        verdict: decision.act.verdict(),
        traffic: match (terms.len(), by.ports.0 == by.ports.1) {
            (1, true) => format!("{}/{}", by.to.port(), by.protocol),
            _ => "any".to_owned(),
        },
        published: terms,
    });
    Some(finding)
}

/// Whether the rule says nothing that a rule about forwarded packets could not say.
fn can_follow(machine: &Machine<'_>, decision: &Decision) -> bool {
    let rule = machine.host.rules.iter().find(|it| it.name == decision.id.name);
    rule.is_some_and(|it| {
        it.at_terms.is_empty()
            && it.to_terms.is_empty()
            && it.programs.is_empty()
            && it.users.is_empty()
            && it.traffic.icmp.is_empty()
            && it.traffic.icmpv6.is_empty()
            && it.traffic.others.is_empty()
    })
}
