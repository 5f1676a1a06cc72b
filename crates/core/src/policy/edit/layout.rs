//! Where the sections of a file begin and end.

use super::super::Source;
use std::collections::BTreeSet;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

/// A file, taken apart.
pub(super) struct Layout<'s> {
    pub text: &'s str,
    pub root: DeTable<'s>,
    /// Where the lines with headings begin.
    headings: BTreeSet<usize>,
    /// How its lines end.
    pub line_end: &'static str,
}

impl<'s> Layout<'s> {
    /// Takes a file apart; `None` if it is not TOML.
    pub(super) fn of(source: &'s Source) -> Option<Self> {
        let text = source.text.as_ref();
        let root = DeTable::parse(text).ok()?.into_inner();
        let line_end = match text.find('\n') {
            Some(at) if text[..at].ends_with('\r') => "\r\n",
            _ => "\n",
        };
        let mut layout = Self { text, root, headings: BTreeSet::new(), line_end };
        let mut headings = BTreeSet::new();
        layout.headings_of(&layout.root, &mut headings);
        layout.headings = headings;
        Some(layout)
    }

    fn headings_of(&self, table: &DeTable<'_>, into: &mut BTreeSet<usize>) {
        for value in table.values() {
            self.heading_of(value, into);
        }
    }

    fn heading_of(&self, value: &Spanned<DeValue<'_>>, into: &mut BTreeSet<usize>) {
        match value.get_ref() {
            DeValue::Table(inner) => {
                if self.has_heading(value) {
                    into.insert(self.line_start(value.span().start));
                }
                self.headings_of(inner, into);
            }
            DeValue::Array(items) => {
                for item in items.iter().filter(|item| item.get_ref().is_table()) {
                    self.heading_of(item, into);
                }
            }
            _ => {}
        }
    }

    /// Whether a table stands under a heading, not in braces or behind dots.
    pub(crate) fn has_heading(&self, value: &Spanned<DeValue<'_>>) -> bool {
        let written = self.text.get(value.span()).unwrap_or_default();
        let before = &self.text[self.line_start(value.span().start)..value.span().start];
        written.starts_with('[') && before.trim().is_empty() && value.get_ref().is_table()
    }

    /// Whether a table is only there since headings of others name it, as `[host.sluice.posture.sealed]` does with
    /// `posture`.
    pub(super) fn is_in_heading(&self, value: &Spanned<DeValue<'_>>) -> bool {
        let line = &self.text[self.line_start(value.span().start)..];
        value.get_ref().is_table() && line.trim_start().starts_with('[')
    }

    pub(crate) fn line_start(&self, at: usize) -> usize {
        self.text[..at].rfind('\n').map_or(0, |before| before + 1)
    }

    /// The end of the line, its line end included.
    pub(super) fn line_end(&self, at: usize) -> usize {
        self.text[at..].find('\n').map_or(self.text.len(), |length| at + length + 1)
    }

    /// The lines of a table that has a heading: from the comments right above it to the end of
    /// its last line, its own sections included.
    pub(super) fn section(&self, value: &Spanned<DeValue<'_>>) -> Option<Range<usize>> {
        let table = value.get_ref().as_table().filter(|_| self.has_heading(value))?;
        let heading = self.line_start(value.span().start);
        let mut start = heading;
        while start > 0 {
            let above = self.line_start(start - 1);
            if !self.text[above..start].trim_start().starts_with('#') {
                break;
            }
            start = above;
        }
        let last = self.last_of(table, true).max(value.span().end);
        Some(start..self.with_comments(self.line_end(last)))
    }

    /// Comments right below belong to what is above them, unless a heading follows at once.
    fn with_comments(&self, from: usize) -> usize {
        let mut end = from;
        while self.text[end..].trim_start_matches([' ', '\t']).starts_with('#') {
            end = self.line_end(end);
        }
        if self.headings.contains(&end) { from } else { end }
    }

    /// The end of the last value in a table; with `deep`, also in its sections.
    fn last_of(&self, table: &DeTable<'_>, deep: bool) -> usize {
        let mut last = 0;
        for value in table.values() {
            let headed = |it: &Spanned<DeValue<'_>>| self.has_heading(it) || self.is_in_heading(it);
            let inner = match value.get_ref() {
                DeValue::Table(inner) if headed(value) => {
                    if deep {
                        value.span().end.max(self.last_of(inner, true))
                    } else {
                        0
                    }
                }
                DeValue::Table(inner) => value.span().end.max(self.last_of(inner, deep)),
                DeValue::Array(items) if items.first().is_some_and(headed) => {
                    let ends = items.iter().filter(|_| deep).map(|item| {
                        let inner = item.get_ref().as_table();
                        item.span().end.max(inner.map_or(0, |it| self.last_of(it, true)))
                    });
                    ends.max().unwrap_or(0)
                }
                _ => value.span().end,
            };
            last = last.max(inner);
        }
        last
    }

    /// Where a line can be added to a table itself, before its sections.
    pub(crate) fn end_of_own_keys(&self, value: &Spanned<DeValue<'_>>) -> usize {
        let table = value.get_ref().as_table();
        let last = table.map_or(0, |table| self.last_of(table, false));
        self.line_end(last.max(value.span().end))
    }

    /// The empty lines that follow.
    pub(crate) fn blank_after(&self, from: usize) -> usize {
        let mut end = from;
        while end < self.text.len() {
            let next = self.line_end(end);
            if !self.text[end..next].trim().is_empty() {
                break;
            }
            end = next;
        }
        end
    }

    /// Lines as this file ends them.
    pub(super) fn lines(&self, lines: &[String]) -> String {
        lines.iter().flat_map(|line| [line.as_str(), self.line_end]).collect()
    }

    /// What has to come before something that is added at this place, so that it begins a line.
    pub(crate) fn break_before(&self, at: usize) -> &'static str {
        if at > 0 && !self.text[..at].ends_with('\n') { self.line_end } else { "" }
    }

    /// A key of a table and its value.
    pub(super) fn entry<'l>(
        &self,
        table: &'l DeTable<'s>,
        key: &str,
    ) -> Option<(&'l Spanned<DeString<'s>>, &'l Spanned<DeValue<'s>>)> {
        table.iter().find(|(name, _)| name.get_ref() == key)
    }

    /// The line or lines of a key, and the comment behind its value if there is one.
    pub(crate) fn lines_of_key(
        &self,
        key: &Spanned<DeString<'_>>,
        value: &Spanned<DeValue<'_>>,
    ) -> (Range<usize>, Option<&str>) {
        let end = self.line_end(value.span().end);
        let rest = self.text[value.span().end..end].trim();
        (self.line_start(key.span().start)..end, rest.starts_with('#').then_some(rest))
    }
}
