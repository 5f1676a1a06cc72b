//! Who does what can be done at a time: the core computes, and has no threads of its own.

use std::sync::atomic::{AtomicUsize, Ordering};

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

/// Hands of whatever kind.
pub trait AnyHands {
    /// Does both, each once.
    fn do_both(&self, first: &mut (dyn FnMut() + Send), second: &mut (dyn FnMut() + Send));
}

impl<H: Hands> AnyHands for H {
    fn do_both(&self, first: &mut (dyn FnMut() + Send), second: &mut (dyn FnMut() + Send)) {
        self.both(first, second);
    }
}

impl Hands for dyn AnyHands + '_ {
    fn both<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B) {
        let (mut first, mut second) = (Some(first), Some(second));
        let (mut one, mut other) = (None, None);
        self.do_both(
            &mut || {
                one = first.take().map(|it| it());
            },
            &mut || {
                other = second.take().map(|it| it());
            },
        );
        let (Some(one), Some(other)) = (one, other) else { unreachable!("both are done") };
        (one, other)
    }
}

/// Fewer are not worth a hand of their own.
const WORTH: usize = 500;

/// Fewer places of a list are not, where each takes a while.
const FEW: usize = 64;

/// The places of a list that are one hand's: it takes the next whenever it is done with one.
pub(crate) struct Turn<'n> {
    next: &'n AtomicUsize,
    count: usize,
}

impl Iterator for Turn<'_> {
    type Item = usize;

    fn next(&mut self) -> Option<usize> {
        Some(self.next.fetch_add(1, Ordering::Relaxed)).filter(|it| *it < self.count)
    }
}

/// What `work` makes of so many places of a list, each hand's apart: which are whose is not said.
pub(crate) fn in_turns<R: Send>(
    hands: &(impl Hands + ?Sized),
    count: usize,
    work: &(impl Fn(Turn<'_>) -> R + Sync),
) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let turn = || work(Turn { next: &next, count });
    if count < FEW {
        return vec![turn()];
    }
    let (one, other) = hands.both(turn, turn);
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
