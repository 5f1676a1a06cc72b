//! Where this machine is, by what its links and neighbours say.

use crate::LinuxError;
use crate::addresses::of_links;
use crate::transport::{NetlinkSocket, Protocol, Transport, ask_about, dump};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::BorrowedFd;
use rustix::io::Errno;
use std::io::ErrorKind;
use std::time::{Duration, Instant};
use tipstaff_core::policy::{GatewaySeen, LinkPlace, Whereabouts};
use tipstaff_core::space::HardwareAddress;
use tipstaff_wire::gateway::{self, Gateway, Neighbour};
use tipstaff_wire::route;

/// So long whoever looks waits for neighbours to say who they are.
const ANSWERS: Duration = Duration::from_millis(300);
/// How often it is looked whether they have.
const LOOK: Duration = Duration::from_millis(20);

/// Where the machine is. Neighbours that lead everywhere else are asked who they are, if that is not known, or was said
/// some time ago; what they answer in time counts.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn whereabouts(transport: &mut dyn Transport) -> Result<Whereabouts, LinuxError> {
    let gateways = gateways(transport)?;
    let begun = Instant::now();
    let mut asked = false;
    loop {
        let neighbours = neighbours(transport)?;
        let of = |it: &Gateway| {
            neighbours
                .iter()
                .find(|found| (found.link, found.address) == (it.link, it.address))
                .copied()
        };
        let open = gateways.iter().any(|it| of(it).is_none_or(|it| it.hardware.is_none()));
        if !asked {
            for it in gateways
                .iter()
                .filter(|it| of(it).is_none_or(|it| it.hardware.is_none() || it.stale))
            {
                // Whoever may not ask sees what is known already.
                let request = |sequence| gateway::find_neighbour(it, sequence);
                let _ = ask_about(transport, "ask who a neighbour is", &[], request);
            }
            asked = true;
        }
        if !open || begun.elapsed() >= ANSWERS {
            return seen(transport, &gateways, of);
        }
        std::thread::sleep(LOOK);
    }
}

fn seen(
    transport: &mut dyn Transport,
    gateways: &[Gateway],
    of: impl Fn(&Gateway) -> Option<Neighbour>,
) -> Result<Whereabouts, LinuxError> {
    let addresses = of_links(transport)?;
    let links = dump(transport, "list links", route::dump_links, route::decode_link)?;
    let place = |link: route::Link| LinkPlace {
        up: link.up && link.carries,
        addresses: addresses
            .iter()
            .filter(|it| it.link == link.index)
            .map(|it| it.address)
            .collect(),
        gateways: gateways
            .iter()
            .filter(|it| it.link == link.index)
            .map(|it| GatewaySeen {
                address: it.address,
                hardware: of(it).and_then(|it| HardwareAddress::of(&it.hardware?)),
            })
            .collect(),
        name: link.name,
    };
    Ok(Whereabouts { links: links.into_iter().filter(|it| !it.loopback).map(place).collect() })
}

fn gateways(transport: &mut dyn Transport) -> Result<Vec<Gateway>, LinuxError> {
    let all = dump(transport, "list routes", gateway::dump_routes, gateway::decode_gateway)?;
    Ok(all.into_iter().flatten().collect())
}

fn neighbours(transport: &mut dyn Transport) -> Result<Vec<Neighbour>, LinuxError> {
    let all =
        dump(transport, "list neighbours", gateway::dump_neighbours, gateway::decode_neighbour)?;
    Ok(all.into_iter().flatten().collect())
}

/// `RTMGRP_LINK`, `RTMGRP_NEIGH`, `RTMGRP_IPV4_IFADDR`, `RTMGRP_IPV4_ROUTE`, `RTMGRP_IPV6_IFADDR`, `RTMGRP_IPV6_ROUTE`.
const GROUPS: u32 = 0x1 | 0x4 | 0x10 | 0x40 | 0x100 | 0x400;

/// So many reports are taken at once.
const AT_ONCE: usize = 4_096;

/// Tells when something about links, addresses, routes or neighbours changes.
#[derive(Debug)]
pub struct Movements {
    socket: NetlinkSocket,
}

impl Movements {
    /// Begins to listen.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open() -> Result<Self, LinuxError> {
        Ok(Self { socket: NetlinkSocket::of_groups(Protocol::Route, GROUPS)? })
    }

    /// Waits until something changes, or something else can be read, but no longer than that; gives whether something of
    /// this did. What has come by then counts as one; whoever sends without end is not listened to for ever.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn wait(&mut self, most: Duration, or: Option<BorrowedFd<'_>>) -> Result<bool, LinuxError> {
        let doing = "wait for changes of links";
        let mut wanted = vec![PollFd::from_borrowed_fd(self.socket.as_fd(), PollFlags::IN)];
        wanted.extend(or.map(|it| PollFd::from_borrowed_fd(it, PollFlags::IN)));
        let most = Timespec::try_from(most).ok();
        match poll(&mut wanted, most.as_ref()) {
            Ok(_) | Err(Errno::INTR) => {}
            Err(error) => return Err(LinuxError::system(doing, error)),
        }
        let mut moved = false;
        for _ in 0..AT_ONCE {
            match self.socket.receive_now() {
                Ok(Some(_)) => moved = true,
                Ok(None) => break,
                // More than there was room for: surely something has changed.
                Err(error) if error.raw_os_error() == Some(libc::ENOBUFS) => moved = true,
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(error) => return Err(LinuxError::system(doing, error)),
            }
        }
        Ok(moved)
    }
}
