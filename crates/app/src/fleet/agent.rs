//! Signatures of a key that an SSH agent holds.
//!
//! # References
//! draft-ietf-sshm-ssh-agent, sections 3, 4.5 and 4.6.

use std::io::{self, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::Duration;

/// The request for a signature, and its answer.
const SIGN: u8 = 13;
const SIGNED: u8 = 14;
/// An answer is not longer.
const LONGEST: usize = 256 * 1024;
/// Somebody may have to touch a token first.
const PATIENCE: Duration = Duration::from_secs(120);

/// Has the agent at a socket sign data with the key whose public one that is.
///
/// # Errors
/// Why it does not.
pub(super) fn sign(socket: &Path, key: &[u8], data: &[u8]) -> Result<Vec<u8>, String> {
    let asked = ask(socket, key, data);
    let answer = asked.map_err(|error| format!("the agent at {}: {error}", socket.display()))?;
    match answer.split_first() {
        Some((&SIGNED, rest)) => string(rest).map(<[u8]>::to_vec),
        _ => None,
    }
    .ok_or_else(|| {
        "the agent does not sign with this key: it has it not, or was told not to".into()
    })
}

fn ask(socket: &Path, key: &[u8], data: &[u8]) -> io::Result<Vec<u8>> {
    let mut message = vec![SIGN];
    for part in [key, data] {
        put(&mut message, part);
    }
    // No flags: they choose among the digests of RSA only.
    message.extend(0u32.to_be_bytes());
    let mut framed = Vec::new();
    put(&mut framed, &message);
    let mut agent = UnixStream::connect(socket)?;
    agent.set_read_timeout(Some(PATIENCE))?;
    agent.set_write_timeout(Some(PATIENCE))?;
    agent.write_all(&framed)?;
    let mut length = [0; 4];
    agent.read_exact(&mut length)?;
    let length = u32::from_be_bytes(length) as usize;
    if length > LONGEST {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "its answer is none"));
    }
    let mut answer = vec![0; length];
    agent.read_exact(&mut answer)?;
    Ok(answer)
}

/// Writes a string as RFC 4251 section 5 has it: its length in 4 bytes, and its bytes.
fn put(message: &mut Vec<u8>, part: &[u8]) {
    message.extend(u32::try_from(part.len()).unwrap_or(u32::MAX).to_be_bytes());
    message.extend(part);
}

fn string(bytes: &[u8]) -> Option<&[u8]> {
    let (length, rest) = bytes.split_first_chunk::<4>()?;
    rest.get(..u32::from_be_bytes(*length) as usize)
}
