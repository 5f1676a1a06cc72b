//! Signing with an ordinary SSH key, whoever holds it.

use crate::NAMESPACE;
use ssh_key::public::KeyData;
use ssh_key::{
    Algorithm, EcdsaCurve, HashAlg, LineEnding, PrivateKey, PublicKey, Signature, SshSig,
};
use std::fmt;

/// The digest that is signed instead of the bytes.
const HASH: HashAlg = HashAlg::Sha512;

/// Who signs: has a public key, and can have a signature made with the private one.
pub struct SigningWith<'s> {
    key: PublicKey,
    by: By<'s>,
}

/// Makes a signature of bytes, in the form of the SSH protocol (RFC 4253 section 6.6), or says why not.
type Asked<'s> = dyn Fn(&[u8]) -> Result<Vec<u8>, String> + 's;

enum By<'s> {
    Key(Box<PrivateKey>),
    Asked(Box<Asked<'s>>),
}

impl fmt::Debug for SigningWith<'_> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("SigningWith").field("key", &self.fingerprint()).finish_non_exhaustive()
    }
}

/// Why a private key cannot be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyMistake {
    /// It is kept under a pass phrase.
    Locked,
    /// It is of a sort that is not understood, or no key at all.
    NotOne(String),
}

impl<'s> SigningWith<'s> {
    /// The key of a file in which it is kept as OpenSSH keeps it.
    ///
    /// # Errors
    /// Why it cannot be used.
    pub fn key(text: &str) -> Result<Self, KeyMistake> {
        let key = PrivateKey::from_openssh(text);
        let key = key.map_err(|error| KeyMistake::NotOne(error.to_string()))?;
        if key.is_encrypted() {
            return Err(KeyMistake::Locked);
        }
        must_be_known(key.public_key()).map_err(KeyMistake::NotOne)?;
        Ok(Self { key: key.public_key().clone(), by: By::Key(Box::new(key)) })
    }

    /// Somebody who has the key that belongs to a public one, written `ssh-ed25519 AAAA… comment`.
    ///
    /// # Errors
    /// Why that is none.
    pub fn asking(
        public: &str,
        sign: impl Fn(&[u8]) -> Result<Vec<u8>, String> + 's,
    ) -> Result<Self, String> {
        let key = PublicKey::from_openssh(public).map_err(|error| error.to_string())?;
        must_be_known(&key)?;
        Ok(Self { key, by: By::Asked(Box::new(sign)) })
    }

    pub(crate) fn public_key(&self) -> &KeyData {
        self.key.key_data()
    }

    /// The public key's fingerprint: `SHA256:…`.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.key.fingerprint(HashAlg::Sha256).to_string()
    }

    /// The public key as the SSH protocol writes it (RFC 4253 section 6.6).
    ///
    /// # Errors
    /// Why it cannot be written.
    pub fn public(&self) -> Result<Vec<u8>, String> {
        self.key.to_bytes().map_err(|error| error.to_string())
    }

    /// The signature of a message in the SSHSIG format, armoured.
    ///
    /// # Errors
    /// Why it could not be made.
    ///
    /// # References
    /// OpenSSH, PROTOCOL.sshsig.
    pub(crate) fn of(&self, message: &[u8]) -> Result<String, String> {
        let said = |error: ssh_key::Error| error.to_string();
        let signed = match &self.by {
            By::Key(key) => key.sign(NAMESPACE, HASH, message).map_err(said)?,
            By::Asked(sign) => {
                let made = sign(&SshSig::signed_data(NAMESPACE, HASH, message).map_err(said)?)?;
                let made = Signature::try_from(&made[..]).map_err(said)?;
                SshSig::new(self.key.key_data().clone(), NAMESPACE, HASH, made).map_err(said)?
            }
        };
        // Who was asked may have signed something else, or with another key.
        if self.key.verify(NAMESPACE, message, &signed).is_err() {
            return Err("the signature that was made is not one of this key".into());
        }
        signed.to_pem(LineEnding::LF).map_err(said)
    }
}

/// Refuses sorts of keys whose signatures cannot be checked here.
fn must_be_known(key: &PublicKey) -> Result<(), String> {
    use Algorithm::{Ecdsa, Ed25519, SkEcdsaSha2NistP256, SkEd25519};
    use EcdsaCurve::{NistP256, NistP384};
    match key.algorithm() {
        Ed25519 | SkEd25519 | SkEcdsaSha2NistP256 | Ecdsa { curve: NistP256 | NistP384 } => Ok(()),
        other => Err(format!("it is of the sort {other}, whose signatures cannot be checked here")),
    }
}
