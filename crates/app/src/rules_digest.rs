//! Rules, and what they are worked out from, in a few bytes.

use hmac_sha256::Hash as Sha256;
use std::hash::{Hash, Hasher};
use tipstaff_core::program::RuleProgram;

/// A digest (SHA-256, FIPS 180-4) of all that decides about packets.
pub(crate) fn digest_of(program: &RuleProgram) -> String {
    let mut digest = Digest::default();
    (&program.chains, &program.reopened, &program.on_link).hash(&mut digest);
    digest.digits()
}

/// A digest (SHA-256, FIPS 180-4) of what is hashed. It is the same as long as this version runs on such a processor.
pub(crate) struct Digest {
    sum: Sha256,
    /// What has not gone into the sum yet: values come in a few bytes each.
    waiting: Vec<u8>,
}

/// So many bytes wait at most, unless more come at once.
const WAITING: usize = 4_096;

impl Default for Digest {
    fn default() -> Self {
        Self { sum: Sha256::new(), waiting: Vec::with_capacity(WAITING) }
    }
}

impl Digest {
    /// Its hexadecimal digits.
    pub(crate) fn digits(mut self) -> String {
        self.sum.update(&self.waiting);
        self.sum.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

impl Hasher for Digest {
    fn write(&mut self, bytes: &[u8]) {
        if self.waiting.len() + bytes.len() > WAITING {
            self.sum.update(&self.waiting);
            self.waiting.clear();
        }
        self.waiting.extend_from_slice(bytes);
    }

    fn finish(&self) -> u64 {
        let mut sum = self.sum;
        sum.update(&self.waiting);
        let bytes = sum.finalize();
        bytes.iter().take(8).fold(0, |number, byte| number << 8 | u64::from(*byte))
    }
}
