//! Who takes which part of a region.

use super::budget::{Budget, Spent};
use super::lines::{Line, Lines, find, piece_of};
use crate::plan::{Act, Decision, HostPlan, LOOPBACK, RuleId};
use crate::policy::Verdict;
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
    let lines = Lines::about(plan.chain(direction), &region);
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

/// What of a region is admitted, and by which decisions.
#[derive(Clone, Debug)]
pub struct Admitted<'p> {
    /// Whether all of it is, at whatever rate.
    pub everything: bool,
    /// What each decision that admits takes, in their order; `None` if the parts are too many to be told.
    pub shares: Option<Vec<Share<'p>>>,
}

/// What of a region is admitted; the shares are those of the `asked` decisions that admit. Unlike [`shares`], it does
/// not work out what is not.
#[must_use]
pub fn admitted<'p>(
    plan: &'p HostPlan,
    direction: Direction,
    region: &Piece,
    asked: impl Fn(&Decision) -> bool,
) -> Admitted<'p> {
    let lines = Lines::about(plan.chain(direction), std::slice::from_ref(region));
    let passes = |it: &&Line<'_>| it.of.act.verdict() == Verdict::Allow && asked(it.of);
    let budget = || Budget::new(STEPS);
    // The default takes most of what is not admitted, so it is asked first.
    let left = |line: &Line<'p>| {
        let above: Vec<&Line<'p>> =
            lines.meeting(&line.piece).take_while(|it| it.decision < line.decision).collect();
        let both = line.piece.intersection(region);
        !matches!(find(&both, &above, None, direction, &mut budget()), Ok(None))
    };
    let all = Act::Decide(Verdict::Allow);
    let everything = !lines.list.iter().rev().filter(|it| it.of.act != all).any(left);
    Admitted { everything, shares: shares_of(&lines, region, &mut budget(), passes).ok() }
}

/// What each decision takes of a region, of those whose lines are wanted.
fn shares_of<'p>(
    lines: &Lines<'p>,
    region: &Piece,
    budget: &mut Budget,
    wanted: impl Fn(&&Line<'p>) -> bool,
) -> Result<Vec<Share<'p>>, Spent> {
    let mut list = Vec::new();
    let wanted: Vec<&Line<'p>> = lines.list.iter().filter(wanted).collect();
    for own in wanted.chunk_by(|a, b| a.decision == b.decision) {
        let pieces = own_part(own.iter().copied(), region);
        let left = lines.left_to(own[0].decision, pieces, budget)?;
        if !left.is_empty() {
            list.push(Share { decision: own[0].of, pieces: join(left) });
        }
    }
    Ok(list)
}

/// The packets of a region that lines of one decision match. They may overlap; each packet is listed once.
fn own_part<'l, 'p: 'l>(lines: impl Iterator<Item = &'l Line<'p>>, region: &Piece) -> Vec<Piece> {
    let mut own: Vec<Piece> = Vec::new();
    for line in lines {
        let part = own.iter().fold(vec![line.piece.intersection(region)], without);
        own.extend(part.into_iter().filter(|piece| !piece.is_empty()));
    }
    own
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
    let own: Vec<Piece> = chain.decisions[at].conditions.iter().map(piece_of).collect();
    let lines = Lines::about(chain, &own);
    let own = own_part(lines.of_decision(at).iter(), region);
    lines.left_to(at, own, &mut Budget::new(STEPS)).ok().map(join)
}
