//! Everything of Tipstaff that talks to the Linux kernel.
//!
//! A [`Machine`] is what use cases ask: the one before us, or one whose answers were kept. [`ruleset`] puts rule
//! programs into the kernel and reads them back, [`sockets`] lists what listens, [`programs`] has sockets told apart
//! by program, [`flows`] lists what lives on, [`lab`] builds sealed networks, [`probe`] sends real packets,
//! [`replica`] copies a machine into a lab. All `unsafe` code of the project is in the modules below `sys`, each with
//! the reason why it is sound.
#![warn(unreachable_pub)]

mod abilities;
mod addresses;
mod batch;
mod changed_files;
mod error;
pub mod flows;
pub mod foreign;
mod groups;
mod kernel;
pub mod lab;
mod machine;
mod place;
mod privileges;
pub mod probe;
pub mod programs;
pub mod replica;
pub mod ruleset;
mod session;
pub mod sockets;
mod sys;
mod taken;
pub mod translation;
mod transport;
mod users;
pub mod watching;
mod whereabouts;

pub use abilities::{Ability, Need, abilities};
pub use addresses::{Link, Way};
pub use batch::deliver;
pub use changed_files::ChangedFiles;
pub use error::{LinuxError, Reason};
pub use groups::leave_control_groups;
pub use kernel::{OLDEST, is_too_old, tracking};
pub use machine::{Here, Listed, Machine, Recorded, Wanted};
pub use place::Place;
pub use privileges::{keep_only_what_enforcing_needs, run_before_others};
pub use session::Session;
pub use sys::die_with_parent;
pub use sys::lock::lock_for_writing;
pub use sys::namespace::Namespace;
pub use transport::{NetlinkSocket, Protocol, Transport};
pub use whereabouts::Movements;
