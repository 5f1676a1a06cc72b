//! Sets of others, whatever they hold: as far as it can be told what is in them.

use super::expression::data_value;
use super::verdict::Verdict;
use super::{owned, read_header};
use crate::{Attribute, WireError};

const TABLE: u16 = 1;
const NAME: u16 = 2;
const FLAGS: u16 = 3;
const KEY_LENGTH: u16 = 5;
const DESCRIPTION: u16 = 9;
const DESCRIPTION_PARTS: u16 = 2;
const PART_LENGTH: u16 = 1;

const LIST_ELEMENTS: u16 = 3;
const ELEMENT_KEY: u16 = 1;
const ELEMENT_DATA: u16 = 2;
const ELEMENT_FLAGS: u16 = 3;
const ELEMENT_KEY_END: u16 = 10;
const ENDS_INTERVAL: u32 = 1;
const CATCHES_ALL: u32 = 2;

/// A set or map of somebody's.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct ForeignSet {
    /// `nfgen_family`.
    pub family: u8,
    /// `NFTA_SET_TABLE`.
    pub table: String,
    /// `NFTA_SET_NAME`.
    pub name: String,
    /// `NFTA_SET_FLAGS`, see [`set_flags`](super::set_flags).
    pub flags: u32,
    /// `NFTA_SET_KEY_LEN`, in bytes.
    pub key_length: u32,
    /// How long the parts of its keys are, in bytes (`NFTA_SET_DESC_CONCAT`); empty if they have none.
    pub parts: Vec<u32>,
}

impl ForeignSet {
    /// Reads the body of a `NFT_MSG_NEWSET` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &[u8]) -> Result<Self, WireError> {
        let (family, attributes) = read_header(body, "NFT_MSG_NEWSET")?;
        let mut set = Self { family, ..Self::default() };
        for attribute in attributes {
            let attribute = attribute?;
            match attribute.kind {
                TABLE => set.table = owned(&attribute, "NFTA_SET_TABLE")?,
                NAME => set.name = owned(&attribute, "NFTA_SET_NAME")?,
                FLAGS => set.flags = attribute.be32("NFTA_SET_FLAGS")?,
                KEY_LENGTH => set.key_length = attribute.be32("NFTA_SET_KEY_LEN")?,
                DESCRIPTION => set.parts = parts(&attribute)?,
                _ => {}
            }
        }
        Ok(set)
    }
}

fn parts(description: &Attribute<'_>) -> Result<Vec<u32>, WireError> {
    let mut found = Vec::new();
    for inner in description.nested("NFTA_SET_DESC") {
        let inner = inner?;
        if inner.kind != DESCRIPTION_PARTS {
            continue;
        }
        for part in inner.nested("NFTA_SET_DESC_CONCAT") {
            for field in part?.nested("NFTA_LIST_ELEM") {
                let field = field?;
                if field.kind == PART_LENGTH {
                    found.push(field.be32("NFTA_SET_FIELD_LEN")?);
                }
            }
        }
    }
    Ok(found)
}

/// An element of such a set.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct ForeignElement {
    /// The key, or the first of several; `None` for what holds where no other does.
    pub key: Option<Vec<u8>>,
    /// The last of several, if it says so itself (`NFTA_SET_ELEM_KEY_END`).
    pub last: Option<Vec<u8>>,
    /// Whether it is the first value behind an interval rather than a value or a start.
    pub ends_interval: bool,
    /// What it leads to, in a map of data.
    pub data: Option<Vec<u8>>,
    /// Where it leads, in a map of verdicts.
    pub verdict: Option<Verdict>,
}

impl ForeignElement {
    fn decode(element: &Attribute<'_>) -> Result<Self, WireError> {
        let (mut found, mut flags) = (Self::default(), 0);
        for inner in element.nested("NFTA_LIST_ELEM") {
            let inner = inner?;
            match inner.kind {
                ELEMENT_KEY => found.key = Some(data_value(&inner)?.to_vec()),
                ELEMENT_KEY_END => found.last = Some(data_value(&inner)?.to_vec()),
                ELEMENT_DATA => {
                    found.verdict = Verdict::decode_data(&inner)?;
                    found.data = data_value(&inner).ok().map(<[u8]>::to_vec);
                }
                ELEMENT_FLAGS => flags = inner.be32("NFTA_SET_ELEM_FLAGS")?,
                _ => {}
            }
        }
        found.ends_interval = flags & ENDS_INTERVAL != 0;
        if flags & CATCHES_ALL != 0 {
            found.key = None;
        }
        Ok(found)
    }
}

/// Reads the body of a `NFT_MSG_NEWSETELEM` message: some of a set's elements.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn foreign_elements(body: &[u8]) -> Result<Vec<ForeignElement>, WireError> {
    let (_, attributes) = read_header(body, "NFT_MSG_NEWSETELEM")?;
    let mut elements = Vec::new();
    for attribute in attributes {
        let attribute = attribute?;
        if attribute.kind == LIST_ELEMENTS {
            for element in attribute.nested("NFTA_SET_ELEM_LIST_ELEMENTS") {
                elements.push(ForeignElement::decode(&element?)?);
            }
        }
    }
    Ok(elements)
}
