//! A connection that lives on, and its end.

use crate::vocabulary as say;
use serde::Serialize;
use std::net::IpAddr;
use tipstaff_linux::NetlinkSocket;
use tipstaff_linux::flows::{self, Flow};
use tipstaff_linux::ruleset::{Tuple, keep_quiet};
use tipstaff_linux::sockets::{Connection, PortProtocol};

/// A connection that the rules in force would not admit.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Living {
    /// `inbound`, `outbound` or `forwarded`, by its first packet.
    pub direction: say::Direction,
    /// What it carries, such as `5432/tcp`.
    pub traffic: String,
    /// The address of who began the connection.
    pub from: IpAddr,
    /// The address to which it was begun.
    pub to: IpAddr,
    /// What the rules say of it: `deny` or `reject`.
    pub verdict: say::Verdict,
    /// The name of the decision that would not admit it.
    pub by: String,
    /// Whether it is the session that asks, which is never cut.
    pub own_session: bool,
    /// Whether it was ended; `null` if it was not to be.
    pub ended: Option<bool>,
    /// Why it was not ended, though it was to be.
    pub why_not: Option<String>,
}

/// What a connection is made of here.
pub(super) struct Found {
    pub living: Living,
    /// Its first packet's ends, for protocols with ports; where it was led elsewhere, also those there.
    pub tuples: Vec<Tuple>,
    /// Its socket, if it has one of its own.
    pub socket: Option<Connection>,
    /// What connection tracking remembers of it.
    pub flows: Vec<Flow>,
}

impl Found {
    /// Whether it is a TCP connection of this host, which its socket ends for good.
    pub(super) fn is_own_tcp(&self) -> bool {
        self.socket.as_ref().is_some_and(|it| it.protocol == PortProtocol::Tcp)
    }

    pub(super) fn end(
        &self,
        kernel: &mut NetlinkSocket,
        diagnosis: &mut NetlinkSocket,
        not_quiet: Option<&String>,
    ) -> Result<(), String> {
        let mut why_not = not_quiet.filter(|_| !self.tuples.is_empty()).cloned();
        if let Some(socket) = self.socket.as_ref().filter(|_| self.is_own_tcp()) {
            why_not = flows::end_socket(diagnosis, socket).err().map(|it| it.to_string());
            if why_not.is_some() {
                // This kernel does not end sockets: but nobody hears of it any more.
                why_not = keep_quiet(kernel, &self.tuples).err().map(|it| it.to_string());
            }
        }
        for flow in &self.flows {
            let forgotten = flows::forget(kernel, flow).err().map(|it| it.to_string());
            why_not = why_not.or(forgotten);
        }
        why_not.map_or(Ok(()), Err)
    }
}
