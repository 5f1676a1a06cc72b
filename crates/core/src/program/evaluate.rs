//! What a rule program does with one packet.

use super::model::{Action, Chain, RuleProgram, Test};
use crate::plan::{Decided, RuleId};
use crate::policy::Verdict;
use crate::space::{Packet, Transport};

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
            Self::Opaque(_) => return None,
        })
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
            let decided = |verdict, limited| {
                Outcome::Decided(Decided { verdict, limited, by: rule.id.clone() })
            };
            return match &rule.action {
                Action::Allow => decided(Verdict::Allow, false),
                Action::Deny => decided(Verdict::Deny, false),
                Action::Reset | Action::Prohibit => decided(Verdict::Reject, false),
                Action::AllowWithin(_) => decided(Verdict::Allow, true),
                Action::Jump(name) => match self.chain(name) {
                    Some(chain) => match self.walk(chain, packet, depth + 1) {
                        Outcome::Undecided => continue,
                        outcome => outcome,
                    },
                    None => Outcome::Unknown,
                },
                Action::Opaque(_) => Outcome::Unknown,
            };
        }
        Outcome::Undecided
    }
}
