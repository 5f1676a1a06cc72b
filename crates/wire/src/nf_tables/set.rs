//! Sets and their elements.

use super::expression::Expression;
use super::verdict::Verdict;
use super::{owned, read_header};
use crate::{Attribute, WireError, Writer};

const TABLE: u16 = 1;
const NAME: u16 = 2;
const FLAGS: u16 = 3;
const KEY_TYPE: u16 = 4;
const KEY_LENGTH: u16 = 5;
const DATA_TYPE: u16 = 6;
const DATA_LENGTH: u16 = 7;
const DESCRIPTION: u16 = 9;
const DESCRIPTION_SIZE: u16 = 1;
const ID: u16 = 10;
const TIMEOUT: u16 = 11;
const EXPRESSION: u16 = 17;
/// `NFT_DATA_VERDICT`.
const VERDICTS: u32 = 0xffff_ff00;
/// A type of data that means nothing to the kernel.
const NUMBERS: u32 = 0;

const LIST_TABLE: u16 = 1;
const LIST_SET: u16 = 2;
const LIST_ELEMENTS: u16 = 3;
const LIST_SET_ID: u16 = 4;
const LIST_ELEMENT: u16 = 1;
const ELEMENT_KEY: u16 = 1;
const ELEMENT_DATA: u16 = 2;
const ELEMENT_FLAGS: u16 = 3;
const ELEMENT_EXPIRATION: u16 = 5;
const ELEMENT_USER_DATA: u16 = 6;
const ELEMENT_EXPRESSION: u16 = 7;
const ELEMENT_INTERVAL_END: u32 = 1;
const DATA_VALUE: u16 = 1;

/// `enum nft_set_flags`.
pub mod set_flags {
    /// The elements never change.
    pub const CONSTANT: u32 = 0x2;
    /// Elements are ends of intervals.
    pub const INTERVAL: u32 = 0x4;
    /// Elements carry data: here always verdicts.
    pub const MAP: u32 = 0x8;
    /// Elements vanish after a time.
    pub const TIMEOUT: u32 = 0x10;
    /// Rules may add elements to it.
    pub const DYNAMIC: u32 = 0x20;
}

/// A set of a table, or a map.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Set {
    /// `nfgen_family`.
    pub family: u8,
    /// `NFTA_SET_TABLE`.
    pub table: String,
    /// `NFTA_SET_NAME`.
    pub name: String,
    /// `NFTA_SET_FLAGS`, see [`set_flags`].
    pub flags: u32,
    /// `NFTA_SET_KEY_TYPE`: means nothing to the kernel.
    pub key_type: u32,
    /// `NFTA_SET_KEY_LEN`, in bytes.
    pub key_length: u32,
    /// `NFTA_SET_ID`: names the set within a batch.
    pub id: u32,
    /// `NFTA_SET_DESC_SIZE`: how many elements it can hold; `None`: any number.
    pub size: Option<u32>,
    /// `NFTA_SET_TIMEOUT`: after how many milliseconds elements vanish.
    pub timeout: Option<u64>,
    /// Whether the elements carry verdicts (`NFTA_SET_DATA_TYPE`, with [`set_flags::MAP`]).
    pub verdicts: bool,
    /// Whether the elements carry numbers of four bytes, likewise.
    pub numbers: bool,
    /// Whether each element counts the packets that meet it (`NFTA_SET_EXPR`).
    pub counted: bool,
}

impl Set {
    /// Writes the attributes of the message.
    pub fn write(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(NAME, &self.name);
        out.be32(FLAGS, self.flags);
        out.be32(KEY_TYPE, self.key_type);
        out.be32(KEY_LENGTH, self.key_length);
        out.be32(ID, self.id);
        if let Some(size) = self.size {
            out.nest(DESCRIPTION, |out| out.be32(DESCRIPTION_SIZE, size));
        }
        if let Some(timeout) = self.timeout {
            out.be64(TIMEOUT, timeout);
        }
        if self.verdicts {
            out.be32(DATA_TYPE, VERDICTS);
        }
        if self.numbers {
            out.be32(DATA_TYPE, NUMBERS);
            out.be32(DATA_LENGTH, 4);
        }
        if self.counted {
            out.nest(EXPRESSION, |out| Expression::Counter { packets: 0, bytes: 0 }.write(out));
        }
    }

    /// Writes which one it is.
    pub(super) fn write_name(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(NAME, &self.name);
    }

    /// Reads the body of a `NFT_MSG_NEWSET` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &[u8]) -> Result<Self, WireError> {
        let (family, attributes) = read_header(body, "NFT_MSG_NEWSET")?;
        let mut set = Self { family, ..Self::default() };
        let mut named = false;
        for attribute in attributes {
            let attribute = attribute?;
            match attribute.kind {
                TABLE => set.table = owned(&attribute, "NFTA_SET_TABLE")?,
                NAME => {
                    set.name = owned(&attribute, "NFTA_SET_NAME")?;
                    named = true;
                }
                FLAGS => set.flags = attribute.be32("NFTA_SET_FLAGS")?,
                KEY_TYPE => set.key_type = attribute.be32("NFTA_SET_KEY_TYPE")?,
                KEY_LENGTH => set.key_length = attribute.be32("NFTA_SET_KEY_LEN")?,
                DATA_TYPE => {
                    let data = attribute.be32("NFTA_SET_DATA_TYPE")?;
                    (set.verdicts, set.numbers) = (data == VERDICTS, data == NUMBERS);
                }
                EXPRESSION => {
                    let expression = Expression::decode(&attribute)?;
                    set.counted = matches!(expression, Expression::Counter { .. });
                }
                TIMEOUT => set.timeout = Some(attribute.be64("NFTA_SET_TIMEOUT")?),
                DESCRIPTION => {
                    for inner in attribute.nested("NFTA_SET_DESC") {
                        let inner = inner?;
                        if inner.kind == DESCRIPTION_SIZE {
                            set.size = Some(inner.be32("NFTA_SET_DESC_SIZE")?);
                        }
                    }
                }
                _ => {}
            }
        }
        if named { Ok(set) } else { Err(WireError::Missing { what: "NFTA_SET_NAME" }) }
    }

    /// Writes the attributes of a message that adds `elements` to this set.
    pub fn write_elements(&self, elements: &[Element], out: &mut Writer) {
        out.text(LIST_TABLE, &self.table);
        out.text(LIST_SET, &self.name);
        out.be32(LIST_SET_ID, self.id);
        out.nest(LIST_ELEMENTS, |out| {
            for element in elements {
                out.nest(LIST_ELEMENT, |out| element.write(out));
            }
        });
    }

    /// Writes the attributes of a request for this set's elements.
    pub fn write_request(&self, out: &mut Writer) {
        out.text(LIST_TABLE, &self.table);
        out.text(LIST_SET, &self.name);
    }
}

/// One element of a set: a value, or an end of an interval.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Default)]
pub struct Element {
    /// The key, in the byte order of the field it is compared with.
    pub key: Vec<u8>,
    /// Whether it is the first value behind an interval rather than a value or a start.
    pub ends_interval: bool,
    /// Where it leads, in a map.
    pub verdict: Option<Verdict>,
    /// The number that it leads to, in a map of numbers.
    pub number: Option<u32>,
    /// `NFTA_SET_ELEM_EXPIRATION`: after how many milliseconds it vanishes, in a set whose elements do.
    pub expires: Option<u64>,
    /// `NFTA_SET_ELEM_USERDATA`, up to 256 bytes that the kernel keeps for the owner.
    pub user_data: Vec<u8>,
    /// What it has counted, as packets and bytes: the kernel gives it, and goes on from there if it
    /// is given to the kernel.
    pub count: Option<(u64, u64)>,
}

impl Element {
    /// An element that is no more than a key.
    #[must_use]
    pub fn key(key: Vec<u8>) -> Self {
        Self { key, ..Self::default() }
    }

    /// The end of an interval.
    #[must_use]
    pub fn end(key: Vec<u8>) -> Self {
        Self { key, ends_interval: true, ..Self::default() }
    }

    /// At most so many bytes does it take in a message.
    pub(super) fn size(&self) -> usize {
        const ATTRIBUTES: usize = 24;
        const VERDICT: usize = 28;
        let verdict = match &self.verdict {
            None => 0,
            Some(Verdict::Jump(chain) | Verdict::Goto(chain)) => VERDICT + chain.len(),
            Some(_) => VERDICT,
        };
        let user_data = if self.user_data.is_empty() { 0 } else { self.user_data.len() + 8 };
        const COUNTER: usize = 52;
        let count = if self.count.is_some() { COUNTER } else { 0 };
        const NUMBER: usize = 12;
        let number = if self.number.is_some() { NUMBER } else { 0 };
        let expires = if self.expires.is_some() { NUMBER } else { 0 };
        ATTRIBUTES + self.key.len() + verdict + user_data + count + number + expires
    }

    fn write(&self, out: &mut Writer) {
        if self.ends_interval {
            out.be32(ELEMENT_FLAGS, ELEMENT_INTERVAL_END);
        }
        out.nest(ELEMENT_KEY, |out| out.bytes(DATA_VALUE, &self.key));
        if let Some(verdict) = &self.verdict {
            out.nest(ELEMENT_DATA, |out| verdict.write_data(out));
        }
        if let Some(number) = self.number {
            out.nest(ELEMENT_DATA, |out| out.bytes(DATA_VALUE, &number.to_ne_bytes()));
        }
        if let Some(time) = self.expires {
            out.be64(ELEMENT_EXPIRATION, time);
        }
        if !self.user_data.is_empty() {
            out.bytes(ELEMENT_USER_DATA, &self.user_data);
        }
        if let Some((packets, bytes)) = self.count {
            out.nest(ELEMENT_EXPRESSION, |out| Expression::Counter { packets, bytes }.write(out));
        }
    }

    fn decode(attribute: &Attribute<'_>) -> Result<Self, WireError> {
        let (mut key, mut flags) = (None, 0);
        let mut element = Self::default();
        for inner in attribute.nested("NFTA_LIST_ELEM") {
            let inner = inner?;
            match inner.kind {
                ELEMENT_KEY => key = Some(super::expression::data_value(&inner)?.to_vec()),
                ELEMENT_DATA => {
                    element.verdict = Verdict::decode_data(&inner)?;
                    let number = super::expression::data_value(&inner).ok();
                    let number = number.and_then(|it| it.try_into().ok());
                    element.number = number.map(u32::from_ne_bytes);
                }
                ELEMENT_EXPIRATION => {
                    element.expires = Some(inner.be64("NFTA_SET_ELEM_EXPIRATION")?);
                }
                ELEMENT_FLAGS => flags = inner.be32("NFTA_SET_ELEM_FLAGS")?,
                ELEMENT_USER_DATA => element.user_data = inner.bytes.to_vec(),
                ELEMENT_EXPRESSION => {
                    if let Expression::Counter { packets, bytes } = Expression::decode(&inner)? {
                        element.count = Some((packets, bytes));
                    }
                }
                _ => {}
            }
        }
        element.key = key.ok_or(WireError::Missing { what: "NFTA_SET_ELEM_KEY" })?;
        element.ends_interval = flags & ELEMENT_INTERVAL_END != 0;
        Ok(element)
    }
}

/// Reads the body of a `NFT_MSG_NEWSETELEM` message: the set's name and some of its elements.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_elements(body: &[u8]) -> Result<(String, Vec<Element>), WireError> {
    let (_, attributes) = read_header(body, "NFT_MSG_NEWSETELEM")?;
    let (mut set, mut elements) = (None, Vec::new());
    for attribute in attributes {
        let attribute = attribute?;
        match attribute.kind {
            LIST_SET => set = Some(owned(&attribute, "NFTA_SET_ELEM_LIST_SET")?),
            LIST_ELEMENTS => {
                for element in attribute.nested("NFTA_SET_ELEM_LIST_ELEMENTS") {
                    elements.push(Element::decode(&element?)?);
                }
            }
            _ => {}
        }
    }
    let set = set.ok_or(WireError::Missing { what: "NFTA_SET_ELEM_LIST_SET" })?;
    Ok((set, elements))
}
