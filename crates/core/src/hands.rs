//! Who does what can be done at a time: the core computes, and has no threads of its own.

use std::iter::StepBy;
use std::ops::Range;

/// Does two things.
pub trait Hands {
    /// Does both, at a time or one after the other.
    fn both<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B);
}

/// Does one thing after the other.
#[derive(Clone, Copy, Debug)]
pub struct OneByOne;

impl Hands for OneByOne {
    fn both<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B) {
        let first = first();
        (first, second())
    }
}

/// Fewer are not worth a hand of their own.
const WORTH: usize = 500;

/// The places of a list that are one hand's.
pub(crate) type Turn = StepBy<Range<usize>>;

/// What `work` makes of so many places of a list: of every other one and of those between, since what stands later in a
/// list often takes longer; or of all, where they are few.
pub(crate) fn in_turns<R: Send>(
    hands: &impl Hands,
    count: usize,
    work: &(impl Fn(Turn) -> R + Sync),
) -> Vec<R> {
    if count < WORTH {
        return vec![work((0..count).step_by(1))];
    }
    let (one, other) = hands.both(|| work((0..count).step_by(2)), || work((1..count).step_by(2)));
    vec![one, other]
}

/// What `work` makes of each of the items, in their order.
pub fn each<T: Sync, R: Send>(
    hands: &impl Hands,
    items: &[T],
    work: &(impl Fn(&T) -> R + Sync),
) -> Vec<R> {
    if items.len() < 2 * WORTH {
        return items.iter().map(work).collect();
    }
    // Whoever sees to the first half has a start to make, and the other one to put together what both did.
    let (first, second) = items.split_at(items.len() / 2);
    let done = |items: &[T]| items.iter().map(work).collect::<Vec<R>>();
    let (mut first, second) = hands.both(|| done(first), || done(second));
    first.extend(second);
    first
}
