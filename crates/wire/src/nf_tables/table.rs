//! Tables.

use super::{owned, read_header};
use crate::{WireError, Writer};

const NAME: u16 = 1;
const FLAGS: u16 = 2;
const HANDLE: u16 = 4;
const USER_DATA: u16 = 6;

/// A table of rules.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Table {
    /// `nfgen_family`.
    pub family: u8,
    /// `NFTA_TABLE_NAME`.
    pub name: String,
    /// `NFTA_TABLE_FLAGS`; 1 is dormant: the table decides nothing.
    pub flags: u32,
    /// `NFTA_TABLE_HANDLE`; the kernel gives it, to each table another one.
    pub handle: Option<u64>,
    /// `NFTA_TABLE_USERDATA`, up to 256 bytes that the kernel keeps for the owner.
    pub user_data: Vec<u8>,
}

impl Table {
    /// Writes the attributes of the message.
    pub fn write(&self, out: &mut Writer) {
        out.text(NAME, &self.name);
        if self.flags != 0 {
            out.be32(FLAGS, self.flags);
        }
        if !self.user_data.is_empty() {
            out.bytes(USER_DATA, &self.user_data);
        }
    }

    /// Reads the body of a `NFT_MSG_NEWTABLE` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &[u8]) -> Result<Self, WireError> {
        let (family, attributes) = read_header(body, "NFT_MSG_NEWTABLE")?;
        let mut table = Self { family, ..Self::default() };
        let mut named = false;
        for attribute in attributes {
            let attribute = attribute?;
            match attribute.kind {
                NAME => {
                    table.name = owned(&attribute, "NFTA_TABLE_NAME")?;
                    named = true;
                }
                FLAGS => table.flags = attribute.be32("NFTA_TABLE_FLAGS")?,
                HANDLE => table.handle = Some(attribute.be64("NFTA_TABLE_HANDLE")?),
                USER_DATA => table.user_data = attribute.bytes.to_vec(),
                _ => {}
            }
        }
        if named { Ok(table) } else { Err(WireError::Missing { what: "NFTA_TABLE_NAME" }) }
    }
}
