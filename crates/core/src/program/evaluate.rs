//! What a rule program does with one packet.

use super::model::{
    Action, Chain, End, Key, KeyValue, Lookup, ProgramRule, RuleProgram, Test, Then,
};
use crate::plan::{Decided, RuleId};
use crate::policy::Verdict;
use crate::space::{Family, Packet, Relation, Transport};
use std::net::IpAddr;

/// Jumps deeper than this are not followed; the kernel refuses them too.
const DEEPEST: usize = 16;

impl Test {
    /// Whether the packet passes the test; `None` if that cannot be told.
    #[must_use]
    pub fn holds(&self, packet: &Packet) -> Option<bool> {
        Some(match self {
            Self::InInterface(test) => test.holds(packet.in_interface.as_deref()),
            Self::OutInterface(test) => test.holds(packet.out_interface.as_deref()),
            Self::State(states) => states.contains(packet.state),
            Self::Family(family) => packet.family() == *family,
            Self::Protocol(numbers) => numbers.contains(packet.protocol()),
            Self::Source(set) => set.contains(packet.source),
            Self::Destination(set) => set.contains(packet.destination),
            Self::IcmpType(types) => match packet.transport {
                Transport::Icmp { kind } => types.contains(kind),
                _ => false,
            },
            Self::SourcePort(ports) => packet.ports().is_some_and(|it| ports.contains(it.0)),
            Self::DestinationPort(ports) => packet.ports().is_some_and(|it| ports.contains(it.1)),
            Self::Published(ports) => packet.asked.is_some_and(|it| ports.contains(it)),
            Self::Program(paths) => {
                packet.program.as_ref().is_some_and(|program| paths.contains(program))
            }
            Self::User(users) => packet.user.as_ref().is_some_and(|user| users.contains(user)),
            Self::Own(end, is) => end.relation(packet).own == *is,
            Self::OnLink(end, family, is) => {
                packet.family() == *family && end.relation(packet).on_link == *is
            }
            // A program is asked about a moment at which none of its rules has ended.
            Self::Before(_) => true,
            Self::Opaque(_) => return None,
        })
    }
}

impl End {
    /// What the packet's address at this end is to the host.
    fn relation(self, packet: &Packet) -> Relation {
        match self {
            Self::Source => packet.source_is,
            Self::Destination => packet.destination_is,
        }
    }
}

/// Where a chain leads a packet.
enum Outcome {
    Decided(Decided),
    /// No rule of the chain decided.
    Undecided,
    /// A rule that is not understood stood in the way.
    Unknown,
}

impl RuleProgram {
    /// The fate of the packet; `None` if a rule that is not understood stands in its way, or if
    /// the program has no chain for its direction.
    #[must_use]
    pub fn evaluate(&self, packet: &Packet) -> Option<Decided> {
        let chain = self.base(packet.direction)?;
        match self.walk(chain, packet, 0) {
            Outcome::Decided(decided) => Some(decided),
            Outcome::Unknown => None,
            Outcome::Undecided => {
                let passes = chain.base.is_some_and(|base| base.passes);
                Some(Decided {
                    verdict: if passes { Verdict::Allow } else { Verdict::Deny },
                    limited: false,
                    by: RuleId::default_for(packet.direction),
                })
            }
        }
    }

    fn walk(&self, chain: &Chain, packet: &Packet, depth: usize) -> Outcome {
        if depth > DEEPEST {
            return Outcome::Unknown;
        }
        for rule in &chain.rules {
            let mut held = Some(true);
            for test in &rule.tests {
                match test.holds(packet) {
                    Some(true) => {}
                    Some(false) => {
                        held = Some(false);
                        break;
                    }
                    None => held = None,
                }
            }
            match held {
                Some(false) => continue,
                None => return Outcome::Unknown,
                Some(true) => {}
            }
            match self.act(rule, packet, depth) {
                Outcome::Undecided => {}
                outcome => return outcome,
            }
        }
        Outcome::Undecided
    }

    /// Where a rule leads a packet that passes its tests.
    fn act(&self, rule: &ProgramRule, packet: &Packet, depth: usize) -> Outcome {
        let decided = |id: Option<&RuleId>, verdict, limited| {
            id.map_or(Outcome::Unknown, |id| {
                Outcome::Decided(Decided { verdict, limited, by: id.clone() })
            })
        };
        let go_on = |name: &str| {
            self.chain(name).map_or(Outcome::Unknown, |chain| self.walk(chain, packet, depth + 1))
        };
        let id = rule.id.as_ref();
        match &rule.action {
            Action::Allow => decided(id, Verdict::Allow, false),
            Action::Deny => decided(id, Verdict::Deny, false),
            Action::Reset | Action::Prohibit => decided(id, Verdict::Reject, false),
            Action::AllowWithin(_) | Action::AllowEach(..) => decided(id, Verdict::Allow, true),
            // Only packets beyond the rate of the rule before come here.
            Action::AllowCrowded(..) | Action::Log(_) => Outcome::Undecided,
            Action::Jump(name) => go_on(name),
            Action::Choose(lookup) => match lookup.find(packet) {
                None => Outcome::Undecided,
                Some(Then::Allow(id)) => decided(Some(id), Verdict::Allow, false),
                Some(Then::Deny(id)) => decided(Some(id), Verdict::Deny, false),
                Some(Then::Jump(name)) => go_on(name),
                Some(Then::Opaque(_)) => Outcome::Unknown,
            },
            Action::Opaque(_) => Outcome::Unknown,
        }
    }
}

impl Key {
    /// The value of a packet; `None` if it has none.
    #[must_use]
    pub fn of(self, packet: &Packet) -> Option<KeyValue> {
        let service = || {
            let port = packet.ports()?.1;
            Some(u32::from(packet.protocol()) << 16 | u32::from(port))
        };
        let address = |address: IpAddr, family| match (address, family) {
            (IpAddr::V4(address), Family::V4) => Some(u128::from(address.to_bits())),
            (IpAddr::V6(address), Family::V6) => Some(address.to_bits()),
            _ => None,
        };
        match self {
            Self::Source(family) => Some((address(packet.source, family)?, 0)),
            Self::Destination(family) => Some((address(packet.destination, family)?, 0)),
            Self::DestinationPort => Some((packet.ports()?.1.into(), 0)),
            Self::IcmpType => match packet.transport {
                Transport::Icmp { kind } => Some((kind.into(), 0)),
                _ => None,
            },
            Self::SourceService(family) => Some((address(packet.source, family)?, service()?)),
            Self::DestinationService(family) => {
                Some((address(packet.destination, family)?, service()?))
            }
        }
    }
}

impl Lookup {
    /// Where the packet's value leads.
    #[must_use]
    pub fn find(&self, packet: &Packet) -> Option<&Then> {
        let value = self.key.of(packet)?;
        let after = self.entries.partition_point(|entry| entry.first <= value);
        let entry = self.entries.get(after.checked_sub(1)?)?;
        (value <= entry.last).then_some(&entry.then)
    }
}
