//! Who does what can be done at a time: the core computes, and has no threads of its own.

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
