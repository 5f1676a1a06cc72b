//! The registers of the packet filter's machine, byte by byte, as far as it is known what is in them.

use tipstaff_wire::nf_tables::registers;

/// Twenty words of four bytes (`NFT_REG32_COUNT`).
const BYTES: usize = 80;

/// What is known of a byte.
pub(super) type Known = Option<u8>;

/// The registers.
#[derive(Clone, Debug)]
pub(super) struct Registers([Known; BYTES]);

impl Default for Registers {
    /// Nothing is known: what nobody wrote, nobody can count on.
    fn default() -> Self {
        Self([None; BYTES])
    }
}

impl Registers {
    fn at(register: u32) -> usize {
        (registers::word(register).saturating_sub(registers::FIRST_WORD) as usize) * 4
    }

    /// What is in a register, so many bytes.
    pub(super) fn get(&self, register: u32, length: usize) -> Vec<Known> {
        let at = Self::at(register);
        (at..at + length).map(|it| self.0.get(it).copied().flatten()).collect()
    }

    /// The same, if all of it is known.
    pub(super) fn known(&self, register: u32, length: usize) -> Option<Vec<u8>> {
        self.get(register, length).into_iter().collect()
    }

    /// Writes. What is left of the last word is zero, as the kernel has it.
    pub(super) fn set(&mut self, register: u32, bytes: &[Known]) {
        let at = Self::at(register);
        let whole = bytes.len().next_multiple_of(4);
        for offset in 0..whole {
            let byte = bytes.get(offset).copied().unwrap_or(Some(0));
            if let Some(place) = self.0.get_mut(at + offset) {
                *place = byte;
            }
        }
    }

    /// The same, of what is known.
    pub(super) fn set_known(&mut self, register: u32, bytes: &[u8]) {
        let known: Vec<Known> = bytes.iter().copied().map(Some).collect();
        self.set(register, &known);
    }

    /// Nothing is known any more: something wrote that is not understood.
    pub(super) fn forget(&mut self) {
        *self = Self::default();
    }
}
