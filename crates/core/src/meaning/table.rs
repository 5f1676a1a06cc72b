//! Tables with keys of few words.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

/// Mixes the few words of a key; the standard hasher is slower and guards against nothing here.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Mixer(u64);

impl Hasher for Mixer {
    fn finish(&self) -> u64 {
        // The table takes its index from the low bits and its tags from the high ones.
        self.0 ^ (self.0 >> 29)
    }

    fn write(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.write_u64(byte.into());
        }
    }

    fn write_u16(&mut self, value: u16) {
        self.write_u64(value.into());
    }

    fn write_u32(&mut self, value: u32) {
        self.write_u64(value.into());
    }

    fn write_u128(&mut self, value: u128) {
        let halves = [value >> 64, value & u128::from(u64::MAX)];
        halves.into_iter().for_each(|it| self.write_u64(u64::try_from(it).unwrap_or_default()));
    }

    fn write_u64(&mut self, value: u64) {
        self.0 = (self.0.rotate_left(23) ^ value).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    }
}

/// What is remembered by keys of few words.
pub(super) type Table<K, V> = HashMap<K, V, BuildHasherDefault<Mixer>>;
