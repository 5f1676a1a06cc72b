//! Places whose addresses come from files.

use super::{Diagnostic, Snapshot};
use std::fmt::Write as _;

/// What a far file's name begins with. Whoever can change what comes over the network can change what is let
/// in, so nothing but a server that proves who it is will do (RFC 2818).
const FAR: &str = "https://";

/// Whether a file is asked for over the network.
#[must_use]
pub fn is_far(file: &str) -> bool {
    file.starts_with(FAR)
}

/// Whether that could be the code of a country: two capital letters (ISO 3166-1 alpha-2).
#[must_use]
pub fn is_country(text: &str) -> bool {
    text.len() == 2 && text.bytes().all(|it| it.is_ascii_uppercase())
}

/// The files from which addresses of a place come, and what they said last.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Data {
    /// Paths, seen from the policy, and addresses of far files.
    pub files: Vec<String>,
    /// The column of those files in which the addresses are, if they are tables.
    pub column: Option<String>,
    /// The countries whose addresses it has, as codes.
    pub countries: Vec<String>,
    /// The files in which registries say whose addresses are whose.
    pub delegations: Vec<String>,
    /// What was read from all of them last, without the addresses; `None` if nothing was.
    pub snapshot: Option<Snapshot>,
    /// What is wrong with what is kept of it, if something is.
    pub damaged: Option<Box<Diagnostic>>,
}

impl Data {
    /// What it comes from, in one line: a snapshot of something else does not count.
    #[must_use]
    pub fn definition(&self) -> String {
        let mut out = String::new();
        let mut list = |word: &str, items: &[String]| {
            for item in items {
                let gap = if out.is_empty() { "" } else { " " };
                // Writing to a string cannot fail.
                let _ = write!(out, "{gap}{word} {item:?}");
            }
        };
        list("file", &self.files);
        list("column", self.column.as_slice());
        list("country", &self.countries);
        if !self.countries.is_empty() {
            list("of", &self.delegations);
        }
        out
    }
}
