//! The use cases. Each is a function from a request to a report, which is plain data; none of them
//! prints. Long work says how far it is to a function that the caller gives.
#![warn(unreachable_pub)]

pub mod ask;
pub mod asked;
pub mod callers;
pub mod chosen;
mod codes;
mod committed;
pub mod compare;
pub mod cut;
pub mod docket;
pub mod draft;
pub mod edit;
pub mod effect;
pub mod enforce;
pub mod expected;
pub mod facts;
mod failure;
mod finding;
mod first;
mod folded;
pub mod kernel;
pub mod listing;
mod live;
mod load;
mod outcome;
pub mod programs;
pub mod reach;
mod receivers;
mod region;
pub mod rehearse;
pub mod report;
pub mod review;
pub mod roles;
mod session;
pub mod show;
pub mod status;
pub mod store;
pub mod transaction;
pub mod undoing;
mod users;
pub mod vantage;
pub mod vocabulary;
mod way;
mod words;
mod written;

pub use failure::Failure;
pub use finding::Finding;
pub use first::StaysOpen;
pub(crate) use load::host_name;
pub use load::{Loaded, load, load_all, load_for_kernel, load_here, loaded};
pub use outcome::Outcome;
pub use region::RegionWords;
pub(crate) use words::likely_packet;
pub use words::{By, PacketWords, grouped};
pub use written::Written;
