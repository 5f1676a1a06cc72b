//! The use cases. Each computes a report, which is plain data; none of them prints.

pub mod ask;
pub mod asked;
mod committed;
pub mod compare;
pub mod cut;
pub mod docket;
pub mod draft;
pub mod edit;
pub mod effect;
pub mod enforce;
mod failure;
pub mod kernel;
mod live;
mod load;
pub mod programs;
pub mod reach;
mod region;
pub mod rehearse;
pub mod report;
pub mod review;
mod session;
pub mod show;
pub mod status;
pub mod transaction;
mod users;
pub mod vantage;
mod words;

pub use failure::Failure;
pub use load::{Loaded, host_name, load, load_all, load_for_kernel, load_here, loaded};
pub use region::RegionWords;
pub use words::{By, PacketWords, grouped, likely_packet};
