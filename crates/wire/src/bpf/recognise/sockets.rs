//! The programs that mark sockets.

use super::super::{Assembler, Helper, Label, Map, Register, Width};
use super::offsets::Offsets;
use super::table::Table;
use crate::WireError;
use Register::{R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Stack};
use Width::{Double, Word};

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

    /// `R7`: the bits of the running program and its user; zero if nobody named either.
    fn whose(&self, code: &mut Assembler) -> Result<(), WireError> {
        let nobody = code.label();
        code.set(R7, 0);
        self.standing(code)?;
        code.if_is(R0, 0, nobody);
        code.load(Word, R7, R0, 0)?;
        code.place(nobody);
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
