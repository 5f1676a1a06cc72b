//! The addresses of a host's links.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use std::net::IpAddr;
use tipstaff_wire::route;

/// Lists the addresses of all links of the transport's network namespace.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn addresses(transport: &mut dyn Transport) -> Result<Vec<IpAddr>, LinuxError> {
    dump(
        transport,
        "list addresses",
        route::dump_addresses,
        |found: &mut Vec<_>, message| Ok(found.push(route::decode_address(message.body)?)),
    )
}
