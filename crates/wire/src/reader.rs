//! Netlink attributes and fixed headers being read.

use crate::WireError;

const HEADER: usize = 4;
/// The bits of an attribute's kind that are flags (`NLA_F_NESTED`, `NLA_F_NET_BYTEORDER`).
const FLAGS: u16 = 0xc000;

/// Fields of a fixed header, taken one after the other.
#[derive(Clone, Debug)]
pub struct Fields<'a> {
    rest: &'a [u8],
    what: &'static str,
}

impl<'a> Fields<'a> {
    /// Reads `bytes`, which the kernel calls `what`.
    #[must_use]
    pub fn new(bytes: &'a [u8], what: &'static str) -> Self {
        Self { rest: bytes, what }
    }

    /// The next `length` bytes.
    ///
    /// # Errors
    /// [`WireError::Truncated`] if there are fewer.
    pub fn take(&mut self, length: usize) -> Result<&'a [u8], WireError> {
        let (taken, rest) =
            self.rest.split_at_checked(length).ok_or(WireError::Truncated { what: self.what })?;
        self.rest = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], WireError> {
        let what = self.what;
        self.take(N)?.try_into().map_err(|_| WireError::Truncated { what })
    }

    /// One byte.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub fn byte(&mut self) -> Result<u8, WireError> {
        Ok(self.array::<1>()?[0])
    }

    /// 16 bits, big-endian.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub fn be16(&mut self) -> Result<u16, WireError> {
        Ok(u16::from_be_bytes(self.array()?))
    }

    /// 16 bits in host order.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub(crate) fn ne16(&mut self) -> Result<u16, WireError> {
        Ok(u16::from_ne_bytes(self.array()?))
    }

    /// 32 bits in host order.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub fn ne32(&mut self) -> Result<u32, WireError> {
        Ok(u32::from_ne_bytes(self.array()?))
    }

    /// 32 bits, big-endian.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub fn be32(&mut self) -> Result<u32, WireError> {
        Ok(u32::from_be_bytes(self.array()?))
    }

    /// An address of 16 bytes.
    ///
    /// # Errors
    /// [`WireError::Truncated`] as for [`Fields::take`].
    pub(crate) fn sixteen(&mut self) -> Result<[u8; 16], WireError> {
        self.array()
    }

    /// What has not been taken.
    #[must_use]
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }
}

/// One attribute: its number without flags, and its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Attribute<'a> {
    /// The number that says what it is.
    pub kind: u16,
    /// The bytes, without header and padding.
    pub bytes: &'a [u8],
}

impl<'a> Attribute<'a> {
    fn exact<const N: usize>(&self, what: &'static str) -> Result<[u8; N], WireError> {
        let length = self.bytes.len();
        self.bytes.try_into().map_err(|_| WireError::BadLength { what, length })
    }

    /// One byte; `what` names the attribute in errors.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if the size is another.
    pub fn byte(&self, what: &'static str) -> Result<u8, WireError> {
        Ok(self.exact::<1>(what)?[0])
    }

    /// 16 bits, big-endian.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if the size is another.
    pub fn be16(&self, what: &'static str) -> Result<u16, WireError> {
        Ok(u16::from_be_bytes(self.exact(what)?))
    }

    /// 32 bits, big-endian.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if the size is another.
    pub fn be32(&self, what: &'static str) -> Result<u32, WireError> {
        Ok(u32::from_be_bytes(self.exact(what)?))
    }

    /// 32 bits in host order.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if the size is another.
    pub fn ne32(&self, what: &'static str) -> Result<u32, WireError> {
        Ok(u32::from_ne_bytes(self.exact(what)?))
    }

    /// 64 bits, big-endian.
    ///
    /// # Errors
    /// [`WireError::BadLength`] if the size is another.
    pub fn be64(&self, what: &'static str) -> Result<u64, WireError> {
        Ok(u64::from_be_bytes(self.exact(what)?))
    }

    /// A text, without the NUL that may end it.
    ///
    /// # Errors
    /// [`WireError::NotText`] if it holds a NUL elsewhere or is not UTF-8.
    pub fn text(&self, what: &'static str) -> Result<&'a str, WireError> {
        let bytes = self.bytes.strip_suffix(&[0]).unwrap_or(self.bytes);
        if bytes.contains(&0) {
            return Err(WireError::NotText { what });
        }
        std::str::from_utf8(bytes).map_err(|_| WireError::NotText { what })
    }

    /// The attributes that it holds.
    #[must_use]
    pub(crate) fn nested(&self, what: &'static str) -> Attributes<'a> {
        Attributes::new(self.bytes, what)
    }
}

/// Attributes in a row. After an error nothing more comes.
#[derive(Clone, Debug)]
pub struct Attributes<'a> {
    rest: &'a [u8],
    what: &'static str,
}

impl<'a> Attributes<'a> {
    /// Reads the attributes in `bytes`; `what` names their container in errors.
    #[must_use]
    pub fn new(bytes: &'a [u8], what: &'static str) -> Self {
        Self { rest: bytes, what }
    }

    fn one(&mut self) -> Result<Attribute<'a>, WireError> {
        let mut header = Fields::new(self.rest, self.what);
        let length = usize::from(header.ne16()?);
        let kind = header.ne16()? & !FLAGS;
        if length < HEADER {
            return Err(WireError::BadLength { what: self.what, length });
        }
        let what = self.what;
        let bytes = self.rest.get(HEADER..length).ok_or(WireError::Truncated { what })?;
        self.rest = self.rest.get(length.next_multiple_of(4)..).unwrap_or_default();
        Ok(Attribute { kind, bytes })
    }
}

impl<'a> Iterator for Attributes<'a> {
    type Item = Result<Attribute<'a>, WireError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.rest.is_empty() {
            return None;
        }
        let item = self.one();
        if item.is_err() {
            self.rest = &[];
        }
        Some(item)
    }
}
