//! The whole: sealing and opening.

use crate::archive::{Files, is_name, pack, unpack};
use crate::{NAMESPACE, Refusal, Signers, SigningWith, Statement};
use ssh_key::{HashAlg, LineEnding, PublicKey, SshSig};
use tipstaff_core::policy::Time;

const INNER: &str = "bundle.tar";
const SIGNATURE: &str = "bundle.tar.sig";
const STATEMENT: &str = "statement.json";
const POLICY: &str = "policy/";

/// Seals the files of a policy folder, by their names in it. The same files and statement, signed with the same key,
/// always are the same bytes, for keys whose signatures are (Ed25519's).
///
/// # Errors
/// What could not be sealed, and why.
pub fn seal(
    statement: &Statement,
    policy: &Files,
    with: &SigningWith<'_>,
) -> Result<Vec<u8>, String> {
    let called = |name: String| format!("a file cannot be called {name:?} in a sealed bundle");
    let mut files: Files =
        policy.iter().map(|(name, bytes)| (format!("{POLICY}{name}"), bytes.clone())).collect();
    files.insert(STATEMENT.to_owned(), statement.bytes());
    let inner = pack(&files).map_err(called)?;
    let signature = with.of(&inner)?.into_bytes();
    let outer = [(INNER.to_owned(), inner), (SIGNATURE.to_owned(), signature)];
    pack(&outer.into()).map_err(called)
}

/// A sealed bundle taken apart as far as is needed to look at its signature.
#[derive(Clone, Debug)]
pub struct Unsealed {
    inner: Vec<u8>,
    signature: SshSig,
}

/// What is in a sealed bundle, whoever put it there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Content {
    /// What it says of itself.
    pub statement: Statement,
    /// The files of its policy, by their names in the folder.
    pub policy: Files,
}

/// A sealed bundle that somebody signed who may.
#[derive(Clone, Debug)]
pub struct Opened {
    /// What it says of itself.
    pub statement: Statement,
    /// The files of its policy, by their names in the folder.
    pub policy: Files,
    /// Who signed it, as the list of those who may calls them.
    pub signer: String,
    /// The fingerprint of the key: `SHA256:…`.
    pub key: String,
}

impl Unsealed {
    /// Takes bytes apart.
    ///
    /// # Errors
    /// [`Refusal::NotOne`] if they are not just what [`seal`] writes.
    pub fn read(bytes: &[u8]) -> Result<Self, Refusal> {
        let no = |why: &str| Refusal::NotOne(why.to_owned());
        let mut outer = unpack(bytes)?;
        let (Some(inner), Some(signature), true) =
            (outer.remove(INNER), outer.remove(SIGNATURE), outer.is_empty())
        else {
            return Err(no("it has not just an archive and its signature"));
        };
        let read = SshSig::from_pem(&signature).map_err(|_| no("its signature cannot be read"))?;
        let same = read.to_pem(LineEnding::LF).is_ok_and(|it| it.as_bytes() == signature);
        if !same {
            return Err(no("its signature has not the form in which they are written"));
        }
        Ok(Self { inner, signature: read })
    }

    /// What is in it, whoever put it there: nothing of it is said by anybody yet.
    ///
    /// # Errors
    /// [`Refusal::NotOne`] if that is not just what [`seal`] writes.
    pub fn content(&self) -> Result<Content, Refusal> {
        let no = |why: &str| Refusal::NotOne(why.to_owned());
        let mut files = unpack(&self.inner)?;
        let statement = files.remove(STATEMENT).ok_or_else(|| no("it has no statement"))?;
        let statement = Statement::read(&statement)?;
        let mut policy = Files::new();
        for (name, bytes) in files {
            let name = name.strip_prefix(POLICY).filter(|it| is_name(it));
            let name = name.ok_or_else(|| no("it has a file that is none of the policy"))?;
            policy.insert(name.to_owned(), bytes);
        }
        Ok(Content { statement, policy })
    }

    /// The fingerprint of the key that its signature is said to be of: `SHA256:…`.
    #[must_use]
    pub fn key(&self) -> String {
        self.signature.public_key().fingerprint(HashAlg::Sha256).to_string()
    }

    /// Opens it: it must be as it was signed, by somebody who may at that moment, for that fleet, and not have expired.
    ///
    /// # Errors
    /// Why it is refused.
    pub fn open(&self, signers: &Signers, fleet: &str, now: Time) -> Result<Opened, Refusal> {
        let key = self.key();
        // What nobody signed who may is not even unpacked.
        let signer = signers.whose(self.signature.public_key(), now)?.to_owned();
        if self.signature.hash_alg() == HashAlg::Sha256 || !self.signature.reserved().is_empty() {
            return Err(Refusal::NotOne("its signature is made in another way than ours".into()));
        }
        let public = PublicKey::from(self.signature.public_key().clone());
        public.verify(NAMESPACE, &self.inner, &self.signature).map_err(|_| Refusal::Altered)?;
        let Content { statement, policy } = self.content()?;
        if statement.fleet != fleet {
            return Err(Refusal::OfAnother { its: statement.fleet, ours: fleet.to_owned() });
        }
        match statement.expires() {
            Some(until) if now >= until => Err(Refusal::Expired(until)),
            _ => Ok(Opened { statement, policy, signer, key }),
        }
    }
}

impl Opened {
    /// Whether it may be taken by somebody who has seen that sequence number and digest last.
    ///
    /// # Errors
    /// [`Refusal::Older`] or [`Refusal::Twice`] if not.
    pub fn follows(&self, digest: &str, seen: Option<(u64, &str)>) -> Result<(), Refusal> {
        let its = self.statement.sequence;
        match seen {
            Some((seen, _)) if its < seen => Err(Refusal::Older { its, seen }),
            Some((seen, of)) if its == seen && of != digest => {
                Err(Refusal::Twice { sequence: its, seen: of.to_owned() })
            }
            _ => Ok(()),
        }
    }
}
