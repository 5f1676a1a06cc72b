//! Hardware addresses of links.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// The hardware address of an Ethernet-like link: an EUI-48 (RFC 9542), in the order in which it is
/// sent and written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct HardwareAddress(pub [u8; 6]);

impl fmt::Display for HardwareAddress {
    /// As people write it: `52:54:00:12:34:56`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, byte) in self.0.iter().enumerate() {
            let colon = if at > 0 { ":" } else { "" };
            write!(out, "{colon}{byte:02x}")?;
        }
        Ok(())
    }
}

impl FromStr for HardwareAddress {
    type Err = ();

    /// Six pairs of hexadecimal digits, with colons or hyphens between them.
    fn from_str(text: &str) -> Result<Self, ()> {
        let between = if text.contains('-') { '-' } else { ':' };
        let mut bytes = [0; 6];
        let mut pairs = text.split(between);
        for byte in &mut bytes {
            let pair = pairs.next().filter(|it| it.len() == 2).ok_or(())?;
            let digits = pair.bytes().all(|it| it.is_ascii_hexdigit());
            *byte = u8::from_str_radix(pair, 16).ok().filter(|_| digits).ok_or(())?;
        }
        if pairs.next().is_some() { Err(()) } else { Ok(Self(bytes)) }
    }
}

impl From<HardwareAddress> for String {
    fn from(address: HardwareAddress) -> Self {
        address.to_string()
    }
}

impl TryFrom<String> for HardwareAddress {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse().map_err(|()| format!("`{}` is no hardware address", text.escape_debug()))
    }
}

impl HardwareAddress {
    /// Reads it as the kernel gives it; `None` if it is of another length, or nobody's.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Option<Self> {
        <[u8; 6]>::try_from(bytes).ok().filter(|it| *it != [0; 6]).map(Self)
    }
}
