//! One batch to the kernel, and its word on it.

use crate::LinuxError;
use crate::transport::Transport;
use std::io;
use tipstaff_wire::netlink::{Answer, ERROR, split};
use tipstaff_wire::nf_tables::{BatchOutput, ask_generation};

/// Sends a batch and gives all that the kernel refuses of it, in order, by the number of the message;
/// if that is nothing, all of it was done, otherwise nothing.
///
/// Only kernels since 6.10 acknowledge the end of a batch. So a question is sent behind it, which
/// every kernel answers after all refusals.
///
/// # Errors
/// [`LinuxError`] if the batch could not be sent: then nothing was done. [`LinuxError::Unknown`] if
/// the kernel has it and its word was lost: then nobody knows.
pub fn deliver(
    transport: &mut dyn Transport,
    doing: &str,
    batch: &BatchOutput,
) -> Result<Vec<(u32, Answer)>, LinuxError> {
    let size = batch.bytes.len();
    transport.send(&batch.bytes).map_err(|source| match source.raw_os_error() {
        Some(libc::EMSGSIZE) => LinuxError::Refused {
            doing: doing.into(),
            reason: format!(
                "all rules go in at once, and these {size} bytes are more than this user may send \
                 at once; root may, and net.core.wmem_max raises the limit for others"
            )
            .into(),
        },
        _ => LinuxError::system(doing, source),
    })?;
    let unknown = |source: io::Error| LinuxError::Unknown { doing: doing.into(), source };
    let fence = batch.last.wrapping_add(1);
    transport.send(&ask_generation(fence)?).map_err(unknown)?;
    let (mut refusals, mut lost) = (Vec::new(), None);
    loop {
        let datagram = match transport.receive() {
            Ok(datagram) => datagram,
            // More refusals than there was room for; what was not lost still comes.
            Err(error) if error.raw_os_error() == Some(libc::ENOBUFS) && lost.is_none() => {
                lost = Some(error);
                continue;
            }
            Err(error) => return or_unknown(refusals, Some(unknown(error))),
        };
        for message in split(&datagram)? {
            if message.sequence == fence {
                return or_unknown(refusals, lost.map(unknown));
            }
            let ours = (batch.first..=batch.last).contains(&message.sequence);
            if message.kind == ERROR && ours {
                let answer = message.answer()?;
                if answer.errno != 0 {
                    refusals.push((message.sequence, answer));
                }
            }
        }
    }
}

/// A refusal that was heard settles it, whatever else was lost.
fn or_unknown(
    refusals: Vec<(u32, Answer)>,
    lost: Option<LinuxError>,
) -> Result<Vec<(u32, Answer)>, LinuxError> {
    match lost {
        Some(error) if refusals.is_empty() => Err(error),
        _ => Ok(refusals),
    }
}
