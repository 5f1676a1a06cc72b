//! The exact meaning of plans and programs: what becomes of every packet there can be.
//!
//! A meaning is one decision diagram for each direction, whose leaves are [`Fate`]s. Two meanings
//! from one [`Atlas`] are equal exactly when no packet fares differently, and where they are not,
//! the packets in question are again a diagram, from which an example can be taken. Nothing is
//! sampled.
//!
//! Other forms were measured against this one on rule lists like those of real hosts (`cargo bench
//! -p tipstaff-core --bench meaning`): lists of disjoint boxes need about as many pieces as there
//! are pairs of rules that overlap, and grow with the square of their number.

mod atlas;
mod compare;
mod diagram;
mod fate;
mod fields;
mod plan;
mod program;

pub use atlas::{Atlas, Meaning, Region};
pub use compare::Difference;
pub use fate::Fate;
