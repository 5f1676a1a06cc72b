//! The session from which a command is run.

use super::likely_packet;
use std::fs;
use std::net::IpAddr;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::space::{ConnectionState, Direction, Packet, Transport};

/// How far up the line of parents a session is looked for.
const GENERATIONS: usize = 64;

/// A remote shell session: the client's end, and the server's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Session {
    /// The client's address.
    pub client: IpAddr,
    /// The client's port.
    pub client_port: u16,
    /// The server's address.
    pub server: IpAddr,
    /// The server's port.
    pub port: u16,
}

impl Session {
    /// Reads what a remote shell leaves in the environment.
    ///
    /// # References
    /// ssh(1), ENVIRONMENT: `SSH_CONNECTION` holds the client's address and port, then the server's.
    fn parse(words: &str) -> Option<Self> {
        let mut words = words.split_whitespace();
        Some(Self {
            client: words.next()?.parse().ok()?,
            client_port: words.next()?.parse().ok()?,
            server: words.next()?.parse().ok()?,
            port: words.next()?.parse().ok()?,
        })
    }

    /// The session that this process belongs to: its own environment says so, or that of one of
    /// its parents, since privilege switches clear it.
    pub fn own() -> Option<Self> {
        if let Ok(words) = std::env::var("SSH_CONNECTION") {
            return Self::parse(&words);
        }
        let mut pid = "self".to_owned();
        for _ in 0..GENERATIONS {
            let found = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
            let variables = found.split(|&byte| byte == 0);
            let words = variables.filter_map(|it| it.strip_prefix(b"SSH_CONNECTION="));
            if let Some(session) =
                words.filter_map(|it| Self::parse(std::str::from_utf8(it).ok()?)).next()
            {
                return Some(session);
            }
            // The name in parentheses may hold anything; the parent is the second word behind it.
            let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
            let parent = stat.rsplit(')').next()?.split_whitespace().nth(1)?.to_owned();
            if parent == "0" {
                return None;
            }
            pid = parent;
        }
        None
    }

    /// The packet that would open the session again.
    pub fn opening(&self, plan: &HostPlan) -> Packet {
        Packet {
            source: self.client,
            destination: self.server,
            transport: Transport::Tcp { source: self.client_port, destination: self.port },
            state: ConnectionState::New,
            ..likely_packet(Direction::Inbound, plan)
        }
    }
}
