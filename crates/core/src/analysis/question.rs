//! Who takes which part of a region.

use super::budget::Budget;
use super::lines::Lines;
use crate::plan::{Decision, HostPlan, LOOPBACK, RuleId};
use crate::space::{
    AddressSet, ConnectionState, Direction, NameSet, Piece, RelationSet, StateSet, join, loopback,
    to_many, without,
};

/// Regions that take more steps than this to be told apart, about a second's worth, are too long to
/// be read.
pub(super) const STEPS: usize = 20_000_000;

/// The packets of a region that one decision takes.
#[derive(Clone, Debug)]
pub struct Share<'p> {
    /// The decision that takes some of them.
    pub decision: &'p Decision,
    /// The packets, as disjoint pieces.
    pub pieces: Vec<Piece>,
}

/// The packets of a direction that people mean when they speak of traffic: the first of a flow,
/// not on the loopback interface, without loopback addresses, to or from the host's own addresses.
#[must_use]
pub fn ordinary(plan: &HostPlan, direction: Direction) -> Piece {
    let off_loopback = NameSet::all_but(LOOPBACK);
    let elsewhere = || AddressSet::full().difference(&loopback());
    let own = || plan.addresses.iter().map(|&address| AddressSet::single(address)).collect();
    let is = |own: bool| RelationSet::of(|it| it.own == own);
    let mut piece = Piece {
        states: StateSet::of(&[ConnectionState::New]),
        source: elsewhere(),
        destination: elsewhere(),
        ..Piece::full()
    };
    if plan.moving {
        // What is for many is nobody's own address.
        let single = elsewhere().difference(&to_many());
        (piece.source_is, piece.destination_is) = (is(false), is(false));
        match direction {
            Direction::Inbound => (piece.destination_is, piece.destination) = (is(true), single),
            Direction::Outbound => (piece.source_is, piece.source) = (is(true), single),
            Direction::Forwarded => {}
        }
    }
    match direction {
        Direction::Inbound => {
            if !plan.moving {
                piece.destination = own();
            }
            piece.in_interfaces = off_loopback;
        }
        Direction::Outbound => {
            if !plan.moving {
                piece.source = own();
            }
            piece.out_interfaces = off_loopback;
        }
        Direction::Forwarded => {
            piece.in_interfaces = off_loopback.clone();
            piece.out_interfaces = off_loopback;
        }
    }
    piece
}

/// Who takes which packets of a region, in the order of the decisions; `None` if the parts are too
/// many to be told.
#[must_use]
pub fn shares<'p>(
    plan: &'p HostPlan,
    direction: Direction,
    region: Vec<Piece>,
) -> Option<Vec<Share<'p>>> {
    let lines = Lines::of(plan.chain(direction));
    let mut found = lines.shares(region, &mut Budget::new(STEPS)).ok()?;
    found.sort_by_key(|(_, line)| line.decision);
    let mut list: Vec<Share<'p>> = Vec::new();
    for (piece, line) in found {
        match list.last_mut() {
            Some(share) if std::ptr::eq(share.decision, line.of) => share.pieces.push(piece),
            _ => list.push(Share { decision: line.of, pieces: vec![piece] }),
        }
    }
    for share in &mut list {
        share.pieces = join(std::mem::take(&mut share.pieces));
    }
    Some(list)
}

/// The packets of a region that a decision still takes after those above it; `None` if the parts
/// are too many to be told.
#[must_use]
pub fn share_of(
    plan: &HostPlan,
    direction: Direction,
    id: &RuleId,
    region: &Piece,
) -> Option<Vec<Piece>> {
    let chain = plan.chain(direction);
    let at = chain.decisions.iter().position(|decision| decision.id == *id)?;
    let lines = Lines::of(chain);
    let mut budget = Budget::new(STEPS);
    let mut own: Vec<Piece> = Vec::new();
    for line in lines.of_decision(at) {
        // Lines of one rule may overlap; each packet is listed once.
        let part = line.piece.intersection(region);
        let part = own.iter().fold(vec![part], without);
        own.extend(part.into_iter().filter(|piece| !piece.is_empty()));
    }
    lines.left_to(at, own, &mut budget).ok().map(join)
}
