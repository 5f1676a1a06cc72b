//! The marks of sockets that are there already.

use super::files::Files;
use super::needs::Needs;
use super::running::executed;
use super::users::acts_as;
use crate::LinuxError;
use crate::sockets::socket_number;
use crate::sys::mark;
use rustix::fd::{AsFd, OwnedFd};
use rustix::process::{Pid, PidfdFlags, PidfdGetfdFlags, pidfd_getfd, pidfd_open};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use tipstaff_wire::bpf::recognise::{Owner, Standing, standing_of};

/// Who holds a socket.
struct Holder {
    pid: u32,
    descriptor: i32,
    bits: u32,
}

/// Marks the sockets of our network namespace that carry no valid bits of ours for the program that
/// holds them, or for nobody; and takes the bits of `leave` off all.
pub(super) fn claim(
    needs: &Needs,
    files: &Files,
    mask: u32,
    owners: &BTreeMap<Owner, Standing>,
    valid: &BTreeSet<u32>,
    leave: u32,
) -> Result<(), LinuxError> {
    let executed = executed(files)?;
    let mut holders: BTreeMap<u32, Vec<Holder>> = BTreeMap::new();
    for (identity, pids) in &executed {
        for &pid in pids {
            let Some(user) = acts_as(pid) else { continue };
            let bits = standing_of(owners, *identity, user).map_or(0, |it| it.bits);
            for (number, descriptor) in sockets_of(pid) {
                holders.entry(number).or_default().push(Holder { pid, descriptor, bits });
            }
        }
    }
    for held in holders.values() {
        // The one that was started last serves; the others may only have started it.
        let owner = held.iter().filter(|it| it.bits != 0).max_by_key(|it| it.pid);
        let wanted = owner.map_or(0, |it| it.bits);
        // Who goes away in the meantime takes the socket along, or leaves it to another.
        let Some(socket) = held.iter().find_map(duplicate) else { continue };
        let is_ip = mark::family(socket.as_fd())
            .is_ok_and(|it| matches!(it, libc::AF_INET | libc::AF_INET6));
        if !is_ip || mark::namespace_cookie(socket.as_fd()).ok() != Some(needs.namespace) {
            continue;
        }
        let Ok(found) = mark::mark(socket.as_fd()) else { continue };
        let stays = found & mask != 0 && valid.contains(&(found & mask));
        let bits = if stays { found & mask } else { wanted };
        let new = found & !mask & !leave | bits;
        if new != found {
            let doing = |source| LinuxError::system("mark sockets that are there already", source);
            mark::set_mark(socket.as_fd(), new).map_err(doing)?;
        }
    }
    Ok(())
}

/// The numbers of the sockets that a process holds, with their descriptors.
fn sockets_of(pid: u32) -> Vec<(u32, i32)> {
    let entries = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    let socket = |entry: fs::DirEntry| {
        let number = socket_number(&entry.path())?;
        Some((number, entry.file_name().to_str()?.parse().ok()?))
    };
    entries.filter_map(socket).collect()
}

/// The same socket, in our own hands.
fn duplicate(holder: &Holder) -> Option<OwnedFd> {
    let pid = Pid::from_raw(i32::try_from(holder.pid).ok()?)?;
    let process = pidfd_open(pid, PidfdFlags::empty()).ok()?;
    pidfd_getfd(&process, holder.descriptor, PidfdGetfdFlags::empty()).ok()
}
