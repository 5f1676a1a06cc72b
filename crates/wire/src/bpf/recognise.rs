//! The programs that tell whose a socket is.
//!
//! Each looks up the file that the running process executes, by device, inode number and inode
//! generation, and keeps what it finds in some bits of the socket's mark; the packet filter
//! compares those. The bits outside [`Recogniser::mask`] are never touched.
//!
//! Source: `linux/bpf.h` for the contexts (`bpf_sock`, `bpf_sock_addr`, `bpf_sockopt`); the rest
//! by the kernel's own description of its types.

use super::{Assembler, Btf, Helper, Label, Map, Register, Width};
use crate::{Fields, WireError};
use Register::{R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Stack};
use Width::{Double, Word};
use std::collections::BTreeMap;

/// Which file a process executes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Identity {
    /// The device (`s_dev`), as the kernel numbers it for itself.
    pub device: u32,
    /// The inode's number.
    pub inode: u64,
    /// The inode's generation: a number that is used again has another. Zero on file systems that
    /// keep none.
    pub generation: u32,
}

impl Identity {
    /// How many bytes it takes.
    const LENGTH: usize = 16;

    fn bytes(self) -> [u8; Self::LENGTH] {
        let mut bytes = [0; Self::LENGTH];
        bytes[..8].copy_from_slice(&self.inode.to_ne_bytes());
        bytes[8..12].copy_from_slice(&self.device.to_ne_bytes());
        bytes[12..].copy_from_slice(&self.generation.to_ne_bytes());
        bytes
    }

    fn read(fields: &mut Fields<'_>) -> Result<Self, WireError> {
        let inode = [fields.ne32()?, fields.ne32()?].map(u32::to_ne_bytes).concat();
        let inode = u64::from_ne_bytes(inode.try_into().unwrap_or_default());
        Ok(Self { inode, device: fields.ne32()?, generation: fields.ne32()? })
    }
}

/// What a map says of an identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// The bits that sockets of the program get.
    pub bits: u32,
    /// Whether the program may change our bits of marks itself: it is ours.
    pub may_mark: bool,
}

/// What the programs know, in the order of the identities: the one value of a map.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Table(Vec<(Identity, Option<Standing>)>);

impl Table {
    /// How many bytes an entry takes: an identity, the bits, and whether it may mark.
    const ENTRY: usize = 24;

    /// A table of these.
    #[must_use]
    pub fn of(programs: &BTreeMap<Identity, Standing>) -> Self {
        let mut list: Vec<_> =
            programs.iter().map(|(it, standing)| (*it, Some(*standing))).collect();
        list.sort_by_key(|it| it.0.inode);
        Self(list)
    }

    /// Forgets one; the others keep their places.
    pub fn forget(&mut self, identity: Identity) {
        for entry in self.0.iter_mut().filter(|it| it.0 == identity) {
            entry.1 = None;
        }
    }

    /// The value of the map. What is forgotten is zeros, which no file is.
    #[must_use]
    pub fn to_value(&self) -> Vec<u8> {
        let entry = |(identity, standing): &(Identity, Option<Standing>)| {
            let mut bytes = [0; Self::ENTRY];
            if let Some(standing) = standing {
                bytes[..16].copy_from_slice(&identity.bytes());
                bytes[16..20].copy_from_slice(&standing.bits.to_ne_bytes());
                bytes[20..].copy_from_slice(&u32::from(standing.may_mark).to_ne_bytes());
            }
            bytes
        };
        // A map's value has one byte at least.
        let entries: Vec<u8> = self.0.iter().flat_map(entry).collect();
        if entries.is_empty() { vec![0; Self::ENTRY] } else { entries }
    }

    /// Reads what [`Table::to_value`] writes.
    ///
    /// # Errors
    /// [`WireError::Truncated`] if an entry is cut short.
    pub fn programs(value: &[u8]) -> Result<BTreeMap<Identity, Standing>, WireError> {
        let mut programs = BTreeMap::new();
        for entry in value.chunks(Self::ENTRY) {
            let mut fields = Fields::new(entry, "an entry of the programs");
            let identity = Identity::read(&mut fields)?;
            let standing = Standing { bits: fields.ne32()?, may_mark: fields.ne32()? != 0 };
            if identity.inode != 0 {
                programs.insert(identity, standing);
            }
        }
        Ok(programs)
    }
}

/// Where the running kernel keeps what the programs read, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Offsets {
    /// `task_struct.mm`
    memory: u32,
    /// `task_struct.nsproxy`
    namespaces: u32,
    /// `nsproxy.net_ns`
    network: u32,
    /// `net.net_cookie`
    cookie: u32,
    /// `task_struct.tgid`
    process: u32,
    /// `mm_struct.exe_file`
    file: u32,
    /// `file.f_inode`
    inode: u32,
    /// `inode.i_ino`
    number: u32,
    /// `inode.i_generation`
    generation: u32,
    /// `inode.i_sb`
    file_system: u32,
    /// `super_block.s_dev`
    device: u32,
}

impl Offsets {
    /// Looks them up.
    ///
    /// # Errors
    /// The structure and the field that are not in the description.
    pub fn of(types: &Btf<'_>) -> Result<Self, (&'static str, &'static str)> {
        let find = |structure: &'static str, field: &'static str| {
            types.offset(structure, field).ok_or((structure, field))
        };
        Ok(Self {
            memory: find("task_struct", "mm")?,
            namespaces: find("task_struct", "nsproxy")?,
            network: find("nsproxy", "net_ns")?,
            cookie: find("net", "net_cookie")?,
            process: find("task_struct", "tgid")?,
            file: find("mm_struct", "exe_file")?,
            inode: find("file", "f_inode")?,
            number: find("inode", "i_ino")?,
            generation: find("inode", "i_generation")?,
            file_system: find("inode", "i_sb")?,
            device: find("super_block", "s_dev")?,
        })
    }
}

/// `SOL_SOCKET` and `SO_MARK` (asm-generic/socket.h).
const SOCKET_LEVEL: i32 = 1;
const MARK_OPTION: i32 = 36;

/// Offsets in `struct bpf_sock`, `struct bpf_sock_addr` and `struct bpf_sockopt`.
const SOCK_MARK: u32 = 16;
const SOCK_MARK_AT: i16 = 16;
const ADDRESS_SOCK: u32 = 64;
const OPTION_SOCK: u32 = 0;
const OPTION_VALUE: u32 = 8;
const OPTION_VALUE_END: u32 = 16;
const OPTION_LEVEL: u32 = 24;
const OPTION_NAME: u32 = 28;
const OPTION_LENGTH: i16 = 32;
/// The option's length for a mark.
const MARK_LENGTH: i32 = 4;
/// Lengths above this are negative ones.
const MOST: u64 = 0x7fff_ffff;

/// Places on the stack, from its end.
const MARK: i16 = -16;
const RECORD: i16 = -24;

/// What the programs need to know.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recogniser {
    /// Where the kernel keeps what.
    pub offsets: Offsets,
    /// The map with the table, whose places are known.
    pub programs: Map,
    /// What is in it.
    pub table: Table,
    /// Our bits of a mark.
    pub mask: u32,
    /// Only sockets of the network namespace with this number are looked at.
    pub namespace: u64,
    /// The size of a page: of longer options the kernel hands that much to hooks.
    pub page: i32,
}

impl Recogniser {
    /// For `BPF_CGROUP_INET_SOCK_CREATE`: a new socket is its maker's.
    ///
    /// # Errors
    /// [`WireError`] if the kernel keeps a field too far away.
    pub fn at_creation(&self) -> Result<Vec<u8>, WireError> {
        let mut code = Assembler::new();
        let done = code.label();
        code.copy(R6, R1);
        self.whose(&mut code)?;
        code.load(Word, R1, R6, SOCK_MARK)?;
        self.with_bits(&mut code, done);
        // Last, since most sockets are of nobody who is named. A process makes sockets in the
        // namespace that it is in; to follow its pointers takes less time than to ask.
        for pointer in [self.offsets.namespaces, self.offsets.network] {
            code.load(Double, R9, R9, pointer)?;
            code.if_is(R9, 0, done);
        }
        code.load(Double, R9, R9, self.offsets.cookie)?;
        code.set_wide(R2, self.namespace);
        code.if_differ(R9, R2, done);
        code.store(Word, R6, SOCK_MARK_AT, R1);
        allow(code, done)
    }

    /// For `BPF_CGROUP_INET4_BIND`, `_CONNECT` and their like: a socket is theirs who give it an
    /// address or a partner, whoever made it.
    ///
    /// # Errors
    /// [`WireError`] if the kernel keeps a field too far away.
    pub fn at_opening(&self) -> Result<Vec<u8>, WireError> {
        self.at_address(false)
    }

    /// For `BPF_CGROUP_UDP4_SENDMSG`, `BPF_CGROUP_INET4_GETSOCKNAME` and their like: a socket that
    /// belongs to no program that is named becomes theirs who use it.
    ///
    /// # Errors
    /// [`WireError`] if the kernel keeps a field too far away.
    pub fn at_use(&self) -> Result<Vec<u8>, WireError> {
        self.at_address(true)
    }

    fn at_address(&self, only_unclaimed: bool) -> Result<Vec<u8>, WireError> {
        let mut code = Assembler::new();
        let done = code.label();
        code.copy(R6, R1);
        code.load(Double, R8, R6, ADDRESS_SOCK)?;
        code.if_is(R8, 0, done);
        if only_unclaimed {
            code.load(Word, R1, R8, SOCK_MARK)?;
            code.keep_bits(R1, self.mask);
            code.if_is_not(R1, 0, done);
            code.copy(R1, R6);
        }
        self.only_here(&mut code, done);
        self.whose(&mut code)?;
        if only_unclaimed {
            code.if_is(R7, 0, done);
        }
        code.load(Word, R1, R8, SOCK_MARK)?;
        self.with_bits(&mut code, done);
        set_mark(&mut code, R6);
        allow(code, done)
    }

    /// For `BPF_CGROUP_SETSOCKOPT`: who sets a mark of their own leaves our bits as they are.
    ///
    /// Of an option that is longer than a page the kernel ignores what a hook wrote, unless the hook
    /// says how long it is now; and of one whose length a hook makes zero it takes what the caller gave,
    /// whatever other hooks wrote. So what is rewritten gets its length, and what is not is left
    /// alone, but for an overlong one, which some kernels would refuse for having been looked at.
    ///
    /// # References
    /// `__cgroup_bpf_run_filter_setsockopt` in kernel/bpf/cgroup.c.
    ///
    /// # Errors
    /// [`WireError`] if the kernel keeps a field too far away.
    pub fn at_option(&self) -> Result<Vec<u8>, WireError> {
        let mut code = Assembler::new();
        let (untouched, done) = (code.label(), code.label());
        code.copy(R6, R1);
        code.load(Word, R1, R6, OPTION_LEVEL)?;
        code.if_is_not(R1, SOCKET_LEVEL, untouched);
        code.load(Word, R1, R6, OPTION_NAME)?;
        code.if_is_not(R1, MARK_OPTION, untouched);
        code.copy(R1, R6);
        self.only_here(&mut code, untouched);
        self.standing(&mut code)?;
        let bound = code.label();
        code.if_is(R0, 0, bound);
        code.load(Word, R1, R0, 4)?;
        code.if_is_not(R1, 0, untouched);
        code.place(bound);
        code.load(Double, R8, R6, OPTION_VALUE)?;
        code.load(Double, R2, R6, OPTION_VALUE_END)?;
        code.copy(R3, R8);
        code.add(R3, 4);
        code.if_above(R3, R2, untouched);
        code.load(Double, R4, R6, OPTION_SOCK)?;
        code.if_is(R4, 0, untouched);
        code.load(Word, R5, R4, SOCK_MARK)?;
        code.keep_bits(R5, self.mask);
        code.load(Word, R1, R8, 0)?;
        code.keep_bits(R1, !self.mask);
        code.join_bits(R1, R5);
        code.store(Word, R8, 0, R1);
        code.set(R1, MARK_LENGTH);
        code.store(Word, R6, OPTION_LENGTH, R1);
        code.go(done);
        code.place(untouched);
        let overlong = code.label();
        code.load(Word, R1, R6, OPTION_LENGTH.unsigned_abs().into())?;
        code.set(R2, self.page);
        code.if_above(R1, R2, overlong);
        code.go(done);
        code.place(overlong);
        code.set_wide(R2, MOST);
        code.if_above(R1, R2, done);
        code.set(R1, 0);
        code.store(Word, R6, OPTION_LENGTH, R1);
        allow(code, done)
    }

    /// Goes to `elsewhere` unless the context in `R1` is of our network namespace.
    fn only_here(&self, code: &mut Assembler, elsewhere: Label) {
        code.call(Helper::NamespaceCookie);
        code.set_wide(R1, self.namespace);
        code.if_differ(R0, R1, elsewhere);
    }

    /// `R7`: the bits of the running program; zero if nobody named it.
    fn whose(&self, code: &mut Assembler) -> Result<(), WireError> {
        let nobody = code.label();
        code.set(R7, 0);
        self.standing(code)?;
        code.if_is(R0, 0, nobody);
        code.load(Word, R7, R0, 0)?;
        code.place(nobody);
        Ok(())
    }

    /// `R0`: where the running program's standing is; zero if nobody named it. `R9`: the task.
    ///
    /// The place in the table is found by comparing the inode's number as in a binary search, written
    /// out; whether it is the file is for the table to say. A lookup in a hash takes about as long as
    /// all the rest.
    fn standing(&self, code: &mut Assembler) -> Result<(), WireError> {
        let it = self.offsets;
        let (nobody, found, done) = (code.label(), code.label(), code.label());
        code.call(Helper::CurrentTask);
        code.copy(R9, R0);
        for pointer in [it.memory, it.file, it.inode] {
            code.load(Double, R0, R0, pointer)?;
            code.if_is(R0, 0, nobody);
        }
        code.load(Double, R1, R0, it.number)?;
        let numbers: Vec<u64> = self.table.0.iter().map(|it| it.0.inode).collect();
        self.search(code, &numbers, 0, (found, nobody))?;
        code.place(found);
        // Behind the identity.
        code.add(R0, 16);
        code.go(done);
        code.place(nobody);
        // The kernel's checker does not see that a pointer compared with nothing is nothing.
        code.set(R0, 0);
        code.place(done);
        Ok(())
    }

    /// Looks for the inode at `R0`, whose number is in `R1`, among the entries with these numbers,
    /// of which the first is at `place` of the table.
    fn search(
        &self,
        code: &mut Assembler,
        numbers: &[u64],
        place: usize,
        (found, nobody): (Label, Label),
    ) -> Result<(), WireError> {
        let (Some(first), Some(last)) = (numbers.first(), numbers.last()) else {
            code.go(nobody);
            return Ok(());
        };
        if first != last {
            // Entries of the same number stay together.
            let middle = numbers[numbers.len() / 2];
            let at = numbers.partition_point(|it| *it < middle);
            let at = if at == 0 { numbers.partition_point(|it| *it <= middle) } else { at };
            let above = code.label();
            code.set_wide(R4, numbers[at - 1]);
            code.if_above(R1, R4, above);
            self.search(code, &numbers[..at], place, (found, nobody))?;
            code.place(above);
            return self.search(code, &numbers[at..], place + at, (found, nobody));
        }
        // One comparison spares most processes the rest.
        code.set_wide(R4, *first);
        code.if_differ(R1, R4, nobody);
        let it = self.offsets;
        code.load(Word, R2, R0, it.generation)?;
        code.load(Double, R3, R0, it.file_system)?;
        code.if_is(R3, 0, nobody);
        code.load(Word, R3, R3, it.device)?;
        for entry in 0..numbers.len() {
            let other = code.label();
            let offset = u32::try_from((place + entry) * Table::ENTRY);
            let offset = offset.map_err(|_| WireError::Missing { what: "room for programs" })?;
            code.set_value(R0, self.programs, offset);
            for (width, offset, mine) in [(Double, 0, R1), (Word, 8, R3), (Word, 12, R2)] {
                code.load(width, R4, R0, offset)?;
                code.if_differ(R4, mine, other);
            }
            code.go(found);
            code.place(other);
        }
        code.go(nobody);
        Ok(())
    }

    /// `R1`, a mark, with `R7` in our bits; goes to `done` if that changes nothing.
    fn with_bits(&self, code: &mut Assembler, done: Label) {
        code.copy(R2, R1);
        code.keep_bits(R1, !self.mask);
        code.join_bits(R1, R7);
        code.if_same(R1, R2, done);
    }
}

/// Writes the identity of the inode in `R0` to the stack, and spoils `R0` and `R1`.
fn identity_of(code: &mut Assembler, it: Offsets, nobody: Label) -> Result<(), WireError> {
    code.load(Double, R1, R0, it.number)?;
    code.store(Double, Stack, RECORD, R1);
    code.load(Word, R1, R0, it.generation)?;
    code.store(Word, Stack, RECORD + 12, R1);
    code.load(Double, R0, R0, it.file_system)?;
    code.if_is(R0, 0, nobody);
    code.load(Word, R1, R0, it.device)?;
    code.store(Word, Stack, RECORD + 8, R1);
    Ok(())
}

/// Sets the mark in `R1` at the socket that `of` leads to.
fn set_mark(code: &mut Assembler, of: Register) {
    code.store(Word, Stack, MARK, R1);
    code.copy(R1, of);
    code.set(R2, SOCKET_LEVEL);
    code.set(R3, MARK_OPTION);
    code.copy(R4, Stack);
    code.add(R4, MARK.into());
    code.set(R5, 4);
    code.call(Helper::SetOption);
}

/// None of these programs refuses anything.
fn allow(mut code: Assembler, done: Label) -> Result<Vec<u8>, WireError> {
    code.place(done);
    code.set(R0, 1);
    code.end();
    code.finish()
}

/// An open file of who reads the iterator: its number, and what it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OpenFile {
    /// The number of the descriptor.
    pub descriptor: u32,
    /// The file.
    pub identity: Identity,
}

impl OpenFile {
    /// The bytes of a record.
    pub const LENGTH: usize = 24;

    /// Reads one record.
    ///
    /// # Errors
    /// [`WireError::Truncated`] if there are too few bytes.
    pub fn from_record(record: &[u8]) -> Result<Self, WireError> {
        let mut fields = Fields::new(record, "an open file");
        let identity = Identity::read(&mut fields)?;
        Ok(Self { descriptor: fields.ne32()?, identity })
    }
}

/// For the iterator `bpf_iter_task_file`: hands a [record](OpenFile) of each open file to the
/// process that reads, of its own files only. So a file's identity comes from the very fields that
/// the other programs compare, whatever the file system makes of them for others.
///
/// # Errors
/// [`WireError`] if the kernel keeps a field too far away.
pub fn open_files(offsets: Offsets) -> Result<Vec<u8>, WireError> {
    // `struct bpf_iter__task_file`, and `seq` in `struct bpf_iter_meta`.
    const META: u32 = 0;
    const TASK: u32 = 8;
    const DESCRIPTOR: u32 = 16;
    const FILE: u32 = 24;
    const SEQUENCE: u32 = 0;
    let mut code = Assembler::new();
    let done = code.label();
    code.copy(R6, R1);
    code.load(Double, R7, R6, TASK)?;
    code.if_is(R7, 0, done);
    code.load(Double, R8, R6, FILE)?;
    code.if_is(R8, 0, done);
    code.call(Helper::CurrentProcess);
    code.shift_down(R0, 32);
    code.load(Word, R1, R7, offsets.process)?;
    code.if_differ(R0, R1, done);
    code.load(Double, R0, R8, offsets.inode)?;
    code.if_is(R0, 0, done);
    identity_of(&mut code, offsets, done)?;
    code.load(Word, R1, R6, DESCRIPTOR)?;
    code.store(Word, Stack, RECORD + 16, R1);
    code.store_number(Word, Stack, RECORD + 20, 0);
    code.load(Double, R1, R6, META)?;
    code.load(Double, R1, R1, SEQUENCE)?;
    code.copy(R2, Stack);
    code.add(R2, RECORD.into());
    code.set(R3, 24);
    code.call(Helper::Hand);
    code.place(done);
    code.set(R0, 0);
    code.end();
    code.finish()
}

#[cfg(test)]
mod tests {
    use super::{Identity, OpenFile, Standing, Table};
    use std::collections::BTreeMap;

    #[test]
    fn tables_and_records_come_back() {
        let identity = |inode| Identity { device: 0xfd00, inode, generation: 77 };
        let standing = Standing { bits: 0x0300_0000, may_mark: true };
        let programs =
            BTreeMap::from([(identity(u64::MAX - 3), standing), (identity(4), standing)]);
        let mut table = Table::of(&programs);
        assert_eq!(Table::programs(&table.to_value()), Ok(programs));
        table.forget(identity(4));
        let left = Table::programs(&table.to_value()).expect("whole");
        assert_eq!(left.keys().copied().collect::<Vec<_>>(), [identity(u64::MAX - 3)]);
        assert_eq!(Table::programs(&Table::default().to_value()), Ok(BTreeMap::new()));
        assert!(Table::programs(&table.to_value()[..30]).is_err());

        let record = [&identity(5).bytes()[..], &9_u32.to_ne_bytes(), &[0; 4]].concat();
        let file = OpenFile { descriptor: 9, identity: identity(5) };
        assert_eq!(OpenFile::from_record(&record), Ok(file));
        assert!(OpenFile::from_record(&record[..17]).is_err());
    }
}
