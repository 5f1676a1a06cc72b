//! The use cases. Each computes a report, which is plain data; none of them prints.

pub mod ask;
pub mod enforce;
mod failure;
mod load;
pub mod reach;
pub mod show;
pub mod status;
mod users;
mod words;

pub use failure::Failure;
pub use load::{Loaded, load, load_for_kernel, loaded};
pub use words::{By, PacketWords, likely_packet};
