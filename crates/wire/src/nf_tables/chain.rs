//! Chains.

use super::{owned, read_header};
use crate::{Attribute, WireError, Writer};

const TABLE: u16 = 1;
const NAME: u16 = 3;
const HOOK: u16 = 4;
const POLICY: u16 = 5;
const TYPE: u16 = 7;
const HOOK_NUMBER: u16 = 1;
const HOOK_PRIORITY: u16 = 2;

/// Where a chain hangs in the packet path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Hook {
    /// `NFTA_HOOK_HOOKNUM`: `enum nf_inet_hooks`.
    pub number: u32,
    /// `NFTA_HOOK_PRIORITY`; lower ones see a packet first.
    pub priority: i32,
}

impl Hook {
    /// `NF_INET_PRE_ROUTING`.
    pub const PRE_ROUTING: u32 = 0;
    /// `NF_INET_LOCAL_IN`.
    pub const LOCAL_IN: u32 = 1;
    /// `NF_INET_FORWARD`.
    pub const FORWARD: u32 = 2;
    /// `NF_INET_LOCAL_OUT`.
    pub const LOCAL_OUT: u32 = 3;
    /// `NF_INET_POST_ROUTING`.
    pub const POST_ROUTING: u32 = 4;
    /// `NF_INET_INGRESS`.
    pub const INGRESS: u32 = 5;
}

/// A chain of a table.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Chain {
    /// `nfgen_family`.
    pub family: u8,
    /// `NFTA_CHAIN_TABLE`.
    pub table: String,
    /// `NFTA_CHAIN_NAME`.
    pub name: String,
    /// `NFTA_CHAIN_TYPE`: `filter`, `nat` or `route`.
    pub kind: Option<String>,
    /// `NFTA_CHAIN_HOOK`; `None` for a chain that only jumps lead to.
    pub hook: Option<Hook>,
    /// `NFTA_CHAIN_POLICY`: 0 drops, 1 accepts what leaves the chain undecided.
    pub policy: Option<u32>,
}

impl Chain {
    /// Writes the attributes of the message.
    pub fn write(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(NAME, &self.name);
        if let Some(hook) = self.hook {
            out.nest(HOOK, |out| {
                out.be32(HOOK_NUMBER, hook.number);
                out.be32(HOOK_PRIORITY, hook.priority.cast_unsigned());
            });
        }
        if let Some(policy) = self.policy {
            out.be32(POLICY, policy);
        }
        if let Some(kind) = &self.kind {
            out.text(TYPE, kind);
        }
    }

    /// Writes which one it is.
    pub(super) fn write_name(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(NAME, &self.name);
    }

    /// Reads the body of a `NFT_MSG_NEWCHAIN` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &[u8]) -> Result<Self, WireError> {
        let (family, attributes) = read_header(body, "NFT_MSG_NEWCHAIN")?;
        let mut chain = Self { family, ..Self::default() };
        let mut named = false;
        for attribute in attributes {
            let attribute = attribute?;
            match attribute.kind {
                TABLE => chain.table = owned(&attribute, "NFTA_CHAIN_TABLE")?,
                NAME => {
                    chain.name = owned(&attribute, "NFTA_CHAIN_NAME")?;
                    named = true;
                }
                HOOK => chain.hook = Some(read_hook(&attribute)?),
                POLICY => chain.policy = Some(attribute.be32("NFTA_CHAIN_POLICY")?),
                TYPE => chain.kind = Some(owned(&attribute, "NFTA_CHAIN_TYPE")?),
                _ => {}
            }
        }
        if named { Ok(chain) } else { Err(WireError::Missing { what: "NFTA_CHAIN_NAME" }) }
    }
}

fn read_hook(attribute: &Attribute<'_>) -> Result<Hook, WireError> {
    let (mut number, mut priority) = (None, None);
    for inner in attribute.nested("NFTA_CHAIN_HOOK") {
        let inner = inner?;
        match inner.kind {
            HOOK_NUMBER => number = Some(inner.be32("NFTA_HOOK_HOOKNUM")?),
            HOOK_PRIORITY => priority = Some(inner.be32("NFTA_HOOK_PRIORITY")?.cast_signed()),
            _ => {}
        }
    }
    Ok(Hook {
        number: number.ok_or(WireError::Missing { what: "NFTA_HOOK_HOOKNUM" })?,
        priority: priority.ok_or(WireError::Missing { what: "NFTA_HOOK_PRIORITY" })?,
    })
}
