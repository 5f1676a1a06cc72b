//! A policy for many hosts: sealed, carried to them, and what of it changes for whom.

mod agent;
mod carrier;
mod carriers;
mod compare;
mod etcd;
mod far;
mod folder;
mod kept;
mod keys;
mod lines;
mod order;
mod over_ssh;
mod overview;
mod packed;
mod roll_out;
mod seal;
mod standing;
mod take;
mod trust;
mod undo;
mod verify;
mod word;

pub use carriers::CarrierName;
pub use compare::{Alike, Compared, Side, compare};
pub use far::carry;
pub use order::Order;
pub use over_ssh::carry_folder;
pub use overview::{HostStands, Overview, overview};
pub use roll_out::{Far, Held, RolledOut, Size, Steps, hold, roll_out};
pub use seal::{SealWish, Sealed, seal, seal_before};
pub use standing::{Has, NotTaken, Standing};
pub use take::{How, Taken, take};
pub use trust::Trust;
pub use undo::{Undone, undo};
pub use verify::{Refused, Verified, verify};
pub(crate) use word::stay;
