//! Places whose addresses come from files: what was read of those last is kept beside the policy.

mod checked;
mod far;
mod folder;
mod gather;
mod refresh;
mod wish;

pub use far::lend;
pub(crate) use folder::{folder, kept, read_at};
pub use refresh::{PlaceWords, Report, refresh};
pub use wish::{Although, Wish};
