//! Netlink attributes being written.

use crate::WireError;

/// Flag of an attribute that holds attributes (`NLA_F_NESTED`, linux/netlink.h).
const NESTED: u16 = 0x8000;
const HEADER: usize = 4;
const ALIGNMENT: usize = 4;

/// Collects bytes. An overflow is remembered and comes out of [`Writer::finish`], so that
/// callers need not check each step.
#[derive(Debug, Default)]
pub struct Writer {
    bytes: Vec<u8>,
    error: Option<WireError>,
}

impl Writer {
    /// A writer with nothing in it.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// How many bytes are there so far.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Whether nothing has been written.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// Bytes as they are: fixed headers.
    pub fn raw(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }

    /// Zero bytes up to the next multiple of four.
    pub fn pad(&mut self) {
        self.bytes.resize(self.bytes.len().next_multiple_of(ALIGNMENT), 0);
    }

    /// Overwrites four bytes at `at`, in host order; for lengths that are known last.
    pub(crate) fn patch_ne32(&mut self, at: usize, value: u32) {
        if let Some(place) = self.bytes.get_mut(at..at + 4) {
            place.copy_from_slice(&value.to_ne_bytes());
        }
    }

    /// An attribute of plain bytes.
    pub fn bytes(&mut self, kind: u16, value: &[u8]) {
        self.attribute(kind, |out| out.raw(value));
    }

    /// A text, with the NUL that ends it.
    pub fn text(&mut self, kind: u16, value: &str) {
        self.attribute(kind, |out| {
            out.raw(value.as_bytes());
            out.raw(&[0]);
        });
    }

    /// Writes an attribute of one byte.
    pub fn byte(&mut self, kind: u16, value: u8) {
        self.bytes(kind, &[value]);
    }

    /// Writes an attribute of 16 bits, highest byte first.
    pub fn be16(&mut self, kind: u16, value: u16) {
        self.bytes(kind, &value.to_be_bytes());
    }

    /// Writes an attribute of 32 bits, highest byte first.
    pub fn be32(&mut self, kind: u16, value: u32) {
        self.bytes(kind, &value.to_be_bytes());
    }

    /// Writes an attribute of 64 bits, highest byte first.
    pub fn be64(&mut self, kind: u16, value: u64) {
        self.bytes(kind, &value.to_be_bytes());
    }

    /// 32 bits in host order.
    pub fn ne32(&mut self, kind: u16, value: u32) {
        self.bytes(kind, &value.to_ne_bytes());
    }

    /// An attribute that holds attributes.
    pub fn nest(&mut self, kind: u16, body: impl FnOnce(&mut Self)) {
        self.attribute(kind | NESTED, body);
    }

    fn attribute(&mut self, kind: u16, body: impl FnOnce(&mut Self)) {
        let start = self.bytes.len();
        // All ones until the length is known: a reader of unfinished bytes fails.
        self.bytes.extend_from_slice(&[0xff, 0xff]);
        self.bytes.extend_from_slice(&kind.to_ne_bytes());
        body(self);
        let length = self.bytes.len() - start;
        debug_assert!(length >= HEADER, "an attribute holds its header at least");
        match u16::try_from(length) {
            Ok(length) => self.bytes[start..start + 2].copy_from_slice(&length.to_ne_bytes()),
            Err(_) => {
                let kind = kind & !NESTED;
                self.error.get_or_insert(WireError::TooLong { kind, length });
            }
        }
        self.pad();
    }

    /// The bytes.
    ///
    /// # Errors
    /// [`WireError::TooLong`] if an attribute did not fit.
    pub fn finish(self) -> Result<Vec<u8>, WireError> {
        match self.error {
            Some(error) => Err(error),
            None => Ok(self.bytes),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Writer;
    use crate::{Attributes, WireError};

    #[test]
    fn nests_are_patched_padded_and_read_back() {
        let mut out = Writer::new();
        out.nest(7, |out| {
            out.text(1, "sluice");
            out.be32(2, 0x0102_0304);
        });
        out.byte(3, 9);
        let bytes = out.finish().expect("fits");
        assert_eq!(bytes.len() % 4, 0);
        let found: Vec<_> =
            Attributes::new(&bytes, "test").collect::<Result<_, _>>().expect("reads");
        assert_eq!(found[0].kind, 7);
        assert_eq!(found[1].byte("TEST"), Ok(9));
        let inner: Vec<_> = found[0].nested("test").collect::<Result<_, _>>().expect("reads");
        assert_eq!(inner[0].text("TEST"), Ok("sluice"));
        assert_eq!(inner[1].be32("TEST"), Ok(0x0102_0304));
    }

    #[test]
    fn what_does_not_fit_is_an_error_even_deep_inside() {
        let mut out = Writer::new();
        out.nest(1, |out| out.nest(2, |out| out.bytes(3, &[0; 70_000])));
        assert_eq!(out.finish(), Err(WireError::TooLong { kind: 3, length: 70_004 }));
    }

    #[test]
    fn an_unfinished_length_cannot_be_read_as_one() {
        let mut out = Writer::new();
        let mut seen = Vec::new();
        out.nest(1, |out| seen.clone_from(&out.bytes));
        assert!(Attributes::new(&seen, "test").next().is_some_and(|it| it.is_err()));
    }
}
