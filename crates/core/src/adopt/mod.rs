//! Rules of others as a policy: flattened into one list for each direction, written as rules, and compared by
//! meaning with what was there. What cannot be said is named, and why.

mod baseline;
mod flatten;
pub(crate) mod fold;
mod held;
mod judged;
mod narrowed;
pub(crate) mod rules;
mod taken;
pub(crate) mod terms;
mod traffic;

pub use flatten::TooMany;
pub use held::{Entrance, Held, Place, Row, Then, Way};
pub use judged::Differs;
pub use taken::{Adopted, NotTaken, Taken, Trouble, taken};
