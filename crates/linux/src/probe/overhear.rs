//! Datagrams that rules may keep from every socket, heard as they come in.

use crate::LinuxError;
use crate::sys::packet::Listener;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Instant;

const UDP: u8 = 17;
const HEADER_V6: usize = 40;
const HEADER_UDP: usize = 8;

/// Hears UDP datagrams to any address of this host, ahead of all rules. Only who may look at all packets
/// can (`CAP_NET_RAW`).
pub struct Overhearing(Listener);

impl Overhearing {
    /// Begins to listen in the calling thread's network namespace for what comes to a port.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn begin(port: u16) -> Result<Self, LinuxError> {
        let listener = Listener::open(port);
        Ok(Self(listener.map_err(|source| LinuxError::system("hear what comes in", source))?))
    }

    /// The next datagram that comes before the deadline: to which address, and what it says.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn next(&self, deadline: Instant) -> Result<Option<(IpAddr, Vec<u8>)>, LinuxError> {
        let failed = |source| LinuxError::system("hear what comes in", source);
        while let Some(packet) = self.0.next(deadline).map_err(failed)? {
            if let Some((to, text)) = datagram(&packet) {
                return Ok(Some((to, text.to_vec())));
            }
        }
        Ok(None)
    }
}

/// Where a datagram goes, and what it says; of fragments and extension headers nothing is
/// wanted.
fn datagram(packet: &[u8]) -> Option<(IpAddr, &[u8])> {
    let first = *packet.first()?;
    let (to, behind): (IpAddr, &[u8]) = match first >> 4 {
        4 => {
            let length = usize::from(first & 0xf) * 4;
            let whole = packet.get(6)? & 0x3f == 0 && *packet.get(7)? == 0;
            let to: [u8; 4] = packet.get(16..20)?.try_into().ok()?;
            (*packet.get(9)? == UDP && whole).then_some(())?;
            (Ipv4Addr::from(to).into(), packet.get(length..)?)
        }
        6 => {
            let to: [u8; 16] = packet.get(24..40)?.try_into().ok()?;
            (*packet.get(6)? == UDP).then_some(())?;
            (Ipv6Addr::from(to).into(), packet.get(HEADER_V6..)?)
        }
        _ => return None,
    };
    let length = usize::from(u16::from_be_bytes(behind.get(4..6)?.try_into().ok()?));
    Some((to, behind.get(HEADER_UDP..length.min(behind.len()))?))
}

#[cfg(test)]
mod tests {
    use super::datagram;

    #[test]
    fn only_whole_datagrams_are_heard_and_nothing_cut_is_taken_for_one() {
        let mut v4 = vec![0x45, 0, 0, 32, 0, 0, 0, 0, 64, 17, 0, 0, 192, 0, 2, 1, 192, 0, 2, 10];
        v4.extend([0x9c, 0x40, 0x9c, 0x41, 0, 12, 0, 0, b's', b'e', b'e', b'd', 0, 0]);
        let (to, text) = datagram(&v4).expect("one");
        assert_eq!((to.to_string().as_str(), text), ("192.0.2.10", &b"seed"[..]));
        for cut in 0..28 {
            assert_eq!(datagram(&v4[..cut]), None, "cut at {cut}");
        }
        v4[6] = 0x20;
        assert_eq!(datagram(&v4), None, "a fragment");
        let mut v6 = vec![0x60, 0, 0, 0, 0, 12, 17, 64];
        v6.extend([0x20, 1, 0xd, 0xb8, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
        v6.extend([0x20, 1, 0xd, 0xb8, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x10]);
        v6.extend([0x9c, 0x40, 0x9c, 0x41, 0, 12, 0, 0, b's', b'e', b'e', b'd']);
        let (to, text) = datagram(&v6).expect("one");
        assert_eq!((to.to_string().as_str(), text), ("2001:db8:2::10", &b"seed"[..]));
    }
}
