//! From host to host: by whom packets pass, and what becomes of them.

mod between;
mod expected;
mod ways;
mod words;

pub use between::{Fared, Leg, between};
pub use expected::{FailingPair, Judged, judge};
pub use ways::{Way, own, ways};
pub use words::{HostWord, Met, met};
