//! What has to hold of an expression besides its fields.

use super::parts::Parts;
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
}

impl Also {
    /// Writes what it says of the attribute.
    pub(super) fn write(&self, out: &mut Writer) {
        if let Self::Is(kind, value) = self {
            out.be32(*kind, *value);
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
            Self::Only(kind, bits) => parts.optional(*kind)?.unwrap_or(0) & !bits == 0,
        })
    }
}
