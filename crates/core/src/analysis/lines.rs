//! The conditions of one direction in order, and exact questions about them.

use super::budget::{Budget, Spent};
use super::hull::Hull;
use super::index::Hulls;
use super::parts::Parts;
use super::samples::samples;
use crate::plan::{Act, Chain, Condition, Decision, InterfaceTest, RuleId};
use crate::policy::Verdict;
use crate::space::{ConnectionState, Direction, NameSet, Packet, Piece, SourcePorts, StateSet};
use std::cmp::Reverse;
use std::collections::HashMap;

/// The packets that meet a condition.
pub fn piece_of(condition: &Condition) -> Piece {
    let interfaces = |test: &InterfaceTest| match test {
        InterfaceTest::Any => NameSet::full(),
        InterfaceTest::Is(name) => NameSet::only([name.as_str()]),
        InterfaceTest::IsNot(name) => NameSet::all_but(name),
    };
    let owners = |names: &[String]| match names {
        [] => NameSet::full(),
        names => NameSet::only(names.iter().map(String::as_str)),
    };
    let ports = condition.source_ports.clone();
    Piece {
        traffic: condition.traffic.clone(),
        source: condition.source.clone(),
        destination: condition.destination.clone(),
        source_ports: SourcePorts { portless: ports.is_full(), ports },
        in_interfaces: interfaces(&condition.in_interface),
        out_interfaces: interfaces(&condition.out_interface),
        programs: owners(&condition.programs),
        users: owners(&condition.users),
        published: condition.published.clone(),
        states: condition.states.unwrap_or_else(|| StateSet::of(&ConnectionState::ALL)),
        source_is: condition.source_is,
        destination_is: condition.destination_is,
    }
}

/// One condition of a decision that is in force.
#[derive(Clone, Debug)]
pub(super) struct Line<'p> {
    /// The decision's place in the chain.
    pub decision: usize,
    /// The packets that meet the condition.
    pub piece: Piece,
    hull: Hull,
    /// The decision that it is about.
    pub of: &'p Decision,
}

impl Line<'_> {
    /// The packets that meet the condition, and their hull.
    pub(super) fn what(&self) -> (&Piece, &Hull) {
        (&self.piece, &self.hull)
    }
}

/// The conditions of one direction, in order.
#[derive(Debug)]
pub(super) struct Lines<'p> {
    /// The direction of the list.
    pub direction: Direction,
    /// The conditions of decisions that are in force.
    pub list: Vec<Line<'p>>,
    hulls: Hulls,
}

impl<'p> Lines<'p> {
    /// The conditions of a chain.
    pub(super) fn of(chain: &'p Chain) -> Self {
        Self::those(chain, |_| true)
    }

    /// The conditions of a chain that some packet of the pieces may meet: all that matter to them.
    pub(super) fn about(chain: &'p Chain, pieces: &[Piece]) -> Self {
        let hulls: Vec<Hull> = pieces.iter().map(Hull::of).collect();
        Self::those(chain, |hull| hulls.iter().any(|it| it.meets(hull)))
    }

    fn those(chain: &'p Chain, which: impl Fn(&Hull) -> bool) -> Self {
        let mut list = Vec::new();
        for (at, decision) in chain.decisions.iter().enumerate() {
            if decision.idle.is_some() {
                continue;
            }
            for condition in &decision.conditions {
                let hull = Hull::of_condition(condition);
                if which(&hull) {
                    list.push(Line {
                        decision: at,
                        piece: piece_of(condition),
                        hull,
                        of: decision,
                    });
                }
            }
        }
        let hulls = Hulls::of(list.iter().map(|line| &line.hull));
        Self { direction: chain.direction, list, hulls }
    }

    /// The lines that some packet of the piece may meet, in order.
    pub(crate) fn meeting<'s>(
        &'s self,
        piece: &Piece,
    ) -> impl Iterator<Item = &'s Line<'p>> + use<'s, 'p> {
        self.hulls.meeting(&Hull::of(piece)).map(|at| &self.list[at])
    }

    /// The line below a decision that decides a packet which none above takes.
    pub(super) fn next_below(&self, decision: usize, packet: &Packet) -> Option<&Line<'p>> {
        let mut met = self.hulls.meeting(&Hull::of_packet(packet)).map(|at| &self.list[at]);
        met.find(|line| line.decision > decision && line.piece.contains(packet))
    }

    /// The places of decisions that are in force.
    pub(super) fn places(&self) -> HashMap<&'p RuleId, usize> {
        self.list.iter().rev().map(|line| (&line.of.id, line.decision)).collect()
    }

    /// The lines of one decision.
    pub(crate) fn of_decision(&self, decision: usize) -> &[Line<'p>] {
        let from = self.list.partition_point(|line| line.decision < decision);
        let behind = &self.list[from..];
        &behind[..behind.partition_point(|line| line.decision == decision)]
    }

    /// Who takes which part of the pieces: disjoint parts, which together are all of them.
    ///
    /// # Errors
    /// [`Spent`] if the parts are too many.
    pub(super) fn shares(
        &self,
        pieces: Vec<Piece>,
        budget: &mut Budget,
    ) -> Result<Vec<(Piece, &Line<'p>)>, Spent> {
        let mut shares = Vec::new();
        for piece in pieces {
            let meeting = self.meeting(&piece);
            let mut left = Parts::of([piece]);
            for line in meeting {
                let taken = left.take(line.what(), budget)?;
                shares.extend(taken.into_iter().map(|taken| (taken, line)));
                if left.is_empty() {
                    break;
                }
            }
        }
        Ok(shares)
    }

    /// The part of the pieces that is left when the decisions before `decision` have taken
    /// theirs.
    ///
    /// # Errors
    /// [`Spent`] if the parts are too many.
    pub(crate) fn left_to(
        &self,
        decision: usize,
        pieces: Vec<Piece>,
        budget: &mut Budget,
    ) -> Result<Vec<Piece>, Spent> {
        let mut all = Vec::new();
        for piece in pieces {
            let meeting = self.meeting(&piece).take_while(|line| line.decision < decision);
            let mut left = Parts::of([piece]);
            for line in meeting {
                left.take(line.what(), budget)?;
                if left.is_empty() {
                    break;
                }
            }
            all.extend(left.rest());
        }
        Ok(all)
    }
}

/// Whether every packet of `piece` is in one of `covers`.
///
/// # Errors
/// [`Spent`] if that takes too many steps.
pub(super) fn is_covered(
    piece: &Piece,
    covers: &[&Line<'_>],
    direction: Direction,
    budget: &mut Budget,
) -> Result<bool, Spent> {
    let hull = Hull::of(piece);
    if !covers.iter().any(|line| line.hull.meets(&hull)) {
        return Ok(piece.is_empty());
    }
    Ok(find(piece, covers, None, direction, budget)?.is_none())
}

/// Looks for a packet of `piece` that is in none of `covers`, if possible one like `wanted`.
///
/// A few likely packets are tried first. Where they are all covered, the piece is taken apart
/// until something is left over, or nothing is.
///
/// # Errors
/// [`Spent`] if that takes too many steps.
pub(super) fn find(
    piece: &Piece,
    covers: &[&Line<'_>],
    wanted: Option<&Packet>,
    direction: Direction,
    budget: &mut Budget,
) -> Result<Option<Packet>, Spent> {
    if piece.is_empty() {
        return Ok(None);
    }
    let hull = Hull::of(piece);
    let mut covers: Vec<&Line<'_>> =
        covers.iter().copied().filter(|line| line.hull.meets(&hull)).collect();
    budget.spend(1 + covers.len() / 16)?;
    // Most of what is covered is so by one alone.
    if covers.iter().any(|line| piece.is_within(&line.piece)) {
        return Ok(None);
    }
    let wished = wanted.and_then(|wanted| piece.example(wanted, direction));
    for packet in wished.into_iter().chain(samples(piece, direction)) {
        budget.spend(1 + covers.len() / 16)?;
        if !covers.iter().any(|line| line.piece.contains(&packet)) {
            return Ok(Some(packet));
        }
    }
    // What the widest leave, the narrow ones inside them do not take apart any more.
    covers.sort_by_cached_key(|line| Reverse(line.hull.senders()));
    // Depth first: each piece with the number of covers that it has been held against.
    let mut open = vec![(piece.clone(), 0)];
    while let Some((piece, mut at)) = open.pop() {
        budget.spend(1)?;
        let hull = Hull::of(&piece);
        loop {
            let Some(next) = covers[at..].iter().position(|line| line.hull.meets(&hull)) else {
                return Ok(samples(&piece, direction).next());
            };
            at += next + 1;
            let line = covers[at - 1];
            if !piece.intersection(&line.piece).is_empty() {
                open.extend(piece.split(&line.piece).1.into_iter().map(|rest| (rest, at)));
                break;
            }
        }
    }
    Ok(None)
}

/// What a decision does, as far as packets notice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct Outcome(pub Act);

impl Outcome {
    /// Whether packets let through by one are let through by the other.
    pub(crate) fn opposes(self, other: Self) -> bool {
        let passes = |it: Self| it.0.verdict() == Verdict::Allow;
        passes(self) != passes(other)
    }

    /// Whether packets fare alike when either of two different decisions takes them. Two limits
    /// are never alike: each counts for itself.
    pub(super) fn same_as(self, other: Self) -> bool {
        match (self.0, other.0) {
            (Act::Decide(a), Act::Decide(b)) => a == b,
            _ => false,
        }
    }
}
