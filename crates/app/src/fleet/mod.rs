//! A policy for many hosts: sealed, carried to them, and what of it changes for whom.

mod agent;
mod carrier;
mod compare;
mod folder;
mod keys;
mod packed;
mod seal;
mod trust;
mod verify;

pub use compare::{Alike, Compared, Side, compare};
pub use seal::{SealWish, Sealed, seal};
pub use trust::Trust;
pub use verify::{Refused, Verified, verify};
