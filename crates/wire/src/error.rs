//! What can go wrong between bytes and values.

/// Bytes that are not what they should be, or values that do not fit into bytes.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum WireError {
    /// A message or attribute ends before the named part of it.
    #[error("{what} is cut short")]
    Truncated {
        /// The kernel's name of the part.
        what: &'static str,
    },
    /// A length field contradicts the space there is.
    #[error("{what} has the impossible length {length}")]
    BadLength {
        /// The kernel's name of the part.
        what: &'static str,
        /// The length found, in bytes.
        length: usize,
    },
    /// A part that must be there is not.
    #[error("{what} is missing")]
    Missing {
        /// The kernel's name of the part.
        what: &'static str,
    },
    /// A value is too large for its length field.
    #[error("attribute {kind} would need {length} bytes, more than the 65,535 it can have")]
    TooLong {
        /// The number of the attribute.
        kind: u16,
        /// The length it would need, in bytes, with its header.
        length: usize,
    },
    /// A text holds a NUL byte or is not UTF-8.
    #[error("{what} is not a text")]
    NotText {
        /// The kernel's name of the part.
        what: &'static str,
    },
}
