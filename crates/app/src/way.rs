//! A session, as far as rules look at it.

use super::programs::Receivers;
use super::session::Session;
use tipstaff_core::analysis;
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{NetlinkSocket, Protocol, link_towards};

/// The session, as far as rules look at it.
pub fn way(session: &Session, receivers: Option<&Receivers>) -> analysis::Session {
    // By which interface it comes in is told by the way back to it.
    let interface = NetlinkSocket::open(Protocol::Route)
        .and_then(|mut routes| link_towards(&mut routes, session.client))
        .ok()
        .flatten();
    analysis::Session {
        client: (session.client, session.client_port),
        server: (session.server, session.port),
        interface,
        program: receivers.and_then(|it| it.at(PortProtocol::Tcp, session.port)),
    }
}
