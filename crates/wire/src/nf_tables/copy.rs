//! Making again what a dump has told of, whatever it is, without understanding all of it.

use super::{message_kind, write_header};
use crate::{Attributes, Fields, WireError, Writer};

/// What there is to dump, in the order in which it can be made again: the request for it, the
/// message that tells of it and makes it, and the attributes that say what it is. The others say
/// where the kernel keeps it, or who uses it (linux/netfilter/nf_tables.h).
pub const KINDS: [Kind; 7] = [
    // Name, flags, user data.
    Kind { get: message_kind::GET_TABLE, new: message_kind::NEW_TABLE, keep: &[1, 2, 6] },
    // Table, name, hook, policy, type, user data.
    Kind { get: message_kind::GET_CHAIN, new: message_kind::NEW_CHAIN, keep: &[1, 3, 4, 5, 7, 12] },
    // Table, name, type, data, user data.
    Kind { get: message_kind::GET_OBJECT, new: message_kind::NEW_OBJECT, keep: &[1, 2, 3, 4, 8] },
    // Table, name, hook.
    Kind { get: message_kind::GET_FLOW_TABLE, new: message_kind::NEW_FLOW_TABLE, keep: &[1, 2, 3] },
    // Table, name, flags, key, data, policy, description, times, user data, object, expressions.
    Kind {
        get: message_kind::GET_SET,
        new: message_kind::NEW_SET,
        keep: &[1, 2, 3, 4, 5, 6, 7, 8, 9, 11, 12, 13, 15, 17, 18],
    },
    // Table, set, elements.
    Kind { get: message_kind::GET_ELEMENTS, new: message_kind::NEW_ELEMENTS, keep: &[1, 2, 3] },
    // Table, chain, expressions, compatibility, user data.
    Kind { get: message_kind::GET_RULE, new: message_kind::NEW_RULE, keep: &[1, 2, 4, 5, 7] },
];

/// A kind of thing that can be dumped and made again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kind {
    /// The message that asks for it.
    pub get: u16,
    /// The message that tells of it, and that makes it.
    pub new: u16,
    keep: &'static [u16],
}

const TABLE: u16 = 1;
const TABLE_FLAGS: u16 = 2;
/// `NFT_TABLE_F_OWNER` and `NFT_TABLE_F_PERSIST`: such a table goes with the program that made it.
const NOT_OWNED: u32 = !0x6;
const SET_NUMBER: u16 = 10;
/// `NFTA_SET_NAME`, `NFTA_CHAIN_NAME` and `NFTA_RULE_CHAIN`.
const SECOND: u16 = 2;
const THIRD: u16 = 3;

/// `NFTA_RULE_EXPRESSIONS`, `NFTA_LIST_ELEM`, `NFTA_EXPR_NAME`, `NFTA_EXPR_DATA` and `NFTA_DYNSET_TIMEOUT`.
const EXPRESSIONS: u16 = 4;
const LIST_ELEMENT: u16 = 1;
const EXPRESSION_NAME: u16 = 1;
const EXPRESSION_DATA: u16 = 2;
const DYNSET_TIMEOUT: u16 = 6;

/// A rule's expressions without what newer kernels say of elements that rules add: that they have no time of their
/// own. Said so, they refuse it of sets whose elements last. `None` if nothing says so.
fn without_no_timeouts(expressions: Attributes<'_>) -> Result<Option<Vec<u8>>, WireError> {
    let (mut out, mut changed) = (Writer::new(), false);
    for expression in expressions {
        let (mut name, mut data) = ("", None);
        for part in expression?.nested("NFTA_LIST_ELEM") {
            let part = part?;
            match part.kind {
                EXPRESSION_NAME => name = part.text("NFTA_EXPR_NAME")?,
                EXPRESSION_DATA => data = Some(part),
                _ => {}
            }
        }
        let mut kept = Vec::new();
        for part in data.iter().flat_map(|it| it.nested("NFTA_EXPR_DATA")) {
            let part = part?;
            let none = name == "dynset" && part.kind == DYNSET_TIMEOUT && part.bytes == [0; 8];
            changed |= none;
            kept.extend((!none).then_some(part));
        }
        out.nest(LIST_ELEMENT, |out| {
            out.text(EXPRESSION_NAME, name);
            if let Some(data) = &data {
                // Of an expression that is not changed, each byte stays.
                match name {
                    "dynset" => out.nest(EXPRESSION_DATA, |out| {
                        kept.iter().for_each(|it| out.bytes(it.kind, it.bytes));
                    }),
                    _ => out.bytes(EXPRESSION_DATA, data.bytes),
                }
            }
        });
    }
    Ok(if changed { Some(out.finish()?) } else { None })
}

/// One thing of a dump, to be made again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Copied {
    /// The message that makes it.
    pub kind: u16,
    /// `nfgen_family`.
    pub family: u8,
    /// The table that it belongs to, or is.
    pub table: String,
    /// The name of the chain or set that it is or belongs to; empty for a table.
    pub name: String,
    attributes: Vec<(u16, Vec<u8>)>,
    /// For a set: a number that no other set of the batch has.
    number: Option<u32>,
}

impl Copied {
    /// Reads the body of a dumped message. Sets get `number`.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(kind: &Kind, body: &[u8], number: u32) -> Result<Self, WireError> {
        let mut fields = Fields::new(body, "struct nfgenmsg");
        let family = fields.byte()?;
        fields.take(3)?;
        let mut copied = Self {
            kind: kind.new,
            family,
            table: String::new(),
            name: String::new(),
            attributes: Vec::new(),
            number: (kind.new == message_kind::NEW_SET).then_some(number),
        };
        let name = match kind.new {
            message_kind::NEW_TABLE => None,
            message_kind::NEW_CHAIN => Some(THIRD),
            _ => Some(SECOND),
        };
        for attribute in Attributes::new(fields.rest(), "a dumped object") {
            let attribute = attribute?;
            if attribute.kind == TABLE {
                copied.table = attribute.text("the name of a table")?.to_owned();
            }
            if Some(attribute.kind) == name {
                copied.name = attribute.text("a name")?.to_owned();
            }
            if !kind.keep.contains(&attribute.kind) {
                continue;
            }
            let mut bytes = attribute.bytes.to_vec();
            if kind.new == message_kind::NEW_TABLE && attribute.kind == TABLE_FLAGS {
                bytes = (attribute.be32("NFTA_TABLE_FLAGS")? & NOT_OWNED).to_be_bytes().to_vec();
            }
            if kind.new == message_kind::NEW_RULE && attribute.kind == EXPRESSIONS {
                // What is not understood stays as it came.
                let told = without_no_timeouts(attribute.nested("NFTA_RULE_EXPRESSIONS"));
                bytes = told.ok().flatten().unwrap_or(bytes);
            }
            copied.attributes.push((attribute.kind, bytes));
        }
        Ok(copied)
    }

    /// Writes header and attributes.
    pub(super) fn write(&self, out: &mut Writer) {
        write_header(out, self.family, 0);
        for (kind, bytes) in &self.attributes {
            out.bytes(*kind, bytes);
        }
        if let Some(number) = self.number {
            out.be32(SET_NUMBER, number);
        }
    }

    /// What it is, for people.
    #[must_use]
    pub fn words(&self) -> String {
        let Self { table, name, .. } = self;
        match self.kind {
            message_kind::NEW_TABLE => format!("the table {table}"),
            message_kind::NEW_CHAIN => format!("the chain {name} of the table {table}"),
            message_kind::NEW_SET => format!("the set {name} of the table {table}"),
            message_kind::NEW_ELEMENTS => format!("what is in the set {name} of the table {table}"),
            message_kind::NEW_RULE => format!("a rule of the chain {name} of the table {table}"),
            message_kind::NEW_FLOW_TABLE => format!("the shortcut {name} of the table {table}"),
            _ => format!("{name} of the table {table}"),
        }
    }
}
