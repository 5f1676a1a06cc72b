//! Rules in a few bytes.

use std::hash::{Hash, Hasher};
use tipstaff_core::program::RuleProgram;

/// A digest (SHA-256, FIPS 180-4) of all that decides about packets.
pub(super) fn digest_of(program: &RuleProgram) -> String {
    let mut digest = Digest(hmac_sha256::Hash::new());
    (&program.chains, &program.reopened, &program.on_link).hash(&mut digest);
    digest.0.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
}

struct Digest(hmac_sha256::Hash);

impl Hasher for Digest {
    fn write(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    fn finish(&self) -> u64 {
        let bytes = self.0.finalize();
        bytes.iter().take(8).fold(0, |number, byte| number << 8 | u64::from(*byte))
    }
}
