//! What the tool keeps on disk: the policy's files, written whole or not at all, the docket of
//! what was enforced, and the note that a boot needs without it.

mod callers;
mod docket;
mod entry;
mod file;
mod home;
mod kept;
pub(crate) mod listening;
mod note;
mod pending;
mod posture;
mod process;
mod seen;
pub(crate) mod snapshots;
pub mod undo;
mod worked_out;

pub use callers::{callers_saved_ago, save_callers, saved_callers};
pub(crate) use docket::docket_stamp;
pub use docket::{Docket, Lost, Written};
pub use entry::{Entry, Kind, State};
pub use file::{lock, make_like, put_for_all, remove, replace};
pub use home::Home;
pub(crate) use home::this_boot;
pub use kept::{Guarded, KeptPlace, all as all_kept, digest, policy as kept_policy};
pub(crate) use kept::{by_digest, damage};
pub use note::{Note, origin};
pub(crate) use pending::set_pending;
pub use pending::{Pending, pending};
pub use posture::{InPosture, Situation};
pub use process::{Watcher, started};
pub use seen::Seen;
pub(crate) use worked_out::WorkedOut;

use crate::Failure;
use hmac_sha256::Hash;
use std::io;
use std::path::Path;

fn sum(bytes: &[u8]) -> String {
    Hash::hash(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// What is in a file that is kept for its owner alone; larger ones than so many bytes are not ours.
pub(crate) fn private(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    home::read(path, most)
}

/// Keeps something with the docket, for its owner alone.
///
/// # Errors
/// [`Failure`] if it cannot be written.
pub(crate) fn keep_private(home: &Home, name: &str, bytes: &[u8]) -> Result<(), Failure> {
    let kept = home.make().and_then(|()| file::replace_private(&home.folder.join(name), bytes));
    kept.map_err(|error| home::broken(&format!("keep {name}"), &home.folder, &error))
}
