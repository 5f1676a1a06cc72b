//! A host whose every link ends in one empty street, from which anybody can be played.

use super::build::Node;
use super::link::{Links, hardware_address, index};
use crate::LinuxError;
use crate::sys::namespace::Namespace;
use std::fs;
use std::net::IpAddr;
use tipstaff_wire::route::Via;

/// A link of a host on a stage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StageLink {
    /// The name that the host has for it.
    pub name: String,
    /// The number that it has on the machine that is copied, if one is.
    pub index: Option<u32>,
    /// Its addresses with prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
}

/// A host, and the street in which its links end. Nothing lives in the street, so that nothing
/// but what is played reaches the host.
#[derive(Debug)]
pub struct Stage {
    host: Node,
    street: Namespace,
}

/// What the far end of a link is called.
fn far_end(at: usize) -> String {
    format!("door{at}")
}

impl Stage {
    /// Builds a stage, in a sealed process (see [`super::seal`]). Whoever the host answers, it finds
    /// a way to: by its first link, or where the link matters, by that one.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn build(name: &str, links: &[StageLink], forwards: bool) -> Result<Self, LinuxError> {
        let street = Namespace::create()?;
        street.run(|| Links::open()?.silence())??;
        let namespace = Namespace::create()?;
        let furnish = || {
            let mut made = Links::open()?;
            made.prepare(forwards)?;
            for (at, link) in links.iter().enumerate() {
                let address = hardware_address(at);
                made.pair(&link.name, link.index, address, &far_end(at), &street)?;
            }
            Ok::<(), LinuxError>(())
        };
        namespace.run(furnish)??;
        street.run(|| {
            let mut doors = Links::open()?;
            for at in 0..links.len() {
                let name = far_end(at);
                doors.up(&name, index(&name)?, None)?;
            }
            Ok::<(), LinuxError>(())
        })??;
        let connect = || {
            let mut made = Links::open()?;
            for link in links {
                let number = index(&link.name)?;
                made.up(&link.name, number, None)?;
                for &address in &link.addresses {
                    made.address(number, address)?;
                }
                made.route(([0; 4].into(), 0), Via::Link(number))?;
                made.route(([0; 16].into(), 0), Via::Link(number))?;
            }
            Ok::<(), LinuxError>(())
        };
        namespace.run(connect)??;
        for place in [&namespace, &street] {
            place.run(|| Links::open()?.ready())??;
        }
        let known = links.iter().enumerate();
        let known = known.map(|(at, link)| (link.name.clone(), hardware_address(at))).collect();
        Ok(Self { host: Node::new(name, namespace, known), street })
    }

    /// The host in the middle.
    #[must_use]
    pub fn host(&self) -> &Node {
        &self.host
    }

    /// The street in which all links end.
    #[must_use]
    pub fn street(&self) -> &Namespace {
        &self.street
    }

    /// Has the host send packets to an address by one of its links. Nobody is there; what waits for him is not kept.
    ///
    /// # Errors
    /// [`LinuxError`] if it has no such link, or the system refuses.
    pub fn lead(&self, to: IpAddr, link: &str) -> Result<(), LinuxError> {
        let prefix = if to.is_ipv4() { 32 } else { 128 };
        self.host.run(|| Links::open()?.route((to, prefix), Via::Link(index(link)?)))?
    }

    /// Has the host keep next to nothing for neighbours who do not answer: whoever sends would have to wait for them.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn wait_for_nobody(&self) -> Result<(), LinuxError> {
        self.host.run(|| {
            for (link, _) in self.host.links() {
                for version in ["ipv4", "ipv6"] {
                    let path = format!("/proc/sys/net/{version}/neigh/{link}/unres_qlen_bytes");
                    fs::write(&path, "2048").map_err(|source| {
                        LinuxError::system(format!("write {path} in a lab"), source)
                    })?;
                }
            }
            Ok(())
        })?
    }

    /// What the far end of the host's link of that name is called in the street.
    #[must_use]
    pub fn door(&self, link: &str) -> Option<String> {
        self.host.position(link).map(far_end)
    }
}
