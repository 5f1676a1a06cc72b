//! A session, as far as rules look at it.

use super::receivers::Receivers;
use tipstaff_core::analysis;
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{Machine, Session};

/// The session, as far as rules look at it.
pub(crate) fn way(
    machine: &dyn Machine,
    session: &Session,
    receivers: Option<&Receivers>,
) -> analysis::Session {
    // By which interface it comes in is told by the way back to it.
    let interface = machine.way_to(session.client).ok().and_then(|it| it.link);
    let whose = receivers
        .map(|it| it.at(PortProtocol::Tcp, (session.server, session.port).into()))
        .unwrap_or_default();
    analysis::Session {
        client: (session.client, session.client_port),
        server: (session.server, session.port),
        interface,
        program: whose.program,
        user: whose.user,
    }
}
