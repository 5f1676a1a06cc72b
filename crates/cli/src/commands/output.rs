//! What a command gives back.

use tipstaff_app::Outcome;

/// A command's text, and how it went.
pub struct Output {
    /// For standard output.
    pub text: String,
    /// How it ended.
    pub outcome: Outcome,
}

impl Output {
    /// All is well.
    pub fn fine(text: String) -> Self {
        Self { text, outcome: Outcome::Fine }
    }

    /// Nothing is to be said.
    pub fn silent() -> Self {
        Self::fine(String::new())
    }
}
