//! Remote shell sessions: the one from which a command is run, and others that live now.

use crate::store::started;
use std::collections::BTreeSet;
use std::net::SocketAddr;
use tipstaff_linux::{LinuxError, Machine, Session};

/// The kernel tells processes' starts in ticks of this many milliseconds (`USER_HZ`).
const TICK: u64 = 10;

/// When this process's session began, in milliseconds since boot, as far as its processes tell.
pub(crate) fn own_since(machine: &dyn Machine) -> Option<u64> {
    let of_it = machine.own_session()?.of_own_line();
    let began = of_it.filter_map(|pid| match pid.parse() {
        Ok(pid) => started(pid),
        Err(_) => started(std::process::id()),
    });
    began.min().map(|ticks| ticks * TICK)
}

/// All sessions whose connection stands and that some process belongs to. A connection to the
/// shell's port alone is none: whoever has not logged in has nothing to lose.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us list connections.
pub(crate) fn living(machine: &dyn Machine) -> Result<Vec<Session>, LinuxError> {
    let plain = |it: SocketAddr| SocketAddr::new(it.ip().to_canonical(), it.port());
    let standing: BTreeSet<(SocketAddr, SocketAddr)> =
        machine.streams()?.into_iter().map(|it| (plain(it.own), plain(it.peer))).collect();
    let lives = |it: &Session| {
        standing.contains(&(
            SocketAddr::new(it.server, it.port),
            SocketAddr::new(it.client, it.client_port),
        ))
    };
    let told = machine.sessions_told().into_iter().chain(machine.own_session());
    let found: BTreeSet<Session> =
        told.filter(|it| lives(it) && !it.client.is_loopback()).collect();
    Ok(found.into_iter().collect())
}
