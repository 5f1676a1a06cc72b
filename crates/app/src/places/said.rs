//! What a file says, as it was read.

use tipstaff_core::policy::Held;

/// Larger files are not read.
pub(super) const LARGEST: u64 = 64 * 1024 * 1024;

/// What a file says.
#[derive(Clone, Debug)]
pub(super) enum Said {
    /// Its text, and by what a server knows it again.
    Text(String, Option<Held>),
    /// The same as when it was read last.
    Same,
}

/// The mark of UTF-8 at the beginning of a file.
const MARK: &str = "\u{feff}";

/// Bytes as text.
pub(super) fn text(bytes: Vec<u8>) -> Result<String, String> {
    if bytes.len() as u64 > LARGEST {
        return Err(format!("is larger than {} MiB", LARGEST / (1024 * 1024)));
    }
    // Some programs mark texts with this; it says nothing about what is in them.
    let marked = bytes.starts_with(MARK.as_bytes());
    let bytes = if marked { bytes[MARK.len()..].to_vec() } else { bytes };
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        format!("is no text: byte {at} cannot be read as UTF-8")
    })
}
