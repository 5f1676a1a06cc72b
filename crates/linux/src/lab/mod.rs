//! Sealed networks of network namespaces, in which a host's rules run on the real kernel.
//!
//! A lab needs no privileges where the system lets users make user namespaces. Everything in it
//! vanishes when the sealed process ends, however that happens: nothing has a name outside.

mod build;
#[cfg(feature = "testing")]
pub mod changing;
mod link;
mod porter;
mod stage;
#[cfg(feature = "testing")]
pub mod testing;
mod topology;

pub use build::{Lab, Node};
pub use porter::lead_elsewhere;
pub use stage::{Stage, StageLink};
pub use topology::{Interface, Machine, Route, Segment, Topology, TopologyError};

use crate::sys::namespace;
use std::process::Command;

/// Makes `command` start sealed off: in a network of its own, where it may do what root may.
/// It ends when the calling thread ends, so call this on a thread that waits for it.
pub fn seal(command: &mut Command) {
    namespace::seal(command);
}
