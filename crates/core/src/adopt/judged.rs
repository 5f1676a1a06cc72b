//! What rules of others mean, and where a policy means something else.

use super::flatten::{End, Flat};
use super::narrowed::own;
use crate::meaning::{Atlas, Fate, Meaning};
use crate::plan::{HostPlan, InterfaceTest, LOOPBACK, RuleId};
use crate::policy::Verdict;
use crate::program::{Action, BaseChain, Chain, ProgramRule, RuleProgram, Test, lower};
use crate::space::{
    ConnectionState, Direction, Family, Packet, PortProtocol, RangeSet, Relation, StateSet,
    Transport, loopback,
};
use std::net::Ipv4Addr;

/// The decision that takes what is not compared.
const NOT_ASKED: &str = "not asked";

/// More than this, and a comparison is given up.
pub(super) const NODES: usize = 5_000_000;

/// Packets that the policy treats otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Differs {
    /// Which way they go.
    pub direction: Direction,
    /// The rule of others that decides about them, unless one that is not understood does.
    pub theirs: String,
    /// What that does.
    pub their_verdict: Option<Verdict>,
    /// The rule, default or part of the baseline that decides about them in the policy.
    pub ours: String,
    /// What that does.
    pub our_verdict: Option<Verdict>,
    /// One of those packets.
    pub packet: Packet,
}

/// What is left out of comparisons, since no packet is so.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Left {
    /// What is not tracked, but for neighbour discovery: nobody keeps packets from being tracked.
    pub untracked: bool,
    /// Echo requests that follow others, as they are decided about each by itself.
    pub pings: bool,
}

/// The rules of all directions as a program, if `whole` with those that are not understood: of what comes to them
/// nothing is known then. Without them, it is as if they never held.
pub(super) fn program(lists: &[Vec<Flat<'_>>; 3], whole: bool) -> RuleProgram {
    let wanted = |it: &&Flat<'_>| whole || !matches!(it.end, End::Unknown(..));
    let chains = Direction::ALL.into_iter().zip(lists).map(|(direction, list)| Chain {
        name: direction.as_str().into(),
        direction: Some(direction),
        base: Some(BaseChain { passes: true }),
        rules: list.iter().filter(wanted).map(rule).collect(),
    });
    RuleProgram { chains: chains.collect(), ..RuleProgram::default() }
}

fn rule(flat: &Flat<'_>) -> ProgramRule {
    let action = match (&flat.end, flat.rate) {
        (End::Unknown(why, _), _) => Action::Opaque(why.clone()),
        (End::Decides(Verdict::Allow), Some(rate)) => Action::AllowWithin(rate),
        (End::Decides(Verdict::Allow), None) => Action::Allow,
        (End::Decides(Verdict::Deny), _) => Action::Deny,
        (End::Decides(Verdict::Reject), _) => Action::Prohibit,
    };
    let tests = flat.asked.tests.clone();
    ProgramRule { id: Some(RuleId::rule(&flat.place.to_string())), tests, action }
}

/// The same, without what is left out.
pub(super) fn without(mut program: RuleProgram, left: Left) -> RuleProgram {
    let rule =
        |tests| ProgramRule { id: Some(RuleId::rule(NOT_ASKED)), tests, action: Action::Allow };
    let elsewhere = || InterfaceTest::IsNot(LOOPBACK.into());
    for chain in program.chains.iter_mut().filter(|it| it.base.is_some()) {
        // The kernel itself lets no loopback address pass anywhere else.
        let mut ahead = Vec::new();
        for set in Family::BOTH.map(|it| loopback().only(it)) {
            for end in [Test::Source(set.clone()), Test::Destination(set)] {
                let link = match chain.direction {
                    Some(Direction::Outbound) => Test::OutInterface(elsewhere()),
                    _ => Test::InInterface(elsewhere()),
                };
                ahead.push(rule(vec![link, end]));
            }
        }
        for family in Family::BOTH {
            let state = |states: &[ConnectionState]| {
                vec![Test::Family(family), Test::State(StateSet::of(states))]
            };
            let only = RangeSet::single(own(family));
            if left.untracked {
                let mut tests = state(&[ConnectionState::Untracked]);
                if family == Family::V6 {
                    tests.push(Test::Protocol(RangeSet::full().difference(&only)));
                }
                ahead.push(rule(tests));
            }
            if left.pings && chain.direction == Some(Direction::Inbound) {
                let echo = if family == Family::V4 { 8 } else { 128 };
                let mut tests = state(&[ConnectionState::Established, ConnectionState::Related]);
                tests.push(Test::Protocol(only));
                tests.push(Test::IcmpType(RangeSet::single(echo)));
                ahead.push(rule(tests));
            }
        }
        chain.rules.splice(0..0, ahead);
    }
    program
}

/// What a plan means, without what is left out.
pub(super) fn meaning(atlas: &mut Atlas, plan: &HostPlan, left: Left) -> Meaning {
    atlas.program(&without(lower(plan), left))
}

/// Where packets fare otherwise by the second of two.
pub(super) fn differing(atlas: &Atlas, theirs: &Meaning, ours: &Meaning) -> Vec<Differs> {
    let all = atlas.differing(theirs, ours);
    let mut all: Vec<Differs> = (0..)
        .zip(all.pairs())
        .filter_map(|(at, (direction, theirs, ours))| {
            Some(Differs {
                direction,
                theirs: theirs.by().map_or_else(|| theirs.to_string(), ToString::to_string),
                their_verdict: theirs.verdict(),
                ours: ours.by().map_or_else(|| ours.to_string(), ToString::to_string),
                our_verdict: ours.verdict(),
                packet: all.packet(at, &likely(direction))?,
            })
        })
        .collect();
    all.sort_by(|a, b| (a.direction, &a.theirs, &a.ours).cmp(&(b.direction, &b.theirs, &b.ours)));
    all
}

/// The names of all that decide about some packet.
pub(super) fn deciders(atlas: &Atlas, meaning: &Meaning) -> Vec<(Direction, String)> {
    let nobody = atlas.nothing();
    let pairs = atlas.fate_pairs(meaning, &nobody);
    pairs.into_iter().filter_map(|it| Some((it.0, it.1.by()?.to_string()))).collect()
}

/// What becomes of packets by two, where they are told apart.
pub(super) fn pairs<'a>(
    atlas: &'a Atlas,
    first: &Meaning,
    second: &Meaning,
) -> Vec<(Direction, &'a Fate, &'a Fate)> {
    let mut pairs = atlas.fate_pairs(first, second);
    pairs.retain(|it| it.1.by().is_none_or(|by| by.name != NOT_ASKED));
    pairs
}

/// A packet as there are many.
fn likely(direction: Direction) -> Packet {
    let link = |is: bool| is.then(|| "eth0".to_owned());
    Packet {
        direction,
        in_interface: link(direction != Direction::Outbound),
        out_interface: link(direction == Direction::Outbound),
        source: Ipv4Addr::new(203, 0, 113, 9).into(),
        destination: Ipv4Addr::new(192, 0, 2, 10).into(),
        transport: Transport::Ports {
            protocol: PortProtocol::Tcp,
            source: 49_152,
            destination: 443,
        },
        state: ConnectionState::New,
        program: None,
        user: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    }
}
