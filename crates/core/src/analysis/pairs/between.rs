//! What becomes of packets from one host to another, by the word of every host on the way.

use super::super::question::{ordinary, shares};
use crate::plan::{Decision, HostPlan};
use crate::policy::Verdict;
use crate::space::{Direction, Piece, RangeSet, join, without};

/// A host on the way, and which of its chains packets meet there.
#[derive(Clone, Copy, Debug)]
pub struct Leg<'p> {
    /// The host.
    pub plan: &'p HostPlan,
    /// `Outbound` of the sender, `Forwarded` of those between, `Inbound` of the receiver.
    pub direction: Direction,
}

/// Packets of which all are decided by the same on the way.
#[derive(Clone, Debug)]
pub struct Fared<'p> {
    /// The packets as they are between the hosts, disjoint: what a host knows of them besides (interfaces, programs) is not
    /// told apart. So packets of which that decides are in several.
    pub pieces: Vec<Piece>,
    /// Who decided, a decision for each leg; the last one does not admit them, or there are no more legs.
    pub by: Vec<&'p Decision>,
}

impl Fared<'_> {
    /// Whether they arrive, at whatever rate.
    #[must_use]
    pub fn arrives(&self) -> bool {
        self.by.last().is_some_and(|it| it.act.verdict() == Verdict::Allow)
    }
}

/// What becomes of the first packets of flows from one host to another; `None` if the parts are too many to be told. Nobody
/// on the way gives them other addresses or ports.
#[must_use]
pub fn between<'p>(legs: &[Leg<'p>], region: &Piece) -> Option<Vec<Fared<'p>>> {
    let start = Fared { pieces: vec![on_the_wire(region)], by: Vec::new() };
    let (mut passing, mut ended) = (vec![start], Vec::new());
    for leg in legs {
        let local = ordinary(leg.plan, leg.direction);
        let mut next = Vec::new();
        for Fared { pieces, by } in passing {
            let here = pieces.iter().map(|it| it.intersection(&local));
            let here: Vec<Piece> = here.filter(|it| !it.is_empty()).collect();
            for share in shares(leg.plan, leg.direction, here)? {
                let mut by = by.clone();
                by.push(share.decision);
                let fared = Fared { pieces: apart(share.pieces.iter().map(on_the_wire)), by };
                if fared.arrives() { next.push(fared) } else { ended.push(fared) }
            }
        }
        passing = next;
    }
    passing.extend(ended);
    Some(passing)
}

/// What of a packet is the same for all who see it; that it was led nowhere else is.
fn on_the_wire(piece: &Piece) -> Piece {
    Piece {
        traffic: piece.traffic.clone(),
        source: piece.source.clone(),
        destination: piece.destination.clone(),
        source_ports: piece.source_ports.clone(),
        published: RangeSet::single(0),
        ..Piece::full()
    }
}

/// The same packets, each in one piece.
fn apart(pieces: impl Iterator<Item = Piece>) -> Vec<Piece> {
    let mut apart: Vec<Piece> = Vec::new();
    for piece in pieces {
        let new = apart.iter().fold(vec![piece], without);
        apart.extend(new.into_iter().filter(|it| !it.is_empty()));
    }
    join(apart)
}
