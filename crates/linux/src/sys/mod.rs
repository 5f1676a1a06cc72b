//! The only place with unsafe code: system calls that no well-kept crate wraps.

pub mod error_queue;
pub mod namespace;
pub mod netlink;
pub mod packet;

/// Asks the kernel to end this process when its parent ends, however that happens.
///
/// # Errors
/// The system's, which is not known to happen.
pub fn die_with_parent() -> std::io::Result<()> {
    use rustix::process::{Signal, set_parent_process_death_signal};
    Ok(set_parent_process_death_signal(Some(Signal::KILL))?)
}
