//! Sockets that send hand-made packets, and that hear packets as they come.

use rustix::event::{PollFd, PollFlags};
use rustix::fd::{AsFd, OwnedFd};
use rustix::io::Errno;
use rustix::net::addr::{SocketAddrArg, SocketAddrLen, SocketAddrOpaque};
use rustix::net::{
    AddressFamily, MMsgHdr, Protocol, RecvFlags, SendAncillaryBuffer, SendFlags, SocketFlags,
    SocketType, netdevice, sendmmsg, sendto, socket_with,
};
use std::io::{self, IoSlice};
use std::net::{IpAddr, SocketAddr};
use std::time::Instant;

/// A link-layer address (`struct sockaddr_ll`, packet(7)).
struct LinkAddress(libc::sockaddr_ll);

// SAFETY: the closure gets a pointer to a valid `sockaddr_ll` and exactly its size; it is alive
// as long as `self`.
#[allow(unsafe_code)]
unsafe impl SocketAddrArg for LinkAddress {
    unsafe fn with_sockaddr<R>(
        &self,
        f: impl FnOnce(*const SocketAddrOpaque, SocketAddrLen) -> R,
    ) -> R {
        let size = SocketAddrLen::try_from(size_of::<libc::sockaddr_ll>()).unwrap_or(20);
        f((&raw const self.0).cast(), size)
    }
}

/// Sends packets, from the IP header on, over one link to one neighbour.
pub(crate) struct LinkSender {
    socket: OwnedFd,
    v4: LinkAddress,
    v6: LinkAddress,
}

const ETHERTYPE_V4: u16 = 0x0800;
const ETHERTYPE_V6: u16 = 0x86dd;

impl LinkSender {
    /// Opens a sender on the link of that name in the calling thread's namespace.
    pub(crate) fn open(link: &str, neighbour: [u8; 6]) -> io::Result<Self> {
        // Protocol 0: nothing is received.
        let socket =
            socket_with(AddressFamily::PACKET, SocketType::DGRAM, SocketFlags::CLOEXEC, None)?;
        let index = netdevice::name_to_index(&socket, link)?;
        let index = i32::try_from(index).map_err(io::Error::other)?;
        let address = |ethertype: u16| {
            let mut octets = [0; 8];
            octets[..6].copy_from_slice(&neighbour);
            LinkAddress(libc::sockaddr_ll {
                sll_family: u16::try_from(libc::AF_PACKET).unwrap_or(17),
                sll_protocol: ethertype.to_be(),
                sll_ifindex: index,
                sll_hatype: 0,
                sll_pkttype: 0,
                sll_halen: 6,
                sll_addr: octets,
            })
        };
        Ok(Self { socket, v4: address(ETHERTYPE_V4), v6: address(ETHERTYPE_V6) })
    }

    /// Sends one packet from the IP header on.
    pub(crate) fn send(&self, packet: &[u8]) -> io::Result<()> {
        let is_v4 = packet.first().is_some_and(|byte| byte >> 4 == 4);
        let address = if is_v4 { &self.v4 } else { &self.v6 };
        rustix::io::retry_on_intr(|| {
            sendto(self.socket.as_fd(), packet, SendFlags::empty(), address)
        })?;
        Ok(())
    }
}

/// Sends whole frames over one link to one neighbour, many at a time.
pub(crate) struct FrameSender {
    socket: OwnedFd,
    /// Receiver and sender of each frame.
    ends: [u8; 12],
}

impl FrameSender {
    /// Opens a sender on the link of that name in the calling thread's namespace.
    pub(crate) fn open(link: &str, neighbour: [u8; 6]) -> io::Result<Self> {
        let socket =
            socket_with(AddressFamily::PACKET, SocketType::RAW, SocketFlags::CLOEXEC, None)?;
        let index = netdevice::name_to_index(&socket, link)?;
        let address = LinkAddress(libc::sockaddr_ll {
            sll_family: u16::try_from(libc::AF_PACKET).unwrap_or(17),
            // Nothing is received.
            sll_protocol: 0,
            sll_ifindex: i32::try_from(index).map_err(io::Error::other)?,
            sll_hatype: 0,
            sll_pkttype: 0,
            sll_halen: 0,
            sll_addr: [0; 8],
        });
        rustix::net::bind(&socket, &address)?;
        // Without a queue in between, the frames are there when the call returns. Where that
        // cannot be had they come a little later, which is waited for.
        let _ = super::switch_on(&socket, libc::SOL_PACKET, libc::PACKET_QDISC_BYPASS);
        let mut ends = [2; 12];
        ends[..6].copy_from_slice(&neighbour);
        Ok(Self { socket, ends })
    }

    /// What stands in a frame before the IP header.
    pub(crate) fn frame_header(&self, v4: bool) -> [u8; 14] {
        let mut header = [0; 14];
        header[..12].copy_from_slice(&self.ends);
        let kind = if v4 { ETHERTYPE_V4 } else { ETHERTYPE_V6 };
        header[12..].copy_from_slice(&kind.to_be_bytes());
        header
    }

    /// Sends frames, each as it is.
    pub(crate) fn send(&self, frames: &[&[u8]]) -> io::Result<()> {
        let slices: Vec<[IoSlice<'_>; 1]> = frames.iter().map(|it| [IoSlice::new(it)]).collect();
        let mut nothing: Vec<SendAncillaryBuffer<'_, '_, '_>> =
            frames.iter().map(|_| SendAncillaryBuffer::default()).collect();
        let mut messages: Vec<MMsgHdr<'_>> =
            slices.iter().zip(&mut nothing).map(|(it, none)| MMsgHdr::new(it, none)).collect();
        let mut sent = 0;
        while sent < messages.len() {
            match sendmmsg(&self.socket, &mut messages[sent..], SendFlags::empty()) {
                Ok(some) => sent += some,
                // The link is busy for a moment.
                Err(Errno::NOBUFS | Errno::AGAIN | Errno::INTR) => std::thread::yield_now(),
                Err(error) => return Err(error.into()),
            }
        }
        Ok(())
    }
}

/// Hears the UDP datagrams to one port that come in, ahead of all rules.
pub(crate) struct Listener(OwnedFd);

/// `ETH_P_ALL` (linux/if_ether.h), in network order.
const EVERYTHING: u32 = (3u16.to_be()) as u32;
/// Longer packets are not waited for.
const LONGEST: usize = 2_048;

impl Listener {
    /// Opens one in the calling thread's namespace.
    pub(crate) fn open(port: u16) -> io::Result<Self> {
        let protocol = std::num::NonZeroU32::new(EVERYTHING).map(Protocol::from_raw);
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket = socket_with(AddressFamily::PACKET, SocketType::DGRAM, flags, protocol)?;
        // Whatever else comes in would fill the queue before anybody looks.
        super::filter::only_datagrams_to(&socket, port)?;
        Ok(Self(socket))
    }

    /// The next packet, from the IP header on, that comes before the deadline.
    pub(crate) fn next(&self, deadline: Instant) -> io::Result<Option<Vec<u8>>> {
        let mut buffer = vec![0; LONGEST];
        loop {
            match rustix::net::recv(&self.0, &mut buffer[..], RecvFlags::empty()) {
                Ok((length, _)) => {
                    buffer.truncate(length);
                    return Ok(Some(buffer));
                }
                Err(Errno::INTR) => continue,
                Err(Errno::AGAIN) => {}
                Err(error) => return Err(error.into()),
            }
            let left = deadline.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            let left = rustix::event::Timespec::try_from(left).map_err(io::Error::other)?;
            let mut waiting = [PollFd::new(&self.0, PollFlags::IN)];
            match rustix::event::poll(&mut waiting, Some(&left)) {
                Ok(_) | Err(Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }
}

/// Sends packets, from the IP header on, as if a program of this host had made them.
pub(crate) struct HostSender {
    v4: OwnedFd,
    v6: OwnedFd,
}

impl HostSender {
    /// Opens a sender in the calling thread's namespace.
    pub(crate) fn open() -> io::Result<Self> {
        let raw = rustix::net::ipproto::RAW;
        let open = |family| {
            let protocol: Option<Protocol> = Some(raw);
            socket_with(family, SocketType::RAW, SocketFlags::CLOEXEC, protocol)
        };
        Ok(Self { v4: open(AddressFamily::INET)?, v6: open(AddressFamily::INET6)? })
    }

    /// Sends one packet. A refusal by the host's own rules is not an error here: the packet was
    /// made, and what became of it is observed elsewhere.
    pub(crate) fn send(&self, packet: &[u8], destination: IpAddr) -> io::Result<()> {
        let socket = if destination.is_ipv4() { &self.v4 } else { &self.v6 };
        let to = SocketAddr::new(destination, 0);
        match rustix::io::retry_on_intr(|| sendto(socket, packet, SendFlags::empty(), &to)) {
            Ok(_) | Err(Errno::PERM) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}
