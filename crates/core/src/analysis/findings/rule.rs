//! A rule among the lines that some of its packets may meet, and exact questions about it.

use super::super::budget::{Budget, Spent};
use super::super::hull::Hull;
use super::super::lines::{Line, Lines, Outcome, find, is_covered};
use super::super::parts::Parts;
use crate::plan::{Act, Decision, RuleId};
use crate::space::{Direction, Family, Packet, Piece};

/// A rule among the lines that some of its packets may meet.
pub(super) struct Rule<'l, 'p> {
    at: usize,
    pub decision: &'p Decision,
    pub own: &'l [Line<'p>],
    /// Those above it, and then those below it.
    met: Vec<&'l Line<'p>>,
    /// Their hulls.
    hulls: Vec<Hull>,
    /// How many of them are above it.
    above: usize,
    lines: &'l Lines<'p>,
    pub likely: &'l Packet,
}

impl<'l, 'p> Rule<'l, 'p> {
    /// The rule at a place of the chain, and what `meeting` says that a piece may meet, in order.
    pub(super) fn among<L>(
        lines: &'l Lines<'p>,
        (at, decision): (usize, &'p Decision),
        likely: &'l Packet,
        meeting: impl Fn(&Piece) -> L,
    ) -> Self
    where
        L: Iterator<Item = &'l Line<'p>>,
    {
        let own = lines.of_decision(at);
        let mut met: Vec<&Line<'_>> = Vec::new();
        if let [only] = own {
            for line in meeting(&only.piece) {
                met.push(line);
                // Whatever stands below one that matches all of it has no part in it.
                if line.decision != at && only.piece.is_within(&line.piece) {
                    break;
                }
            }
        } else {
            met.extend(own.iter().flat_map(|line| meeting(&line.piece)));
            met.sort_by_key(|it| std::ptr::from_ref(*it));
            met.dedup_by_key(|it| std::ptr::from_ref(*it));
        }
        let hulls = met.iter().map(|line| *line.what().1).collect();
        let above = met.partition_point(|it| it.decision < at);
        Self { at, decision, own, met, hulls, above, lines, likely }
    }

    pub(super) fn outcome(&self) -> Outcome {
        Outcome(self.decision.act)
    }

    pub(super) fn direction(&self) -> Direction {
        self.lines.direction
    }

    pub(super) fn above(&self) -> &[&'l Line<'p>] {
        &self.met[..self.above]
    }

    fn below(&self) -> &[&'l Line<'p>] {
        &self.met[self.above..]
    }

    /// How many it may meet before the lines of another decision.
    fn before(&self, decision: usize) -> usize {
        self.met.partition_point(|it| it.decision < decision)
    }

    /// A packet of the piece that is in none of the first so many that the rule may meet.
    fn find(&self, piece: &Piece, first: usize) -> Result<Option<Packet>, Spent> {
        let hull = Hull::of(piece);
        let covers = self.met.iter().zip(&self.hulls[..first]).filter(|it| it.1.meets(&hull));
        let covers: Vec<&Line<'_>> = covers.map(|it| *it.0).collect();
        let found = find(piece, &covers, Some(self.likely), self.direction(), &mut budget())?;
        Ok(found.map(|packet| self.nearer(packet, piece, &covers)))
    }

    /// The packet with the host's own address at the host's end, if it is as good an example then.
    fn nearer(&self, packet: Packet, piece: &Piece, covers: &[&Line<'p>]) -> Packet {
        let likely = self.likely;
        let other = match self.direction() {
            Direction::Inbound => Packet {
                destination: likely.destination,
                destination_is: likely.destination_is,
                ..packet.clone()
            },
            Direction::Outbound => {
                Packet { source: likely.source, source_is: likely.source_is, ..packet.clone() }
            }
            Direction::Forwarded => return packet,
        };
        let one_version = Family::of(other.source) == Family::of(other.destination);
        let as_good = one_version
            && piece.contains(&other)
            && !covers.iter().any(|line| line.piece.contains(&other));
        if as_good { other } else { packet }
    }

    /// The decision above that alone matches all that the rule does.
    pub(super) fn taken_by(&self) -> Option<usize> {
        let takes = |line: &Line<'_>| self.own.iter().all(|own| own.piece.is_within(&line.piece));
        // Of a single line, what takes it whole is the last that it meets.
        let first = if self.own.len() == 1 { self.above.saturating_sub(1) } else { 0 };
        self.above()[first..].iter().find(|line| takes(line)).map(|line| line.decision)
    }

    /// A packet that the rule decides.
    pub(super) fn effective(&self) -> Result<Option<Packet>, Spent> {
        for line in self.own {
            if let Some(packet) = self.find(&line.piece, self.above)? {
                return Ok(Some(packet));
            }
        }
        Ok(None)
    }

    /// The lines above it that decide some of what it matches.
    pub(super) fn deciders(&self) -> Vec<&'l Line<'p>> {
        let mut deciding: Vec<(Hull, &Line<'_>)> = Vec::new();
        for line in self.above() {
            let takes = self.own.iter().any(|own| {
                let both = own.piece.intersection(&line.piece);
                let hull = Hull::of(&both);
                let covers = deciding.iter().filter(|it| it.0.meets(&hull));
                let covers: Vec<&Line<'_>> = covers.map(|it| it.1).collect();
                // Where that is too entangled to be told, it may.
                is_covered(&both, &covers, self.direction(), &mut budget()) != Ok(true)
            });
            if takes {
                deciding.push((*line.what().1, line));
                if self.own.iter().all(|own| own.piece.is_within(&line.piece)) {
                    break;
                }
            }
        }
        deciding.into_iter().map(|it| it.1).collect()
    }

    /// Whether the rule does no more than give a verdict: reports and limits would be missed.
    pub(super) fn can_be_idle(&self) -> bool {
        self.decision.log.is_none() && matches!(self.decision.act, Act::Decide(_))
    }

    /// Whether a packet that it decides would fare differently without it.
    pub(super) fn differs_below(&self, packet: &Packet) -> bool {
        let next = self.lines.next_below(self.at, packet);
        next.is_some_and(|line| !Outcome(line.of.act).same_as(self.outcome()))
    }

    /// Whether no packet would fare differently without the rule.
    pub(super) fn is_idle(&self) -> Result<bool, Spent> {
        // The default takes most of what a rule leaves, so it comes first; of the others, the nearest.
        let differs = |line: &&&Line<'p>| !Outcome(line.of.act).same_as(self.outcome());
        let (last, others) =
            self.below().split_last().map_or((None, &[][..]), |it| (Some(it.0), it.1));
        for next in last.into_iter().chain(others).filter(differs) {
            let before = self.before(next.decision);
            for own in self.own {
                let both = own.piece.intersection(&next.piece);
                if self.find(&both, before)?.is_some() {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Who would decide what the rule decides; `None` if that is too entangled to be told.
    pub(super) fn heirs(&self) -> Option<Vec<RuleId>> {
        let mut budget = budget();
        let mut left = Parts::of(self.own.iter().map(|line| line.piece.clone()));
        for line in self.above() {
            left.take(line.what(), &mut budget).ok()?;
        }
        let mut ids: Vec<RuleId> = Vec::new();
        for line in self.below() {
            if left.is_empty() {
                break;
            }
            let took = !left.take(line.what(), &mut budget).ok()?.is_empty();
            if took && ids.last() != Some(&line.of.id) {
                ids.push(line.of.id.clone());
            }
        }
        Some(ids)
    }

    /// A packet that this rule matches and the line of an earlier one decides.
    pub(super) fn overruled_by(&self, line: &Line<'p>) -> Option<Packet> {
        let before = self.before(line.decision);
        self.own.iter().find_map(|own| {
            let both = own.piece.intersection(&line.piece);
            self.find(&both, before).ok().flatten()
        })
    }

    /// Whether all that an earlier decision matches is matched by this rule too: then it is an
    /// exception to it.
    pub(super) fn is_exception(&self, earlier: usize) -> bool {
        let own: Vec<&Line<'p>> = self.own.iter().collect();
        let lines = self.lines.of_decision(earlier);
        let covered = |line: &Line<'_>| {
            is_covered(&line.piece, &own, self.direction(), &mut budget()) == Ok(true)
        };
        lines.iter().all(covered)
    }
}

/// Steps for one question about one rule.
fn budget() -> Budget {
    Budget::new(400_000)
}
