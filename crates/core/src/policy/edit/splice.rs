//! Replacing parts of a text.

use std::ops::Range;

/// Replacements, all by places of the original text.
#[derive(Clone, Debug, Default)]
pub(super) struct Splices {
    list: Vec<(Range<usize>, String)>,
}

impl Splices {
    /// Replaces a part of the text.
    pub(super) fn replace(&mut self, range: Range<usize>, text: impl Into<String>) {
        self.list.push((range, text.into()));
    }

    /// Puts something in between.
    pub(super) fn insert(&mut self, at: usize, text: impl Into<String>) {
        self.replace(at..at, text);
    }

    /// The text with all replacements made.
    pub(crate) fn apply(mut self, text: &str) -> String {
        // Where two meet, what is inserted comes before what is replaced.
        self.list.sort_by_key(|(range, _)| (range.start, range.end));
        let mut out = String::with_capacity(text.len() + 256);
        let mut at = 0;
        for (range, new) in self.list {
            debug_assert!(at <= range.start, "replacements do not overlap");
            out.push_str(text.get(at..range.start).unwrap_or_default());
            out.push_str(&new);
            at = range.end;
        }
        out.push_str(text.get(at..).unwrap_or_default());
        out
    }
}
