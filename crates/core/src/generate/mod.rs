//! Policies and packets made up from a seed, for tests and benchmarks.
//!
//! The same seed gives the same policy and packets on every machine. Policies are made as text
//! and use every key of the language; packets keep to the ends of the ranges that a plan tells
//! apart, where mistakes show.

mod long;
mod packets;
mod policies;
mod postures;
mod words;

pub use packets::settle;
pub use policies::{Generator, HOST, HOST_NAME, NOW};
pub use words::POSTURE;
