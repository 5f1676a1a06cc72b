//! What the tool keeps on disk: the policy's files, written whole or not at all, and the docket of
//! what was enforced.

mod docket;
mod file;

pub use docket::{Docket, Entry, Guarded, Kind, Pending, State, digest};
pub use file::{lock, replace};
