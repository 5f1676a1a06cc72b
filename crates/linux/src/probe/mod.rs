//! Real packets: what they meet, and how that was seen.

mod connect;
mod crafted;
mod echo;
mod overhear;
mod sweep;

pub use connect::{Attempt, Observation, State, attempt};
pub use crafted::{Account, Fate, Range, Shot};
pub use echo::echo;
pub use overhear::Overhearing;
pub use sweep::{Ends, Met, Sweep};
pub use tipstaff_wire::packet::Payload;
