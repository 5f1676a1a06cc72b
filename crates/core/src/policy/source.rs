//! Source texts, and places in them.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A policy file's name and text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The name to show, usually a path.
    pub name: Arc<str>,
    /// The whole text, as it was read.
    pub text: Arc<str>,
    /// The place whose addresses it has, where it is no file of the policy but a snapshot.
    pub place: Option<Arc<str>>,
    /// The byte at which each line starts.
    lines: Arc<[usize]>,
}

impl Source {
    /// A source with a name and a text.
    #[must_use]
    pub fn new(name: &str, text: &str) -> Self {
        let breaks = text.bytes().enumerate().filter(|&(_, byte)| byte == b'\n');
        let lines = std::iter::once(0).chain(breaks.map(|(at, _)| at + 1)).collect();
        Self { name: name.into(), text: text.into(), place: None, lines }
    }

    /// What a place held when its files were read last, with a name and a text; see [`super::Snapshot`].
    #[must_use]
    pub fn of_place(place: &str, name: &str, text: &str) -> Self {
        Self { place: Some(place.into()), ..Self::new(name, text) }
    }

    /// The place that `span`, in bytes, has in this source.
    #[must_use]
    pub fn origin(&self, span: Range<usize>) -> Origin {
        let line = self.lines.partition_point(|&start| start <= span.start);
        Origin { file: self.name.clone(), line, span }
    }
}

/// A place in a source: where an item was written.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Origin {
    /// The name of the source that it is in.
    pub file: Arc<str>,
    /// The line on which the item begins, from 1.
    pub line: usize,
    /// The bytes of the source's text that make up the item.
    pub span: Range<usize>,
}

impl fmt::Display for Origin {
    /// As people read it: `policy.toml:12`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}:{}", self.file, self.line)
    }
}
