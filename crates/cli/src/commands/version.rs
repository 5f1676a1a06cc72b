//! Which version this is.

use std::ffi::OsString;

const NUMBER: &str = env!("CARGO_PKG_VERSION");

/// What `--version` says.
pub(super) const VERSION: &str = concat!(
    env!("CARGO_PKG_VERSION"),
    "\ncommit ",
    env!("TIPSTAFF_COMMIT"),
    "\ntarget ",
    env!("TIPSTAFF_TARGET")
);

/// What is said to words that ask for nothing but the version: for that, no command needs to be known.
pub fn only_version(mut words: impl Iterator<Item = OsString>) -> Option<String> {
    let word = words.next()?;
    let text = match word.to_str()? {
        "--version" => VERSION,
        "-V" => NUMBER,
        _ => return None,
    };
    words.next().is_none().then(|| format!("tipstaff {text}\n"))
}
