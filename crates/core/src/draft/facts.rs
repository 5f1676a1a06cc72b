//! What a machine does now.

use crate::space::PortProtocol;
use std::net::IpAddr;

/// What a machine does now.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Facts {
    /// The name of the machine.
    pub host: String,
    /// Its links besides the loopback one.
    pub links: Vec<Link>,
    /// Whether it passes packets on between links.
    pub forwards: bool,
    /// The sockets that wait for traffic.
    pub listeners: Vec<Listener>,
    /// The connections that stand now.
    pub contacts: Vec<Contact>,
    /// For so many seconds it is remembered who came, if that is to be told from: then they are among the
    /// contacts.
    pub remembered: Option<u64>,
    /// Where somebody came, and nothing listens now, with how many came.
    pub nobody_there: Vec<(u16, PortProtocol, usize)>,
    /// The remote shell session that asks: the client's address, and the port of the shell.
    pub session: Option<(IpAddr, u16)>,
    /// Whether rules are to be for the programs that listen now, and no others.
    pub by_program: bool,
    /// The tunnel that is to be the only way out in a posture, if there is to be one.
    pub tunnel: Option<Tunnel>,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
}

/// A tunnel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tunnel {
    /// Its interface.
    pub link: String,
    /// Its far ends, each with what goes there, as a traffic term.
    pub endpoints: Vec<(IpAddr, String)>,
}

/// An interface of the machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// The name of the interface.
    pub name: String,
    /// Its addresses with prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
    /// Whether one of them is given for a time only, as by a lease or an announcement.
    pub lent: bool,
}

/// A socket that waits for traffic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listener {
    /// The protocol that it speaks.
    pub protocol: PortProtocol,
    /// The port that it waits at.
    pub port: u16,
    /// The address it is bound to.
    pub address: IpAddr,
    /// The file of its program, if that is known.
    pub program: Option<String>,
}

/// A connection to this machine that stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contact {
    /// The protocol that it uses.
    pub protocol: PortProtocol,
    /// The port of this machine.
    pub port: u16,
    /// Who is at the other end.
    pub peer: IpAddr,
}
