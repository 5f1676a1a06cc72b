//! The attributes of one expression.

use crate::{Attribute, Attributes, WireError};

/// `NFTA_EXPR_NAME`.
pub(super) const NAME: u16 = 1;
/// `NFTA_EXPR_DATA`.
pub(crate) const DATA: u16 = 2;
/// `NFTA_DATA_VALUE`.
pub(crate) const DATA_VALUE: u16 = 1;

/// Numbers of attributes that expressions are known by here are below this.
const NUMBERS: usize = 12;

/// The name of an expression, and its attributes.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub(super) fn split<'a>(element: &Attribute<'a>) -> Result<(&'a str, &'a [u8]), WireError> {
    let (mut name, mut data) = (None, &[][..]);
    for attribute in element.nested("NFTA_LIST_ELEM") {
        let attribute = attribute?;
        match attribute.kind {
            NAME => name = Some(attribute.text("NFTA_EXPR_NAME")?),
            DATA => data = attribute.bytes,
            _ => {}
        }
    }
    Ok((name.ok_or(WireError::Missing { what: "NFTA_EXPR_NAME" })?, data))
}

/// The bytes in an attribute that wraps `NFTA_DATA_VALUE`.
///
/// # Errors
/// [`WireError`] if it is malformed, or holds something else.
pub(crate) fn data_value<'a>(attribute: &Attribute<'a>) -> Result<&'a [u8], WireError> {
    for inner in attribute.nested("NFTA_DATA") {
        let inner = inner?;
        if inner.kind == DATA_VALUE {
            return Ok(inner.bytes);
        }
    }
    Err(WireError::Missing { what: "NFTA_DATA_VALUE" })
}

/// The attributes of one expression, by number; of several with one number, the first.
pub struct Parts<'a>([Option<Attribute<'a>>; NUMBERS]);

impl<'a> Parts<'a> {
    /// Sorts them.
    ///
    /// # Errors
    /// [`WireError`] if one is malformed.
    pub fn read(data: &'a [u8]) -> Result<Self, WireError> {
        let mut parts = [const { None }; NUMBERS];
        for attribute in Attributes::new(data, "NFTA_EXPR_DATA") {
            let attribute = attribute?;
            if let Some(place) = parts.get_mut(usize::from(attribute.kind)) {
                place.get_or_insert(attribute);
            }
        }
        Ok(Self(parts))
    }

    /// The one of that number.
    pub fn get(&self, kind: u16) -> Option<&Attribute<'a>> {
        self.0.get(usize::from(kind))?.as_ref()
    }

    /// Likewise, one that must be there.
    ///
    /// # Errors
    /// [`WireError::Missing`] if it is not.
    pub fn need(&self, kind: u16, what: &'static str) -> Result<&Attribute<'a>, WireError> {
        self.get(kind).ok_or(WireError::Missing { what })
    }

    /// Its value as a number; `None` if it is not there.
    ///
    /// # Errors
    /// [`WireError`] if it is no number of 32 bits.
    pub(crate) fn optional(&self, kind: u16) -> Result<Option<u32>, WireError> {
        self.get(kind).map(|attribute| attribute.be32("NFTA_EXPR_DATA")).transpose()
    }
}
