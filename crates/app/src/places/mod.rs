//! Places whose addresses come from files: what was read of those last is kept beside the policy.

mod checked;
mod far;
mod force;
mod gather;
mod refresh;
mod said;
mod wish;

pub use far::lend;
pub use refresh::{PlaceWords, Report, refresh};
pub use wish::{Although, Wish};
