//! Packets reported by `log` expressions (linux/netfilter/nfnetlink_log.h).

use crate::netlink::{self, ACK, REQUEST};
use crate::{Attributes, Fields, WireError, Writer};

const SUBSYSTEM: u16 = 4;
/// `NFULNL_MSG_PACKET`.
pub const PACKET: u16 = SUBSYSTEM << 8;
const CONFIG: u16 = SUBSYSTEM << 8 | 1;

const CONFIG_COMMAND: u16 = 1;
const CONFIG_MODE: u16 = 2;
const CONFIG_BUFFER: u16 = 3;
const CONFIG_TIMEOUT: u16 = 4;
const CONFIG_THRESHOLD: u16 = 5;
const CONFIG_FLAGS: u16 = 6;
const COMMAND_BIND: u8 = 1;
const COPY_PACKET: u8 = 2;
const FLAG_SEQUENCE: u16 = 1;

const HEADER: u16 = 1;
const MARK: u16 = 2;
const IN_LINK: u16 = 4;
const OUT_LINK: u16 = 5;
const PAYLOAD: u16 = 9;
const PREFIX: u16 = 10;
const SEQUENCE: u16 = 12;

/// How a group of reports is to be delivered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Group {
    /// The group's number, as in the `log` expression.
    pub number: u16,
    /// How many bytes of each packet.
    pub copy: u32,
    /// How many bytes the kernel gathers before it delivers.
    pub buffer: u32,
    /// How many packets the kernel gathers before it delivers.
    pub threshold: u32,
    /// How long the kernel gathers before it delivers, in hundredths of a second.
    pub timeout: u32,
}

/// A request that binds the socket to a group.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn bind(group: &Group, sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, CONFIG, REQUEST | ACK, sequence, |out| {
        out.raw(&[0, 0]);
        out.raw(&group.number.to_be_bytes());
        out.byte(CONFIG_COMMAND, COMMAND_BIND);
        let mut mode = [0; 6];
        mode[..4].copy_from_slice(&group.copy.to_be_bytes());
        mode[4] = COPY_PACKET;
        out.bytes(CONFIG_MODE, &mode);
        out.be32(CONFIG_BUFFER, group.buffer);
        out.be32(CONFIG_TIMEOUT, group.timeout);
        out.be32(CONFIG_THRESHOLD, group.threshold);
        out.be16(CONFIG_FLAGS, FLAG_SEQUENCE);
    });
    out.finish()
}

/// One packet that the kernel reported.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Report<'a> {
    /// The group it was reported to.
    pub group: u16,
    /// The first bytes of the packet, from the IP header on.
    pub packet: &'a [u8],
    /// The text that the `log` expression adds; empty for none.
    pub prefix: &'a str,
    /// Running number within the group; a gap means that reports were lost.
    pub sequence: u32,
    /// The packet's mark; 0 for none.
    pub mark: u32,
    /// Where in the kernel it was (`enum nf_inet_hooks`).
    pub hook: u8,
    /// The numbers of the links that it came from and goes to; 0 for none.
    pub links: [u32; 2],
}

/// Reads the body of a [`PACKET`] message.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode(body: &[u8]) -> Result<Report<'_>, WireError> {
    let mut fields = Fields::new(body, "struct nfgenmsg");
    fields.take(2)?;
    let group = fields.be16()?;
    let (mut packet, mut prefix, mut sequence) = (&[][..], "", None);
    let (mut mark, mut hook, mut links) = (0, 0, [0; 2]);
    for attribute in Attributes::new(fields.rest(), "NFULNL_MSG_PACKET") {
        let attribute = attribute?;
        match attribute.kind {
            HEADER => {
                let mut fields = Fields::new(attribute.bytes, "struct nfulnl_msg_packet_hdr");
                fields.take(2)?;
                hook = fields.take(1)?[0];
            }
            MARK => mark = attribute.be32("NFULA_MARK")?,
            IN_LINK => links[0] = attribute.be32("NFULA_IFINDEX_INDEV")?,
            OUT_LINK => links[1] = attribute.be32("NFULA_IFINDEX_OUTDEV")?,
            PAYLOAD => packet = attribute.bytes,
            PREFIX => prefix = attribute.text("NFULA_PREFIX")?,
            SEQUENCE => sequence = Some(attribute.be32("NFULA_SEQ")?),
            _ => {}
        }
    }
    let sequence = sequence.ok_or(WireError::Missing { what: "NFULA_SEQ" })?;
    Ok(Report { group, packet, prefix, sequence, mark, hook, links })
}
