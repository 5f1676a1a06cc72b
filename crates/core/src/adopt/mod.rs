//! Rules of others as a policy: flattened into one list for each direction, written as rules, and compared by
//! meaning with what was there. What cannot be said is named, and why.

mod baseline;
mod drafted;
mod flatten;
pub(crate) mod fold;
mod held;
mod judged;
mod narrowed;
mod outcome;
pub(crate) mod rules;
mod services;
mod taken;
pub(crate) mod terms;
mod traffic;

pub use flatten::TooMany;
pub use held::{Entrance, Held, Place, Row, Then, Way};
pub use judged::Differs;
pub use outcome::{Adopted, Named, NotTaken, Taken, Trouble};
pub use taken::taken;
