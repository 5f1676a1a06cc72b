//! What differs between kernels.

use tipstaff_core::space::{ConnectionState, Tracking};

/// The first version whose connection tracking leaves multicast router discovery alone.
const ROUTER_DISCOVERY: (u32, u32) = (6, 2);

/// The running kernel's version, as far as its name tells.
fn version() -> Option<(u32, u32)> {
    let system = rustix::system::uname();
    let mut numbers = system.release().to_str().ok()?.split(|it: char| !it.is_ascii_digit());
    Some((numbers.next()?.parse().ok()?, numbers.next()?.parse().ok()?))
}

/// How the running kernel tracks connections.
#[must_use]
pub fn tracking() -> Tracking {
    match version() {
        Some(version) if version < ROUTER_DISCOVERY => {
            Tracking { router_discovery: ConnectionState::Invalid }
        }
        _ => Tracking::default(),
    }
}
