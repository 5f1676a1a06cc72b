//! The one door to a machine: all that a use case may want to know of it, and the way to change it.
//!
//! [`Here`] is the machine before us, as the calling thread's network namespace shows it. [`Recorded`] is one
//! that was asked once, whose answers were kept: it tells them again, and cannot be changed.

mod answer;
mod door;
mod here;
mod recorded;
mod within;

pub use door::{Listed, Machine};
pub use here::Here;
pub use recorded::{Recorded, Wanted};
