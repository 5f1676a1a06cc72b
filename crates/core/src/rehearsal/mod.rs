//! What a rehearsal has to try: which senders a host's rules tell apart, where they come in, and
//! what the rules say of each packet.

mod classes;
mod course;
mod crossing;
mod judge;

pub use classes::{classes, sendable};
pub use course::{CLIENT_PORT, Course, Role, Site, Stand, course, speaker};
pub use crossing::{Crossing, Crossings, crossings};
pub use judge::Judge;
