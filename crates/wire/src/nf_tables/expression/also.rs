//! What has to hold of an expression besides its fields.

use super::parts::{DATA, NAME, Parts, split};
use crate::{WireError, Writer};

/// What else must hold of an expression, for it to be all that the fields say.
pub(super) enum Also {
    /// The attribute is this number; it is written so.
    Is(u16, u32),
    /// It is there: without it, the expression does something else.
    There(u16),
    /// It is not there.
    NotThere(u16),
    /// It is not there, or zero.
    Zero(u16),
    /// It is not there, or has no other bits than these.
    Only(u16, u32),
    /// It is an expression that counts, from nothing on; kernels since 5.11 leave it out where the set says
    /// that its elements do.
    Counts(u16),
}

/// The kernel's name of what counts, and `NFTA_COUNTER_BYTES` and `NFTA_COUNTER_PACKETS`.
const COUNTER: &str = "counter";
const COUNTED: [u16; 2] = [1, 2];

impl Also {
    /// Writes what it says of the attribute.
    pub(super) fn write(&self, out: &mut Writer) {
        match self {
            Self::Is(kind, value) => out.be32(*kind, *value),
            Self::Counts(kind) => out.nest(*kind, |out| {
                out.text(NAME, COUNTER);
                out.nest(DATA, |out| COUNTED.iter().for_each(|it| out.be64(*it, 0)));
            }),
            _ => {}
        }
    }

    /// Whether the attributes are so.
    ///
    /// # Errors
    /// [`WireError`] if one is malformed.
    pub(super) fn holds(&self, parts: &Parts<'_>) -> Result<bool, WireError> {
        Ok(match self {
            Self::Is(kind, value) => parts.optional(*kind)? == Some(*value),
            Self::There(kind) => parts.get(*kind).is_some(),
            Self::NotThere(kind) => parts.get(*kind).is_none(),
            Self::Zero(kind) => {
                parts.get(*kind).is_none_or(|it| it.bytes.iter().all(|&byte| byte == 0))
            }
            Self::Counts(kind) => {
                parts.get(*kind).is_none_or(|it| split(it).is_ok_and(|it| it.0 == COUNTER))
            }
            Self::Only(kind, bits) => parts.optional(*kind)?.unwrap_or(0) & !bits == 0,
        })
    }
}
