//! What is asked about one packet.

use tipstaff_core::space::{ConnectionState, Direction};

/// What is asked, as typed.
#[derive(Clone, Debug)]
pub struct Question {
    /// The address that it comes from.
    pub from: Option<String>,
    /// The address that it goes to.
    pub to: Option<String>,
    /// The traffic term for what it carries.
    pub traffic: String,
    /// By which interface it comes in, by role or name.
    pub ingress: Option<String>,
    /// By which interface it goes out, by role or name.
    pub egress: Option<String>,
    /// The executable of the socket that receives or sends it.
    pub program: Option<String>,
    /// The user whose socket it is.
    pub user: Option<String>,
    /// The port that it comes from.
    pub source_port: Option<u16>,
    /// The port that its sender asked for before it was led here, 0 if it was not led; `None`: left open.
    pub published: Option<u16>,
    /// What connection tracking says of it; if left out, what it says of such a packet that comes alone.
    pub state: Option<ConnectionState>,
    /// Which way it goes, seen from the host.
    pub direction: Direction,
}
