//! The addresses of a host's links.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use std::net::IpAddr;
use tipstaff_wire::netlink::{ERROR, split};
use tipstaff_wire::route;

/// Lists the addresses of all links of the transport's network namespace.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn addresses(transport: &mut dyn Transport) -> Result<Vec<IpAddr>, LinuxError> {
    dump(transport, "list addresses", route::dump_addresses, route::decode_address)
}

/// Whether packets to `address` end at this host, so that it can speak for the address: because a
/// link has it, or because a route says that a whole network does. An address to which there is
/// no route at all is not this host's.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us ask.
pub fn is_own(transport: &mut dyn Transport, address: IpAddr) -> Result<bool, LinuxError> {
    let doing = "look up a route";
    let system = |source| LinuxError::system(doing, source);
    let sequence = transport.next_sequence();
    transport.send(&route::get_route(address, sequence)?).map_err(system)?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        if let Some(answer) = split(&datagram)?.iter().find(|it| it.sequence == sequence) {
            return match answer.kind {
                ERROR => Ok(false),
                _ => Ok(route::decode_is_local(answer.body)?),
            };
        }
    }
}
