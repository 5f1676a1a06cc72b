//! Who waits in other network namespaces of this machine, such as those of containers.
//!
//! They are found by the processes that run in them. What may not be looked into is passed over: it is told
//! as far as it is known. Anybody can make a network with whatever addresses in a user namespace of their own: only
//! processes of this one are believed, and nothing is told of an address that several networks have.

use crate::addresses;
use crate::sockets::{self, Listener, Owner, PortProtocol};
use crate::sys::namespace::Namespace;
use crate::transport::{NetlinkSocket, Protocol};
use std::collections::BTreeSet;
use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// For each of these, the process that waits there in another namespace.
pub(super) fn waiting(targets: &[(PortProtocol, SocketAddr)]) -> Vec<Option<Owner>> {
    let mut found = vec![None; targets.len()];
    let mut networks = vec![0; targets.len()];
    let wanted = |addresses: &[IpAddr]| targets.iter().any(|it| addresses.contains(&it.1.ip()));
    for file in namespaces() {
        let Ok(namespace) = Namespace::open(&file) else { continue };
        let look = || -> Option<(Vec<IpAddr>, Vec<Listener>)> {
            let own = addresses::addresses(&mut NetlinkSocket::open(Protocol::Route).ok()?).ok()?;
            if !wanted(&own) {
                return None;
            }
            let mut diagnosis = NetlinkSocket::open(Protocol::SocketDiagnosis).ok()?;
            // What this kernel does not list of one protocol says nothing of the others.
            let of = |protocol| sockets::waiting(&mut diagnosis, &[protocol]).unwrap_or_default();
            Some((own, PortProtocol::ALL.into_iter().flat_map(of).collect()))
        };
        let Ok(Some((own, listeners))) = namespace.run(look) else { continue };
        for ((&(protocol, at), known), networks) in
            targets.iter().zip(&mut found).zip(&mut networks)
        {
            if !own.contains(&at.ip()) {
                continue;
            }
            *networks += 1;
            let hears = |it: &&Listener| {
                (it.protocol, it.port) == (protocol, at.port())
                    && (it.address == at.ip() || it.address.is_unspecified())
            };
            let owner = listeners.iter().find(hears).and_then(|it| it.owner.clone());
            *known = owner.filter(|_| *networks == 1);
        }
    }
    found
}

/// A file for each namespace in which some process runs, but the one of this thread.
fn namespaces() -> Vec<PathBuf> {
    let number = |file: &Path| fs::metadata(file).ok().map(|it| (it.dev(), it.ino()));
    let own = number(Path::new("/proc/thread-self/ns/net"));
    let users = number(Path::new("/proc/thread-self/ns/user"));
    let mut seen: BTreeSet<(u64, u64)> = own.into_iter().collect();
    let mut files = Vec::new();
    for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let is_process = |name: &str| name.bytes().all(|it| it.is_ascii_digit());
        if !process.file_name().to_str().is_some_and(is_process) {
            continue;
        }
        let file = process.path().join("ns/net");
        if number(&process.path().join("ns/user")) != users {
            continue;
        }
        if number(&file).is_some_and(|it| seen.insert(it)) {
            files.push(file);
        }
    }
    files
}
