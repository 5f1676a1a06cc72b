//! Our programs at their hooks.

use super::needs::Needs;
use crate::LinuxError;
use crate::sys::bpf::{self, Purpose};
use crate::sys::mark;
use rustix::fd::{AsFd, OwnedFd};
use rustix::net::{AddressFamily, SocketFlags, SocketType, socket_with};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;
use tipstaff_wire::WireError;
use tipstaff_wire::bpf::Map;
use tipstaff_wire::bpf::recognise::{Owner, Recogniser, Standing, Table};

/// `enum bpf_prog_type`.
const CGROUP_SOCK: u32 = 9;
const CGROUP_SOCK_ADDR: u32 = 18;
const CGROUP_SOCKOPT: u32 = 25;

/// The pin of the map; the links have the names of their hooks.
const PROGRAMS: &str = "programs";
/// What the pin of a program is called behind the name of its hook. Only a pin leads to a program
/// without rights beyond those that hooking it takes.
const PROGRAM: &str = "-program";
/// What something is called behind its name until it takes the place of what has that name.
const NEXT: &str = "-next";
/// What the map's name begins with; our bits of marks follow, in hexadecimal digits.
const MAP_NAME: &str = "tw_";
/// What follows if those are looked at who send.
const SENDING: &str = "_out";

/// `BPF_CGROUP_UDP4_SENDMSG` and `BPF_CGROUP_UDP6_SENDMSG`.
const SENDING_V4: u32 = 14;
const SENDING_V6: u32 = 15;

type Code = fn(&Recogniser) -> Result<Vec<u8>, WireError>;

/// A place in the kernel at which a program of ours runs.
struct Hook {
    name: &'static str,
    kind: u32,
    /// `enum bpf_attach_type`.
    number: u32,
    code: Code,
    /// What is not recognised without it; `None` if nothing is.
    without: Option<&'static str>,
}

impl Hook {
    /// Whether it is of use only if it matters whose a socket is that is only sent from.
    fn is_for_sending(&self) -> bool {
        matches!(self.number, SENDING_V4 | SENDING_V6)
    }
}

const fn hook(
    name: &'static str,
    (kind, number): (u32, u32),
    code: Code,
    without: Option<&'static str>,
) -> Hook {
    Hook { name, kind, number, code, without }
}

const LATE_USE: &str = "sockets that a program was handed open, and only asks about, are not \
                        recognised before the next `enforce`";
const LATE_SEND: &str = "sockets that a program was handed, and only sends from, are not \
                         recognised before the next `enforce`";
const FOREIGN: &str = "a program that sets marks of its own takes our bits off its sockets";

const HOOKS: [Hook; 10] = [
    hook("creation", (CGROUP_SOCK, 2), Recogniser::at_creation, None),
    hook("bind-v4", (CGROUP_SOCK_ADDR, 8), Recogniser::at_opening, None),
    hook("bind-v6", (CGROUP_SOCK_ADDR, 9), Recogniser::at_opening, None),
    hook("connect-v4", (CGROUP_SOCK_ADDR, 10), Recogniser::at_opening, None),
    hook("connect-v6", (CGROUP_SOCK_ADDR, 11), Recogniser::at_opening, None),
    hook("send-v4", (CGROUP_SOCK_ADDR, SENDING_V4), Recogniser::at_use, Some(LATE_SEND)),
    hook("send-v6", (CGROUP_SOCK_ADDR, SENDING_V6), Recogniser::at_use, Some(LATE_SEND)),
    hook("name-v4", (CGROUP_SOCK_ADDR, 31), Recogniser::at_use, Some(LATE_USE)),
    hook("name-v6", (CGROUP_SOCK_ADDR, 32), Recogniser::at_use, Some(LATE_USE)),
    hook("option", (CGROUP_SOCKOPT, 22), Recogniser::at_option, Some(FOREIGN)),
];

/// What the kernel recognises.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recognition {
    /// The bits of marks that are used.
    pub mask: u32,
    /// Whether those are looked at who send datagrams.
    pub sending: bool,
    /// The files and users that are known, and what their processes' sockets get.
    #[serde(skip)]
    pub owners: BTreeMap<Owner, Standing>,
    /// Hooks that ought to be there and are not.
    pub gone: Vec<String>,
    /// What is not recognised for lack of a hook that is of use, as whole sentences.
    pub without: Vec<String>,
}

/// Our programs, as they have just been put in place.
#[derive(Debug)]
pub(super) struct Hooks {
    map: OwnedFd,
    table: Table,
    /// What the map holds.
    pub owners: BTreeMap<Owner, Standing>,
    /// What could not be hooked although it would be of use.
    pub without: Vec<String>,
    mask: u32,
    sending: bool,
    /// Links that were there before, with the programs that they held, and the hook's name.
    before: Vec<(OwnedFd, OwnedFd, &'static str)>,
    /// Pins of links that were not.
    fresh: Vec<&'static str>,
    old_map: Option<OwnedFd>,
}

fn failed(source: io::Error) -> LinuxError {
    LinuxError::system("have sockets recognised", source)
}

/// `None` for what is not there.
fn if_there<T>(found: io::Result<T>) -> Result<Option<T>, LinuxError> {
    match found {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        other => other.map(Some).map_err(failed),
    }
}

impl Hooks {
    /// Takes away what namespaces that are gone have left at the hooks, which all namespaces share.
    pub(super) fn collect(needs: &Needs) {
        let folder = |name: &str| needs.pins.with_file_name(name);
        for name in needs.abandoned() {
            for entry in fs::read_dir(folder(&name)).into_iter().flatten().flatten() {
                detach(&entry.path());
                let _ = fs::remove_file(entry.path());
            }
            let _ = fs::remove_dir(folder(&name));
        }
    }

    /// Puts programs that know `owners` in place of those that are there, one hook after the
    /// other, each at once. Who sends is looked at if that is asked for, or has been until now.
    pub(super) fn put(
        needs: &Needs,
        mask: u32,
        owners: &BTreeMap<Owner, Standing>,
        sending: bool,
    ) -> Result<Self, LinuxError> {
        let table = Table::of(owners);
        let name = format!("{MAP_NAME}{mask:08x}{}", if sending { SENDING } else { "" });
        let map = bpf::map(&name, &table.to_value()).map_err(failed)?;
        fs::create_dir_all(&needs.pins).map_err(failed)?;
        let old_map = if_there(bpf::pinned(&needs.pins.join(PROGRAMS)))?;
        let mut hooks = Self {
            map,
            table,
            owners: owners.clone(),
            without: Vec::new(),
            mask,
            sending,
            before: Vec::new(),
            fresh: Vec::new(),
            old_map,
        };
        match hooks.attach(needs) {
            Ok(()) => Ok(hooks),
            Err(error) => {
                hooks.undo(needs);
                Err(error)
            }
        }
    }

    fn attach(&mut self, needs: &Needs) -> Result<(), LinuxError> {
        // The map first: should we be stopped, what is recognised can be read.
        pin_over(&self.map, &needs.pins.join(PROGRAMS)).map_err(failed)?;
        for hook in &HOOKS {
            let wanted = self.sending || !hook.is_for_sending();
            if !wanted && !needs.pins.join(hook.name).exists() {
                continue;
            }
            match (self.attach_one(needs, hook), hook.without) {
                (Ok(()), _) => {}
                (Err(_), Some(without)) => {
                    if !self.without.iter().any(|it| it == without) {
                        self.without.push(without.into());
                    }
                }
                (Err(source), None) => {
                    return Err(LinuxError::system(
                        format!("have sockets recognised at {}", hook.name),
                        source,
                    ));
                }
            }
        }
        Ok(())
    }

    fn attach_one(&mut self, needs: &Needs, hook: &Hook) -> io::Result<()> {
        let recogniser = Recogniser {
            offsets: needs.offsets,
            programs: Map(rustix::fd::AsRawFd::as_raw_fd(&self.map)),
            table: self.table.clone(),
            mask: self.mask,
            namespace: needs.namespace,
            page: i32::try_from(rustix::param::page_size()).unwrap_or(4096),
        };
        let code = (hook.code)(&recogniser).map_err(io::Error::other)?;
        let purpose = Purpose { kind: hook.kind, hook: hook.number, function: 0 };
        let name = format!("ts_{}", hook.name.replace('-', "_"));
        let program = bpf::program(&name, purpose, &code)?;
        let pin = needs.pins.join(hook.name);
        let pinned_program = needs.pins.join(format!("{}{PROGRAM}", hook.name));
        if let Ok(link) = bpf::pinned(&pin) {
            // A link whose cgroup is gone holds nothing any more.
            let info = bpf::link_info(link.as_fd())?;
            if info.cgroup == cgroup_number(needs)? {
                let held = match bpf::pinned(&pinned_program) {
                    Ok(held) => Some(held),
                    // Whoever was taking everything away was stopped in between.
                    Err(error) if error.kind() == io::ErrorKind::NotFound => None,
                    Err(error) => return Err(error),
                };
                bpf::replace(link.as_fd(), program.as_fd())?;
                match held {
                    Some(held) => self.before.push((link, held, hook.name)),
                    None => self.fresh.push(hook.name),
                }
                return pin_over(&program, &pinned_program);
            }
            fs::remove_file(&pin)?;
        }
        pin_over(&program, &pinned_program)?;
        let link = bpf::link(program.as_fd(), Some(needs.cgroup.as_fd()), hook.number)?;
        bpf::pin(link.as_fd(), &pin)?;
        self.fresh.push(hook.name);
        Ok(())
    }

    /// Takes away what only earlier rules needed.
    pub(crate) fn drop_needless(&self, needs: &Needs) -> Result<(), LinuxError> {
        for hook in HOOKS.iter().filter(|it| it.is_for_sending() && !self.sending) {
            for name in [hook.name, &format!("{}{PROGRAM}", hook.name)] {
                match fs::remove_file(needs.pins.join(name)) {
                    Err(error) if error.kind() != io::ErrorKind::NotFound => {
                        return Err(failed(error));
                    }
                    _ => {}
                }
            }
        }
        Ok(())
    }

    /// Has the kernel know an owner no more.
    pub(super) fn forget(&mut self, owner: Owner) -> Result<(), LinuxError> {
        self.owners.remove(&owner);
        self.table.forget(owner);
        bpf::put(self.map.as_fd(), &self.table.to_value()).map_err(failed)
    }

    /// Makes a socket and looks whether it was recognised as ours: that the hooks do what they
    /// should on this very kernel is seen before any rule relies on it.
    pub(crate) fn try_out(&self, bits: u32) -> Result<(), LinuxError> {
        for family in [AddressFamily::INET, AddressFamily::INET6] {
            let socket = match socket_with(family, SocketType::DGRAM, SocketFlags::CLOEXEC, None) {
                // A kernel without IPv6 has no such sockets to recognise.
                Err(rustix::io::Errno::AFNOSUPPORT) => continue,
                other => other.map_err(|error| failed(error.into()))?,
            };
            let found = mark::mark(socket.as_fd()).map_err(failed)?;
            if found & self.mask != bits {
                return Err(LinuxError::Refused {
                    doing: "recognise programs".into(),
                    reason: format!(
                        "a socket made to try it out has the mark {found:#010x}, not {bits:#010x}"
                    )
                    .into(),
                });
            }
        }
        Ok(())
    }

    /// Puts back what was there before.
    pub(super) fn undo(self, needs: &Needs) {
        let pinned = |name: &str| needs.pins.join(format!("{name}{PROGRAM}"));
        for (link, program, name) in &self.before {
            // What cannot be put back recognises the old programs all the same.
            if bpf::replace(link.as_fd(), program.as_fd()).is_ok() {
                let _ = pin_over(program, &pinned(name));
            }
        }
        for name in &self.fresh {
            let _ = fs::remove_file(needs.pins.join(name));
            let _ = fs::remove_file(pinned(name));
        }
        match &self.old_map {
            Some(map) => {
                let _ = pin_over(map, &needs.pins.join(PROGRAMS));
            }
            None => {
                let _ = fs::remove_file(needs.pins.join(PROGRAMS));
                let _ = fs::remove_dir(&needs.pins);
            }
        }
    }

    /// Reads what hangs at the hooks.
    pub(super) fn read(needs: &Needs) -> Result<Option<Recognition>, LinuxError> {
        let Some(map) = if_there(bpf::pinned(&needs.pins.join(PROGRAMS)))? else {
            return Ok(None);
        };
        let info = bpf::map_info(map.as_fd()).map_err(failed)?;
        let ours = info.name.strip_prefix(MAP_NAME);
        // One of another version of ours knows what we cannot read, but its bits we can.
        let name = ours.or(info.name.get(MAP_NAME.len()..)).unwrap_or_default();
        let sending = name.ends_with(SENDING);
        let mask = u32::from_str_radix(name.trim_end_matches(SENDING), 16).unwrap_or(0);
        let owners = match ours {
            Some(_) => Table::owners(&bpf::value(map.as_fd()).map_err(failed)?)?,
            None => BTreeMap::new(),
        };
        let (mut gone, mut without) = (Vec::new(), Vec::new());
        for hook in &HOOKS {
            let held = holds(needs, hook, info.id).unwrap_or(false);
            match hook.without {
                _ if held || (hook.is_for_sending() && !sending) => {}
                None => gone.push(hook.name.to_owned()),
                Some(text) if without.iter().any(|it| it == text) => {}
                Some(text) => without.push(text.to_owned()),
            }
        }
        Ok(Some(Recognition { mask, sending, owners, gone, without }))
    }

    /// Takes everything away; the map last, by which what is left is found again should we be
    /// stopped.
    pub(super) fn remove(needs: &Needs) -> Result<(), LinuxError> {
        let map = needs.pins.join(PROGRAMS);
        for entry in fs::read_dir(&needs.pins).map_err(failed)? {
            let pin = entry.map_err(failed)?.path();
            if pin != map {
                // Or it would go on writing marks while those that are there are taken off.
                detach(&pin);
                fs::remove_file(pin).map_err(failed)?;
            }
        }
        fs::remove_file(map).map_err(failed)?;
        fs::remove_dir(&needs.pins).map_err(failed)
    }
}

/// Ends what is pinned there, if it is a link; older kernels end it soon after its pin is gone.
fn detach(pin: &Path) {
    let name = pin.file_name().unwrap_or_default();
    if HOOKS.iter().any(|it| it.name == name)
        && let Ok(link) = bpf::pinned(pin)
    {
        let _ = bpf::detach(link.as_fd());
    }
}

/// Whether the hook is held, at the cgroup where it should be, by a program that knows the map.
fn holds(needs: &Needs, hook: &Hook, map: u32) -> io::Result<bool> {
    let info = bpf::link_info(bpf::pinned(&needs.pins.join(hook.name))?.as_fd())?;
    let program = bpf::pinned(&needs.pins.join(format!("{}{PROGRAM}", hook.name)))?;
    let program = bpf::program_info(program.as_fd())?;
    let knows = program.id == info.program && program.maps.contains(&map);
    Ok(knows && info.cgroup == cgroup_number(needs)?)
}

/// The kernel's number for a cgroup is its folder's inode (cgroups(7)).
fn cgroup_number(needs: &Needs) -> io::Result<u64> {
    Ok(rustix::fs::fstat(&needs.cgroup)?.st_ino)
}

/// Pins something in place of what is pinned there, with no moment between.
fn pin_over(it: &OwnedFd, path: &Path) -> io::Result<()> {
    let mut next = path.as_os_str().to_owned();
    next.push(NEXT);
    match fs::remove_file(&next) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    bpf::pin(it.as_fd(), Path::new(&next))?;
    fs::rename(next, path)
}
