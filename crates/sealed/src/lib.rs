//! Sealed bundles: a policy folder with a statement about it, signed, as one file whose every byte is accounted for.
//!
//! A sealed bundle is a tar archive (POSIX.1-2001, ustar) of two files: `bundle.tar`, and `bundle.tar.sig`, its signature
//! in the SSHSIG format. The inner archive has `statement.json` and the files of the policy below `policy/`. Everything
//! here is computed from bytes: no file is opened, no clock is asked.

mod archive;
mod bundle;
mod refusal;
mod signers;
mod signing;
mod statement;

pub use bundle::{Content, Opened, Unsealed, seal};
pub use refusal::Refusal;
pub use signers::{Signers, SignersMistake};
pub use signing::{KeyMistake, SigningWith};
pub use statement::{Counts, Statement};

/// The namespace of the signature: one made for something else does not count.
pub const NAMESPACE: &str = "tipstaff-bundle";

/// The digest by which a sealed bundle is known: SHA-256 of its bytes, in hexadecimal digits.
#[must_use]
pub fn digest(bytes: &[u8]) -> String {
    hmac_sha256::Hash::hash(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}
