//! A packet that begins a connection, as far as it is known.

use super::registers::Known;
use std::net::IpAddr;
use tipstaff_wire::nf_tables::{Base, ct};

const TCP: u8 = 6;
/// The flag with which a connection begins (RFC 9293).
const SYN: u8 = 2;

/// A packet that begins a connection.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Traveller {
    /// The interface that it comes by; `None`: by one that nobody names.
    pub in_interface: Option<String>,
    /// Whence it comes.
    pub source: IpAddr,
    /// Where it goes.
    pub destination: IpAddr,
    /// Its protocol's number.
    pub protocol: u8,
    /// The ports that it comes from and goes to, if its protocol has any.
    pub ports: Option<(u16, u16)>,
}

impl Traveller {
    pub(super) fn is_v4(&self) -> bool {
        self.destination.is_ipv4()
    }

    /// So many bytes of a header from one on.
    pub(super) fn bytes(&self, base: Base, offset: usize, length: usize) -> Vec<Known> {
        let header = match base {
            Base::Network => self.network(),
            Base::Transport => self.transport(),
            Base::Unknown(_) => Vec::new(),
        };
        (offset..offset.saturating_add(length).min(offset + 64))
            .map(|it| header.get(it).copied().flatten())
            .collect()
    }

    fn network(&self) -> Vec<Known> {
        let known = |bytes: &[u8]| bytes.iter().copied().map(Some).collect::<Vec<Known>>();
        match (self.source, self.destination) {
            (IpAddr::V4(source), IpAddr::V4(destination)) => {
                let mut header = vec![None; 12];
                (header[0], header[9]) = (Some(0x45), Some(self.protocol));
                header.extend(known(&source.octets()));
                header.extend(known(&destination.octets()));
                header
            }
            (IpAddr::V6(source), IpAddr::V6(destination)) => {
                let mut header = vec![None; 8];
                header[6] = Some(self.protocol);
                header.extend(known(&source.octets()));
                header.extend(known(&destination.octets()));
                header
            }
            _ => Vec::new(),
        }
    }

    fn transport(&self) -> Vec<Known> {
        let Some((from, to)) = self.ports else { return Vec::new() };
        let mut header: Vec<Known> =
            from.to_be_bytes().into_iter().chain(to.to_be_bytes()).map(Some).collect();
        if self.protocol == TCP {
            header.resize(13, None);
            header.push(Some(SYN));
        }
        header
    }

    /// What connection tracking knows of how its connection began.
    pub(super) fn began_with(&self, key: u32) -> Option<Vec<u8>> {
        let address = |it: IpAddr| match it {
            IpAddr::V4(it) => it.octets().to_vec(),
            IpAddr::V6(it) => it.octets().to_vec(),
        };
        match key {
            ct::SOURCE => Some(address(self.source)),
            ct::DESTINATION => Some(address(self.destination)),
            ct::PROTOCOL => Some(vec![self.protocol]),
            ct::DESTINATION_PORT => Some(self.ports?.1.to_be_bytes().to_vec()),
            _ => None,
        }
    }
}
