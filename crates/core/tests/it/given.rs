//! Policies and packets that the tests share.

use std::net::IpAddr;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Policy, Source, read};
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};

pub const INHERITED: &str = include_str!("../../../../demo/inherited.toml");
pub const MENDED: &str = include_str!("../../../../demo/mended.toml");

pub fn policy(text: &str) -> Policy {
    read(&Source::new("policy.toml", text)).unwrap_or_else(|problems| panic!("{problems:#?}"))
}

pub fn plan(text: &str, host: &str) -> HostPlan {
    resolve(&policy(text), host, tipstaff_core::generate::NOW).expect("the host is there")
}

pub fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

pub fn tcp(destination: u16) -> Transport {
    Transport::Ports { protocol: PortProtocol::Tcp, source: 50_000, destination }
}

pub fn udp(source: u16, destination: u16) -> Transport {
    Transport::Ports { protocol: PortProtocol::Udp, source, destination }
}

/// A new inbound packet from some interface.
pub fn packet(source: &str, destination: &str, transport: Transport) -> Packet {
    Packet {
        user: None,
        direction: Direction::Inbound,
        in_interface: None,
        out_interface: None,
        source: address(source),
        destination: address(destination),
        transport,
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    }
}
