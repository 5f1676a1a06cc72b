//! What the service manager is told.

use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};

/// Tells the service manager, if one wants to know (sd_notify(3)).
pub(super) fn notify(what: &str) {
    let Some(name) = std::env::var_os("NOTIFY_SOCKET") else { return };
    let address = match name.as_bytes() {
        [b'@', rest @ ..] => SocketAddr::from_abstract_name(rest),
        _ => SocketAddr::from_pathname(&name),
    };
    // Whoever does not listen does not want to know.
    if let (Ok(address), Ok(socket)) = (address, UnixDatagram::unbound()) {
        let _ = socket.send_to_addr(what.as_bytes(), &address);
    }
}
