//! Sealed bundles: what is accepted, and that nothing else is.

mod forged;
mod opened;
mod signers;
mod with_ssh;
mod world;
