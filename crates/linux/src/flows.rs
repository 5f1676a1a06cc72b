//! Flows that the kernel keeps track of: what lives on whatever the rules say now.

use crate::LinuxError;
use crate::sockets::Connection;
use crate::transport::{Transport, ask_about, dump};
use tipstaff_wire::conntrack;
pub use tipstaff_wire::conntrack::Flow;
use tipstaff_wire::sock_diag;

/// What the kernel says of something that has ended by itself.
const GONE: [i32; 2] = [libc::ENOENT, libc::ESTALE];

/// Lists all flows.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read, or keeps track of nothing.
///
/// # References
/// linux/netfilter/nfnetlink_conntrack.h
pub fn flows(netfilter: &mut dyn Transport) -> Result<Vec<Flow>, LinuxError> {
    dump(netfilter, "list connections", conntrack::dump, conntrack::decode)
}

/// Makes the kernel forget a flow, so that its next packet is judged anew; gives `false` if it had
/// ended by itself.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn forget(netfilter: &mut dyn Transport, flow: &Flow) -> Result<bool, LinuxError> {
    ask_about(netfilter, "forget a connection", &GONE, |sequence| conntrack::delete(flow, sequence))
}

/// Ends a connection's socket of this host; gives `false` if it had ended by itself. Without that, the
/// host's own next packet would begin the flow anew, as one of its own.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses. A kernel without `CONFIG_INET_DIAG_DESTROY` always does.
pub fn end_socket(
    diagnosis: &mut dyn Transport,
    connection: &Connection,
) -> Result<bool, LinuxError> {
    let protocol = connection.protocol.number();
    let request = |sequence| sock_diag::destroy(protocol, &connection.socket, sequence);
    ask_about(diagnosis, "end a connection", &GONE, request)
}
