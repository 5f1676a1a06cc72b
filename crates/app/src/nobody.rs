//! Processes that speak with others over a network: whatever these send, there is nothing to be had.

use rustix::process::{Resource, Rlimit, setrlimit};
use rustix::thread::{CapabilitySet, CapabilitySets};

/// The user who owns nothing.
const NOBODY: u32 = 65_534;
/// So much memory the process may have, in bytes.
const MEMORY: u64 = 1024 * 1024 * 1024;

/// Whoever speaks with strangers is nobody: not root, without capabilities, and cannot write a file.
///
/// # Errors
/// The system's.
pub(crate) fn give_up_privileges() -> rustix::io::Result<()> {
    let limit =
        |resource, most| setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) });
    limit(Resource::As, MEMORY)?;
    limit(Resource::Fsize, 0)?;
    limit(Resource::Core, 0)?;
    if rustix::process::geteuid().is_root() {
        // In a user namespace there may be nobody else to be; then the capabilities go all the same.
        let (user, group) = (rustix::fs::Uid::from_raw(NOBODY), rustix::fs::Gid::from_raw(NOBODY));
        let _ = rustix::thread::set_thread_groups(&[]);
        let _ = rustix::thread::set_thread_res_gid(group, group, group);
        let _ = rustix::thread::set_thread_res_uid(user, user, user);
    }
    // Whoever asked is gone: nobody hears the answer. A change of user takes this back, so it comes behind it.
    rustix::process::set_parent_process_death_signal(Some(rustix::process::Signal::KILL))?;
    rustix::thread::set_no_new_privs(true)?;
    let none = CapabilitySet::empty();
    rustix::thread::set_capabilities(
        None,
        CapabilitySets { effective: none, permitted: none, inheritable: none },
    )
}
