//! Instructions to bytes.
//!
//! Source: RFC 9669 (BPF instruction set), `linux/bpf.h` for the numbers of helpers.

use crate::WireError;

/// A register. `R0` takes what a helper gives, `R1` to `R5` what it is given, and helpers leave
/// `R6` to `R9` alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Register {
    R0,
    R1,
    R2,
    R3,
    R4,
    R5,
    R6,
    R7,
    R8,
    R9,
    /// The end of the stack; what is on it lies below.
    Stack,
}

/// How many bytes are loaded or stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Width {
    /// Four bytes at a time.
    Word,
    /// Eight bytes at a time.
    Double,
}

impl Width {
    /// `BPF_W`, `BPF_DW`.
    fn bits(self) -> u8 {
        match self {
            Self::Word => 0x00,
            Self::Double => 0x18,
        }
    }
}

/// Functions of the kernel that programs call, with their numbers in `enum bpf_func_id`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(i32)]
pub enum Helper {
    /// `bpf_get_current_pid_tgid`: the process in the upper half, the thread in the lower.
    CurrentProcess = 14,
    /// `bpf_setsockopt`.
    SetOption = 49,
    /// `bpf_get_netns_cookie`: the number of the network namespace, unique since the start.
    NamespaceCookie = 122,
    /// `bpf_seq_write`: hands bytes to who reads an iterator.
    Hand = 127,
    /// `bpf_get_current_task_btf`: the running task.
    CurrentTask = 158,
}

/// A map, by its descriptor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Map(pub i32);

/// A place in a program to jump to, ahead of where it is used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Label(usize);

/// Puts a program together.
#[derive(Clone, Debug, Default)]
pub struct Assembler {
    /// Each instruction's eight bytes.
    code: Vec<[u8; 8]>,
    /// Where each label is, once that is known.
    labels: Vec<Option<usize>>,
    /// Jumps, and where to.
    jumps: Vec<(usize, Label)>,
}

impl Assembler {
    /// A program that does nothing yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    fn put(&mut self, code: u8, to: Register, from: Register, offset: i16, value: i32) {
        let [low, high] = offset.to_ne_bytes();
        let [a, b, c, d] = value.to_ne_bytes();
        // The kernel's bit fields take the low half first on machines that put low bytes first.
        let registers = if cfg!(target_endian = "little") {
            (from as u8) << 4 | to as u8
        } else {
            (to as u8) << 4 | from as u8
        };
        self.code.push([code, registers, low, high, a, b, c, d]);
    }

    /// `to = from`.
    pub fn copy(&mut self, to: Register, from: Register) {
        self.put(0xbf, to, from, 0, 0);
    }

    /// `to = value`, its sign kept.
    pub fn set(&mut self, to: Register, value: i32) {
        self.put(0xb7, to, Register::R0, 0, value);
    }

    /// `to = value`, of all 64 bits.
    pub(crate) fn set_wide(&mut self, to: Register, value: u64) {
        // The halves of the value, as they are.
        let [a, b, c, d, e, f, g, h] = value.to_le_bytes();
        self.put(0x18, to, Register::R0, 0, i32::from_le_bytes([a, b, c, d]));
        self.put(0, Register::R0, Register::R0, 0, i32::from_le_bytes([e, f, g, h]));
    }

    /// `to` = where the value of a map that holds only one is, and so many bytes further.
    pub(crate) fn set_value(&mut self, to: Register, map: Map, offset: u32) {
        // BPF_PSEUDO_MAP_VALUE in place of the source.
        self.put(0x18, to, Register::R2, 0, map.0);
        self.put(0, Register::R0, Register::R0, 0, offset.cast_signed());
    }

    /// `to += value`.
    pub fn add(&mut self, to: Register, value: i32) {
        self.put(0x07, to, Register::R0, 0, value);
    }

    /// `to &= bits`, of the lower 32 bits; the upper become zero.
    pub(crate) fn keep_bits(&mut self, to: Register, bits: u32) {
        self.put(0x54, to, Register::R0, 0, bits.cast_signed());
    }

    /// `to |= from`, of the lower 32 bits; the upper become zero.
    pub(crate) fn join_bits(&mut self, to: Register, from: Register) {
        self.put(0x4c, to, from, 0, 0);
    }

    /// `to >>= bits`.
    pub(crate) fn shift_down(&mut self, to: Register, bits: i32) {
        self.put(0x77, to, Register::R0, 0, bits);
    }

    /// Loads what lies `offset` bytes behind where `from` points.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if that is too far away.
    pub fn load(
        &mut self,
        width: Width,
        to: Register,
        from: Register,
        offset: u32,
    ) -> Result<(), WireError> {
        let near = i16::try_from(offset).map_err(|_| WireError::BadLength {
            what: "the distance of a field",
            length: usize::try_from(offset).unwrap_or(usize::MAX),
        })?;
        self.put(0x61 | width.bits(), to, from, near, 0);
        Ok(())
    }

    /// Stores `from` at `offset` bytes from where `to` points.
    pub fn store(&mut self, width: Width, to: Register, offset: i16, from: Register) {
        self.put(0x63 | width.bits(), to, from, offset, 0);
    }

    /// Stores a number at `offset` bytes from where `to` points.
    pub(crate) fn store_number(&mut self, width: Width, to: Register, offset: i16, value: i32) {
        self.put(0x62 | width.bits(), to, Register::R0, offset, value);
    }

    /// Calls a function of the kernel's.
    pub fn call(&mut self, helper: Helper) {
        self.put(0x85, Register::R0, Register::R0, 0, helper as i32);
    }

    /// Ends the program; `R0` is its answer.
    pub fn end(&mut self) {
        self.put(0x95, Register::R0, Register::R0, 0, 0);
    }

    /// A label, to be [placed](Self::place) further down.
    pub fn label(&mut self) -> Label {
        self.labels.push(None);
        Label(self.labels.len() - 1)
    }

    /// Says that the label is here.
    pub fn place(&mut self, label: Label) {
        self.labels[label.0] = Some(self.code.len());
    }

    fn jump(&mut self, code: u8, a: Register, b: Register, value: i32, to: Label) {
        self.jumps.push((self.code.len(), to));
        self.put(code, a, b, 0, value);
    }

    /// Goes to the label.
    pub fn go(&mut self, to: Label) {
        self.jump(0x05, Register::R0, Register::R0, 0, to);
    }

    /// Goes to the label if `a == value`, of all 64 bits.
    pub(crate) fn if_is(&mut self, a: Register, value: i32, to: Label) {
        self.jump(0x15, a, Register::R0, value, to);
    }

    /// Goes to the label if `a != value`, of all 64 bits.
    pub(crate) fn if_is_not(&mut self, a: Register, value: i32, to: Label) {
        self.jump(0x55, a, Register::R0, value, to);
    }

    /// Goes to the label if `a == b`.
    pub(crate) fn if_same(&mut self, a: Register, b: Register, to: Label) {
        self.jump(0x1d, a, b, 0, to);
    }

    /// Goes to the label if `a != b`.
    pub(crate) fn if_differ(&mut self, a: Register, b: Register, to: Label) {
        self.jump(0x5d, a, b, 0, to);
    }

    /// Goes to the label if `a > b`, both without sign.
    pub(crate) fn if_above(&mut self, a: Register, b: Register, to: Label) {
        self.jump(0x2d, a, b, 0, to);
    }

    /// The program's bytes, as the kernel takes them.
    ///
    /// # Errors
    /// [`WireError::Missing`] if a jump leads nowhere or too far.
    pub fn finish(mut self) -> Result<Vec<u8>, WireError> {
        for (at, label) in self.jumps {
            let lost = WireError::Missing { what: "the end of a jump" };
            let target = self.labels[label.0].ok_or(lost.clone())?;
            let distance = target.checked_sub(at + 1).and_then(|it| i16::try_from(it).ok());
            let [low, high] = distance.ok_or(lost)?.to_ne_bytes();
            self.code[at][2..4].copy_from_slice(&[low, high]);
        }
        Ok(self.code.concat())
    }
}

#[cfg(test)]
mod tests {
    use super::{Assembler, Register, Width};
    use crate::WireError;

    #[test]
    #[cfg(target_endian = "little")]
    fn instructions_are_those_of_the_standard() {
        use super::{Helper, Map};
        let mut code = Assembler::new();
        let end = code.label();
        code.copy(Register::R6, Register::R1);
        code.set_value(Register::R1, Map(7), 24);
        code.load(Width::Word, Register::R2, Register::R6, 16).expect("near");
        code.store(Width::Double, Register::Stack, -8, Register::R2);
        code.if_is(Register::R2, 0, end);
        code.call(Helper::CurrentTask);
        code.place(end);
        code.end();
        let bytes = code.finish().expect("all jumps lead somewhere");
        let expected: [[u8; 8]; 9] = [
            [0xbf, 0x16, 0, 0, 0, 0, 0, 0],
            [0x18, 0x21, 0, 0, 7, 0, 0, 0],
            [0, 0, 0, 0, 24, 0, 0, 0],
            [0x61, 0x62, 16, 0, 0, 0, 0, 0],
            [0x7b, 0x2a, 0xf8, 0xff, 0, 0, 0, 0],
            [0x15, 0x02, 1, 0, 0, 0, 0, 0],
            [0x85, 0, 0, 0, 158, 0, 0, 0],
            [0x95, 0, 0, 0, 0, 0, 0, 0],
            [0; 8],
        ];
        assert_eq!(bytes, expected[..8].concat());
    }

    #[test]
    fn what_cannot_be_reached_is_an_error() {
        let mut code = Assembler::new();
        let nowhere = code.label();
        code.go(nowhere);
        assert!(matches!(code.finish(), Err(WireError::Missing { .. })));
        let far = Assembler::new().load(Width::Word, Register::R0, Register::R1, 40_000);
        assert!(matches!(far, Err(WireError::BadLength { .. })));
    }
}
