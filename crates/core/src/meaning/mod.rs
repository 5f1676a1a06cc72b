//! The exact meaning of plans and programs: what becomes of every packet there can be.
//!
//! A meaning is one decision diagram for each direction, whose leaves are [`Fate`]s. Two meanings
//! from one [`Atlas`] are equal exactly when no packet fares differently, and where they are not,
//! the packets in question are again a diagram, from which an example can be taken. Nothing is
//! sampled.
//!
//! The other form that was weighed is a list of disjoint boxes. It has about a piece for each pair of
//! rules that overlap, and a rule without addresses overlaps all those with the same port; in a
//! diagram it adds a path, and all that lies beside the path is shared. `cargo bench -p
//! tipstaff-core --bench policy` has the times of diagrams up to 10,000 rules.

mod atlas;
mod chains;
mod combine;
mod compare;
mod diagram;
mod differing;
mod fate;
mod fields;
mod firsts;
mod leaves;
mod nearest;
mod pieces;
mod plan;
mod program;
mod table;

pub use atlas::{Atlas, Meaning, Region};
pub use compare::Difference;
pub use differing::Differing;
pub use fate::Fate;
