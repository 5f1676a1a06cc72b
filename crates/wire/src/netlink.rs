//! Framing that all netlink families share (linux/netlink.h).

use crate::{Attributes, Fields, WireError, Writer};

/// Size of `struct nlmsghdr`.
pub(crate) const HEADER: usize = 16;

/// `NLMSG_ERROR`: an error, or an acknowledgement if the code is 0.
pub const ERROR: u16 = 2;
/// `NLMSG_DONE`: the end of a dump.
pub const DONE: u16 = 3;

/// `NLM_F_REQUEST`.
pub const REQUEST: u16 = 0x1;
/// `NLM_F_ACK`: confirm also on success.
pub const ACK: u16 = 0x4;
/// `NLM_F_DUMP`: give all objects.
pub const DUMP: u16 = 0x300;
/// `NLM_F_DUMP_INTR`: the objects changed during the dump.
pub const DUMP_INTERRUPTED: u16 = 0x10;
/// `NLM_F_EXCL`: fail if it is there.
pub const EXCLUSIVE: u16 = 0x200;
/// `NLM_F_CREATE`: make it if it is not there.
pub const CREATE: u16 = 0x400;
/// `NLM_F_APPEND`: add at the end.
pub const APPEND: u16 = 0x800;

const CAPPED: u16 = 0x100;
const EXTENDED: u16 = 0x200;
const ACK_MESSAGE: u16 = 1;
const ACK_OFFSET: u16 = 2;

/// One message: header fields and the bytes behind them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Message<'a> {
    /// `nlmsg_type`.
    pub kind: u16,
    /// `nlmsg_flags`.
    pub flags: u16,
    /// `nlmsg_seq`.
    pub sequence: u32,
    /// Everything behind the header, without padding.
    pub body: &'a [u8],
}

/// Appends one message to `out`.
pub fn write(
    out: &mut Writer,
    kind: u16,
    flags: u16,
    sequence: u32,
    body: impl FnOnce(&mut Writer),
) {
    let start = out.len();
    out.raw(&u32::MAX.to_ne_bytes());
    out.raw(&kind.to_ne_bytes());
    out.raw(&flags.to_ne_bytes());
    out.raw(&sequence.to_ne_bytes());
    out.raw(&0u32.to_ne_bytes());
    body(out);
    // Messages are bounded far below 4 GiB by the socket's send buffer.
    let length = u32::try_from(out.len() - start).unwrap_or(u32::MAX);
    out.patch_ne32(start, length);
    out.pad();
}

/// Splits received bytes into messages.
///
/// # Errors
/// [`WireError`] if a length contradicts the bytes.
pub fn split(bytes: &[u8]) -> Result<Vec<Message<'_>>, WireError> {
    const WHAT: &str = "struct nlmsghdr";
    let mut messages = Vec::new();
    let mut rest = bytes;
    while !rest.is_empty() {
        let mut header = Fields::new(rest, WHAT);
        let length = usize::try_from(header.ne32()?).unwrap_or(usize::MAX);
        let (kind, flags) = (header.ne16()?, header.ne16()?);
        let sequence = header.ne32()?;
        let body = rest.get(HEADER..length).ok_or(WireError::BadLength { what: WHAT, length })?;
        messages.push(Message { kind, flags, sequence, body });
        rest = rest.get(length.next_multiple_of(4)..).unwrap_or_default();
    }
    Ok(messages)
}

/// What an error message says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// The errno, positive; 0 is an acknowledgement.
    pub errno: i32,
    /// The kernel's remark, if it made one.
    pub remark: Option<String>,
    /// The offset in the refused message of the attribute it is about.
    pub offset: Option<u32>,
}

impl Message<'_> {
    /// Reads an [`ERROR`] message.
    ///
    /// # Errors
    /// [`WireError`] if it is cut short.
    ///
    /// # References
    /// `enum nlmsgerr_attrs` in linux/netlink.h.
    pub fn answer(&self) -> Result<Answer, WireError> {
        let mut fields = Fields::new(self.body, "struct nlmsgerr");
        let errno = fields.ne32()?.cast_signed().wrapping_neg();
        let mut answer = Answer { errno, remark: None, offset: None };
        if self.flags & EXTENDED == 0 {
            return Ok(answer);
        }
        let echoed = usize::try_from(fields.ne32()?).unwrap_or(usize::MAX);
        fields.take(HEADER - 4)?;
        // The refused message is echoed whole unless the header says that it was capped, which
        // is also so for every acknowledgement.
        if self.flags & CAPPED == 0 && errno != 0 {
            fields.take(echoed.saturating_sub(HEADER).next_multiple_of(4))?;
        }
        for attribute in Attributes::new(fields.rest(), "nlmsgerr attributes") {
            let attribute = attribute?;
            match attribute.kind {
                ACK_MESSAGE => {
                    answer.remark = attribute.text("NLMSGERR_ATTR_MSG").ok().map(str::to_owned);
                }
                ACK_OFFSET => {
                    answer.offset =
                        Some(Fields::new(attribute.bytes, "NLMSGERR_ATTR_OFFS").ne32()?);
                }
                _ => {}
            }
        }
        Ok(answer)
    }
}

#[cfg(test)]
mod tests {
    use super::{ACK, REQUEST, split, write};
    use crate::Writer;

    #[test]
    fn messages_are_split_as_written_and_every_cut_is_noticed() {
        let mut out = Writer::new();
        write(&mut out, 20, REQUEST, 7, |out| out.text(1, "granary"));
        write(&mut out, 21, REQUEST | ACK, 8, |out| out.raw(&[1, 2, 3]));
        let bytes = out.finish().expect("fits");
        let messages = split(&bytes).expect("splits");
        assert_eq!(messages.iter().map(|it| it.sequence).collect::<Vec<_>>(), [7, 8]);
        assert_eq!(messages[1].body, [1, 2, 3]);
        let first = 16 + messages[0].body.len();
        for cut in (1..bytes.len() - 1).filter(|&cut| cut != first) {
            assert!(split(&bytes[..cut]).is_err(), "cut at {cut}");
        }
    }
}
