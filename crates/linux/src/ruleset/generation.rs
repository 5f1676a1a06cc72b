//! How often rules have changed.

use crate::LinuxError;
use crate::transport::Transport;
use tipstaff_wire::netlink::{ERROR, split};
use tipstaff_wire::nf_tables::{ask_generation, decode_generation, message_kind};

/// The generation of the kernel's rules, ours and others': a number that every change of any of
/// them raises.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us ask.
pub fn generation(transport: &mut dyn Transport) -> Result<u32, LinuxError> {
    const DOING: &str = "ask how often rules have changed";
    let sequence = transport.next_sequence();
    let system = |source| LinuxError::system(DOING, source);
    transport.send(&ask_generation(sequence)?).map_err(system)?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        for message in split(&datagram)?.iter().filter(|it| it.sequence == sequence) {
            if message.kind == message_kind::NEW_GENERATION {
                return Ok(decode_generation(message.body)?);
            }
            if message.kind == ERROR {
                let answer = message.answer()?;
                return Err(LinuxError::refused(DOING, answer.errno, answer.remark.as_deref()));
            }
        }
    }
}
