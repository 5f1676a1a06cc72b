//! Hands of this machine.

use std::panic::resume_unwind;
use std::sync::{Mutex, PoisonError};
use std::thread::Builder;
use tipstaff_core::hands::Hands;

/// Two things at a time; one after the other where there may be no more threads.
pub(crate) struct Threads;

impl Hands for Threads {
    fn both<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B) {
        let undone = Mutex::new(Some(first));
        let first = || undone.lock().unwrap_or_else(PoisonError::into_inner).take().map(|it| it());
        let (first, second) =
            std::thread::scope(|scope| match Builder::new().spawn_scoped(scope, first) {
                Ok(aside) => {
                    let second = second();
                    (aside.join().unwrap_or_else(|panic| resume_unwind(panic)), second)
                }
                Err(_) => (first(), second()),
            });
        let Some(first) = first else { unreachable!("it is taken once") };
        (first, second)
    }
}
