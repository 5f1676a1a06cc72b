//! Giving up what is not needed.

use rustix::thread::{CapabilitySet, CapabilitySets, set_capabilities};
use std::io;

/// Gives up every capability (capabilities(7)) of the calling process but those that enforcing
/// needs: `CAP_NET_ADMIN` to change rules, `CAP_BPF` and `CAP_PERFMON` to have sockets told apart by
/// program, and `CAP_SYS_PTRACE` and `CAP_DAC_READ_SEARCH` to look up whose session or socket
/// something is; where no bpf file system is mounted, also `CAP_SYS_ADMIN`, to mount one if rules need
/// it. Call it before any thread is started. `and_starts_others` leaves those to programs that it starts which writing
/// files anew and becoming nobody need; it has them no more itself.
///
/// # Errors
/// The system's, which is not known to happen: anybody may give up what they have.
pub fn keep_only_what_enforcing_needs(and_starts_others: bool) -> io::Result<()> {
    let had = rustix::thread::capabilities(None)?;
    let needed = CapabilitySet::NET_ADMIN
        | CapabilitySet::BPF
        | CapabilitySet::PERFMON
        | CapabilitySet::SYS_PTRACE
        | CapabilitySet::DAC_READ_SEARCH;
    // Where no bpf file system is mounted, rules for programs need one, and that takes more.
    let needed =
        if crate::programs::has_pins() { needed } else { needed | CapabilitySet::SYS_ADMIN };
    let handed_on = match and_starts_others {
        true => {
            CapabilitySet::SETUID
                | CapabilitySet::SETGID
                | CapabilitySet::CHOWN
                | CapabilitySet::FOWNER
        }
        false => CapabilitySet::empty(),
    };
    let kept = CapabilitySets {
        effective: had.effective & needed,
        permitted: had.permitted & (needed | handed_on),
        inheritable: CapabilitySet::empty(),
    };
    Ok(set_capabilities(None, kept)?)
}

/// Has the calling process run before others, and be ended last where memory is short: so that whoever
/// keeps the machine busy does not keep it from what it has to do in time. Who may not do that goes on as
/// they are.
pub fn run_before_others() {
    let _ = rustix::process::setpriority_process(None, -20);
    let _ = std::fs::write("/proc/self/oom_score_adj", "-1000");
}
