//! `bpf(2)`: maps, programs, and the links that hold programs at their hooks.
//!
//! The layout of what the call takes is that of `union bpf_attr` in `linux/bpf.h`.

use rustix::fd::{AsFd, AsRawFd, BorrowedFd, FromRawFd, OwnedFd};
use std::ffi::CString;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// `enum bpf_cmd`.
#[derive(Clone, Copy)]
#[repr(i32)]
enum Command {
    MapCreate = 0,
    MapLookup = 1,
    MapUpdate = 2,
    ProgramLoad = 5,
    Pin = 6,
    Unpinned = 7,
    Info = 15,
    LinkCreate = 28,
    LinkUpdate = 29,
    Iterate = 33,
    LinkDetach = 34,
}

/// As many bytes as any command here needs; the kernel accepts more, if they are zero.
const ATTRIBUTE: usize = 144;
/// `BPF_MAP_TYPE_ARRAY`.
const ARRAY: u32 = 2;
/// The key of the one value of a map.
const ONLY: [u8; 4] = [0; 4];
/// Helpers that read the kernel's structures are only for programs that may be combined with it;
/// the licence of this one allows that.
const LICENCE: &std::ffi::CStr = c"Dual MIT/GPL";
/// The longest name of a map or program, with the NUL behind it.
const NAME: usize = 16;

/// What one command is told.
struct Attribute {
    bytes: [u8; ATTRIBUTE],
}

impl Attribute {
    fn new() -> Self {
        Self { bytes: [0; ATTRIBUTE] }
    }

    fn number(mut self, at: usize, value: u32) -> Self {
        self.bytes[at..at + 4].copy_from_slice(&value.to_ne_bytes());
        self
    }

    fn descriptor(self, at: usize, of: BorrowedFd<'_>) -> Self {
        self.number(at, of.as_raw_fd().cast_unsigned())
    }

    /// Where some bytes are. They must outlive the call.
    fn pointer<T>(mut self, at: usize, to: *const T) -> Self {
        // Exposed, since the kernel writes through it.
        let address = u64::try_from(to.expose_provenance()).unwrap_or_default();
        self.bytes[at..at + 8].copy_from_slice(&address.to_ne_bytes());
        self
    }

    fn name(mut self, at: usize, name: &str) -> Self {
        let bytes = name.as_bytes();
        let length = bytes.len().min(NAME - 1);
        self.bytes[at..at + length].copy_from_slice(&bytes[..length]);
        self
    }

    /// # Safety
    /// Every pointer that was written must be to as many bytes as the command reads or writes
    /// there, and live until it returns.
    #[allow(unsafe_code)]
    unsafe fn give(&mut self, command: Command) -> io::Result<i32> {
        // SAFETY: the attribute is as long as said, and the caller answers for what it points to.
        let result = unsafe {
            libc::syscall(libc::SYS_bpf, command as i32, self.bytes.as_mut_ptr(), ATTRIBUTE)
        };
        if result < 0 {
            return Err(io::Error::last_os_error());
        }
        i32::try_from(result).map_err(io::Error::other)
    }

    /// For commands that give a descriptor.
    ///
    /// # Safety
    /// As for [`Attribute::give`].
    #[allow(unsafe_code)]
    unsafe fn open(&mut self, command: Command) -> io::Result<OwnedFd> {
        // SAFETY: the caller answers for the pointers.
        let raw = unsafe { self.give(command) }?;
        // SAFETY: the kernel has just opened this descriptor for us, and nobody else knows it.
        Ok(unsafe { OwnedFd::from_raw_fd(raw) })
    }
}

/// Makes a map that holds one value.
#[allow(unsafe_code)]
pub(crate) fn map(name: &str, value: &[u8]) -> io::Result<OwnedFd> {
    let size = |it: usize| u32::try_from(it).unwrap_or(u32::MAX);
    let mut attribute = Attribute::new()
        .number(0, ARRAY)
        .number(4, size(ONLY.len()))
        .number(8, size(value.len()))
        .number(12, 1)
        .name(28, name);
    // SAFETY: nothing is pointed to.
    let map = unsafe { attribute.open(Command::MapCreate) }?;
    put(map.as_fd(), value)?;
    Ok(map)
}

/// Puts the value into a map. It must be as long as the one that the map was made with.
#[allow(unsafe_code)]
pub(crate) fn put(map: BorrowedFd<'_>, value: &[u8]) -> io::Result<()> {
    if value_length(map)? != value.len() {
        return Err(io::Error::other("the map's value has another length"));
    }
    let mut attribute =
        Attribute::new().descriptor(0, map).pointer(8, ONLY.as_ptr()).pointer(16, value.as_ptr());
    // SAFETY: both are as long as the map's key and value, and outlive the call.
    unsafe { attribute.give(Command::MapUpdate) }.map(drop)
}

fn value_length(map: BorrowedFd<'_>) -> io::Result<usize> {
    let info = map_info(map)?;
    if usize::try_from(info.key).ok() != Some(ONLY.len()) || info.entries != 1 {
        return Err(io::Error::other("the map is not one of a single value"));
    }
    usize::try_from(info.value).map_err(io::Error::other)
}

/// The value of a map that holds one.
#[allow(unsafe_code)]
pub(crate) fn value(map: BorrowedFd<'_>) -> io::Result<Vec<u8>> {
    let mut value = vec![0; value_length(map)?];
    let mut attribute = Attribute::new()
        .descriptor(0, map)
        .pointer(8, ONLY.as_ptr())
        .pointer(16, value.as_mut_ptr().cast_const());
    // SAFETY: both are as long as the map's key and value, and outlive the call.
    unsafe { attribute.give(Command::MapLookup) }?;
    Ok(value)
}

/// A map as the kernel describes it.
#[derive(Clone, Debug)]
pub(crate) struct MapInfo {
    /// The kernel's number for it.
    pub id: u32,
    /// The length of keys.
    key: u32,
    /// The length of values.
    value: u32,
    /// How many values it holds at most.
    entries: u32,
    /// The name it was given.
    pub name: String,
}

/// What the kernel says of a map.
pub(crate) fn map_info(map: BorrowedFd<'_>) -> io::Result<MapInfo> {
    let info = info::<96>(map, &[])?;
    let name: Vec<u8> = info[24..24 + NAME].iter().copied().take_while(|&it| it != 0).collect();
    Ok(MapInfo {
        id: number_at(&info, 4),
        key: number_at(&info, 8),
        value: number_at(&info, 12),
        entries: number_at(&info, 16),
        name: String::from_utf8_lossy(&name).into_owned(),
    })
}

/// A program as the kernel describes it.
#[derive(Clone, Debug)]
pub(crate) struct ProgramInfo {
    /// The kernel's number for it.
    pub id: u32,
    /// The numbers of the maps that it uses.
    pub maps: Vec<u32>,
}

/// What the kernel says of a program.
pub(crate) fn program_info(program: BorrowedFd<'_>) -> io::Result<ProgramInfo> {
    let mut maps = [0_u32; 8];
    let mut asked = [0; 64];
    asked[52..56].copy_from_slice(&8_u32.to_ne_bytes());
    let address = u64::try_from(maps.as_mut_ptr().expose_provenance()).unwrap_or_default();
    asked[56..64].copy_from_slice(&address.to_ne_bytes());
    let info = info::<224>(program, &asked)?;
    let count = usize::try_from(number_at(&info, 52)).unwrap_or(0);
    let maps = maps.iter().copied().take(count).collect();
    Ok(ProgramInfo { id: number_at(&info, 4), maps })
}

/// A link as the kernel describes it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LinkInfo {
    /// The kernel's number for the program that it holds.
    pub program: u32,
    /// The cgroup at which it is; zero if that is gone.
    pub cgroup: u64,
}

/// Describes a link between a program and a cgroup.
pub(crate) fn link_info(link: BorrowedFd<'_>) -> io::Result<LinkInfo> {
    let info = info::<64>(link, &[])?;
    let cgroup = u64::from(number_at(&info, 16)) | u64::from(number_at(&info, 20)) << 32;
    Ok(LinkInfo { program: number_at(&info, 8), cgroup })
}

fn number_at(bytes: &[u8], at: usize) -> u32 {
    let four = bytes.get(at..at + 4).and_then(|it| it.try_into().ok());
    four.map_or(0, u32::from_ne_bytes)
}

/// `BPF_OBJ_GET_INFO_BY_FD`, with what is asked for at the beginning. What that points to must be
/// as long as it says.
#[allow(unsafe_code)]
fn info<const N: usize>(of: BorrowedFd<'_>, asked: &[u8]) -> io::Result<[u8; N]> {
    let mut info = [0; N];
    info[..asked.len()].copy_from_slice(asked);
    let mut attribute = Attribute::new()
        .descriptor(0, of)
        .number(4, u32::try_from(N).unwrap_or(0))
        .pointer(8, info.as_mut_ptr().cast_const());
    // SAFETY: the buffer is as long as said and outlives the call.
    unsafe { attribute.give(Command::Info) }?;
    Ok(info)
}

/// What a program is for.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Purpose {
    /// `enum bpf_prog_type`.
    pub kind: u32,
    /// `enum bpf_attach_type`.
    pub hook: u32,
    /// The number of the kernel's function that it is attached to, if it is to one.
    pub function: u32,
}

/// Loads a program. The error's text ends with what the kernel's checker says.
#[allow(unsafe_code)]
pub(crate) fn program(name: &str, purpose: Purpose, code: &[u8]) -> io::Result<OwnedFd> {
    const INSTRUCTION: usize = 8;
    let load = |log: &mut [u8]| {
        let count = u32::try_from(code.len() / INSTRUCTION).unwrap_or(u32::MAX);
        let mut attribute = Attribute::new()
            .number(0, purpose.kind)
            .number(4, count)
            .pointer(8, code.as_ptr())
            .pointer(16, LICENCE.as_ptr())
            .name(48, name)
            .number(68, purpose.hook)
            .number(108, purpose.function);
        if !log.is_empty() {
            attribute = attribute
                .number(24, 1)
                .number(28, u32::try_from(log.len()).unwrap_or(0))
                .pointer(32, log.as_mut_ptr().cast_const());
        }
        // SAFETY: the code is as long as the count says, the licence ends with a NUL, the log is
        // as long as said, and all outlive the call.
        unsafe { attribute.open(Command::ProgramLoad) }
    };
    load(&mut []).or_else(|error| {
        if error.raw_os_error() == Some(libc::EPERM) {
            return Err(error);
        }
        // Once more, for the checker's words.
        let mut log = vec![0; 65_536];
        load(&mut log).map_err(|again| {
            let text: Vec<u8> = log.into_iter().take_while(|&it| it != 0).collect();
            let text = String::from_utf8_lossy(&text);
            let words = text.lines().rfind(|it| !it.starts_with("processed")).unwrap_or_default();
            if words.is_empty() { again } else { io::Error::other(format!("{again}: {words}")) }
        })
    })
}

/// Holds a program at a hook for as long as somebody holds the link: a descriptor, or a pin.
#[allow(unsafe_code)]
pub(crate) fn link(
    program: BorrowedFd<'_>,
    cgroup: Option<BorrowedFd<'_>>,
    hook: u32,
) -> io::Result<OwnedFd> {
    let mut attribute = Attribute::new().descriptor(0, program).number(8, hook);
    if let Some(cgroup) = cgroup {
        attribute = attribute.descriptor(4, cgroup);
    }
    // SAFETY: nothing is pointed to.
    unsafe { attribute.open(Command::LinkCreate) }
}

/// Puts another program into a link, with no moment between.
#[allow(unsafe_code)]
pub(crate) fn replace(link: BorrowedFd<'_>, program: BorrowedFd<'_>) -> io::Result<()> {
    let mut attribute = Attribute::new().descriptor(0, link).descriptor(4, program);
    // SAFETY: nothing is pointed to.
    unsafe { attribute.give(Command::LinkUpdate) }.map(drop)
}

/// Takes what a link holds from its hook, before this returns (since Linux 5.9). To give up the link alone
/// leaves that to the kernel, which does it a while later.
#[allow(unsafe_code)]
pub(crate) fn detach(link: BorrowedFd<'_>) -> io::Result<()> {
    let mut attribute = Attribute::new().descriptor(0, link);
    // SAFETY: nothing is pointed to.
    unsafe { attribute.give(Command::LinkDetach) }.map(drop)
}

/// What an iterator hands out, from its beginning.
#[allow(unsafe_code)]
pub(crate) fn iterate(link: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    let mut attribute = Attribute::new().descriptor(0, link);
    // SAFETY: nothing is pointed to.
    unsafe { attribute.open(Command::Iterate) }
}

/// Gives a map, program or link a name in a bpf file system: it lives until that is removed.
#[allow(unsafe_code)]
pub(crate) fn pin(it: BorrowedFd<'_>, path: &Path) -> io::Result<()> {
    let path = CString::new(path.as_os_str().as_bytes())?;
    let mut attribute = Attribute::new().pointer(0, path.as_ptr()).descriptor(8, it);
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { attribute.give(Command::Pin) }.map(drop)
}

/// Opens what has been pinned.
#[allow(unsafe_code)]
pub(crate) fn pinned(path: &Path) -> io::Result<OwnedFd> {
    let path = CString::new(path.as_os_str().as_bytes())?;
    let mut attribute = Attribute::new().pointer(0, path.as_ptr());
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { attribute.open(Command::Unpinned) }
}
