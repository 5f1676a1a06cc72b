//! Single items into lists and out of them, in the form that the list has.

use super::layout::Layout;
use super::splice::Splices;
use super::{EditError, ItemProblem, Value, quoted};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A change of a list by one item.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ItemEdit {
    /// The key whose value the list is.
    pub key: &'static str,
    /// The item, as it is written.
    pub item: String,
    /// What it is for, if that is said; only ports say so.
    pub meaning: Option<String>,
    /// Whether the list is to hold it as well, or not any more.
    pub also: bool,
}

const VERDICTS: [&str; 3] = ["allow", "deny", "reject"];

/// The keys whose items can be left out by a `!` in front.
const WITH_EXCEPTIONS: [&str; 2] = ["from", "to"];
/// The keys that mean nothing where they are left out, not everything.
const NARROWS_NOTHING: [&str; 4] = ["labels", "names", "turned-away", "shell"];

/// A list as it is to become.
struct Wanted<'v> {
    key: &'static str,
    /// The items there are, and whether they stay.
    items: Vec<(String, Range<usize>, bool)>,
    added: Vec<String>,
    /// What those that come are for.
    meanings: Vec<(String, String)>,
    value: Option<&'v Spanned<DeValue<'v>>>,
}

/// Puts items into lists of a section and takes others out.
///
/// # Errors
/// [`EditError::Item`] if that makes no sense.
pub(super) fn change(
    layout: &Layout<'_>,
    section: &Spanned<DeValue<'_>>,
    edits: &[ItemEdit],
    splices: &mut Splices,
) -> Result<(), EditError> {
    let Some(table) = section.get_ref().as_table() else { return Ok(()) };
    let mut keys: Vec<&'static str> = edits.iter().map(|it| it.key).collect();
    keys.sort_unstable();
    keys.dedup();
    for key in keys {
        let mut wanted = Wanted::of(table, key);
        for edit in edits.iter().filter(|it| it.key == key) {
            let error = |problem| EditError::Item { key, item: edit.item.clone(), problem };
            match edit.also {
                true => {
                    wanted.also(table, &edit.item).map_err(error)?;
                    let meaning = edit.meaning.clone().map(|it| (edit.item.clone(), it));
                    wanted.meanings.extend(meaning);
                }
                false => wanted.less(&edit.item).map_err(error)?,
            }
        }
        wanted.write(layout, section, splices);
    }
    Ok(())
}

impl<'v> Wanted<'v> {
    fn of(table: &'v DeTable<'v>, key: &'static str) -> Self {
        let value = table.get(key);
        let items = match value.map(Spanned::get_ref) {
            Some(DeValue::Array(items)) => items
                .iter()
                .filter_map(|it| Some((it.get_ref().as_str()?.to_owned(), it.span(), true)))
                .collect(),
            Some(DeValue::Table(words)) => words
                .iter()
                .map(|(key, value)| {
                    let span = key.span().start..value.span().end;
                    (key.get_ref().to_string(), span, true)
                })
                .collect(),
            Some(DeValue::String(text)) => {
                vec![(text.to_string(), value.map_or(0..0, Spanned::span), true)]
            }
            _ => Vec::new(),
        };
        Self { key, items, added: Vec::new(), meanings: Vec::new(), value }
    }

    fn holds(&self, item: &str) -> bool {
        self.added.iter().any(|it| it == item) || self.items.iter().any(|it| it.2 && it.0 == item)
    }

    fn left(&self) -> impl Iterator<Item = &str> {
        let kept = self.items.iter().filter(|it| it.2).map(|it| it.0.as_str());
        kept.chain(self.added.iter().map(String::as_str))
    }

    fn remove(&mut self, item: &str) {
        self.added.retain(|it| it != item);
        self.items.iter_mut().filter(|it| it.0 == item).for_each(|it| it.2 = false);
    }

    fn also(&mut self, table: &DeTable<'_>, item: &str) -> Result<(), ItemProblem> {
        let exception = format!("!{item}");
        if self.holds(item) {
            return Err(ItemProblem::There);
        }
        if self.value.is_none() && NARROWS_NOTHING.contains(&self.key) {
            self.added.push(item.to_owned());
            return Ok(());
        }
        if self.value.is_none() && self.added.is_empty() {
            let other = VERDICTS.into_iter().find(|it| table.contains_key(*it));
            let is_verdict = VERDICTS.contains(&self.key);
            return Err(match other.filter(|_| is_verdict) {
                Some(other) => ItemProblem::OtherVerdict(other),
                None => ItemProblem::AllAlready,
            });
        }
        if WITH_EXCEPTIONS.contains(&self.key) && self.holds(&exception) {
            // Without its last exception, the list means everybody: the key goes.
            self.remove(&exception);
            return Ok(());
        }
        if self.left().all(|it| it.starts_with('!')) && WITH_EXCEPTIONS.contains(&self.key) {
            return Err(ItemProblem::AllAlready);
        }
        self.added.push(item.to_owned());
        Ok(())
    }

    fn less(&mut self, item: &str) -> Result<(), ItemProblem> {
        if self.holds(item) {
            let last = self.left().filter(|it| !it.starts_with('!')).count() == 1;
            if last && !NARROWS_NOTHING.contains(&self.key) {
                return Err(ItemProblem::Last);
            }
            self.remove(item);
            return Ok(());
        }
        if !WITH_EXCEPTIONS.contains(&self.key) || item.starts_with('!') {
            let there = self.left().map(str::to_owned).collect();
            return Err(ItemProblem::NotThere(there));
        }
        let exception = format!("!{item}");
        if self.holds(&exception) {
            return Err(ItemProblem::There);
        }
        self.added.push(exception);
        Ok(())
    }

    fn write(self, layout: &Layout<'_>, section: &Spanned<DeValue<'_>>, splices: &mut Splices) {
        let list = |items: &[String]| {
            let items: Vec<String> = items.iter().map(|it| quoted(it)).collect();
            format!("[{}]", items.join(", "))
        };
        let Some(value) = self.value else {
            let at = layout.end_of_own_keys(section);
            let line = format!("{} = {}", self.key, list(&self.added));
            splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&[line])));
            return;
        };
        let left: Vec<String> = self.left().map(str::to_owned).collect();
        let in_words = value.get_ref().is_table();
        if !in_words && !self.meanings.is_empty() {
            // A list becomes a table: only that says what ports are for.
            let words = left.iter().map(|it| (it.clone(), self.meaning(it).to_owned())).collect();
            splices.replace(value.span(), Value::Words(words).to_string());
        } else if left.is_empty() {
            let table = section.get_ref().as_table();
            if let Some((key, value)) = table.and_then(|it| layout.entry(it, self.key)) {
                splices.replace(layout.lines_of_key(key, value).0, "");
            }
        } else if in_words && layout.has_heading(value) {
            self.write_section(layout, value, splices);
        } else if value.get_ref().is_str() || !self.items.iter().any(|it| it.2) {
            splices.replace(value.span(), list(&left));
        } else {
            let new = |item: &String| {
                if in_words { self.with_meaning(item) } else { quoted(item) }
            };
            let added: Vec<String> = self.added.iter().map(new).collect();
            splice(layout, &self.items, &added, splices);
        }
    }

    fn meaning(&self, item: &str) -> &str {
        self.meanings.iter().find(|it| it.0 == item).map_or("", |it| &it.1)
    }

    fn with_meaning(&self, item: &str) -> String {
        format!("{} = {}", quoted(item), quoted(self.meaning(item)))
    }

    /// In a section of its own, each has its line.
    fn write_section(
        &self,
        layout: &Layout<'_>,
        value: &Spanned<DeValue<'_>>,
        splices: &mut Splices,
    ) {
        let Some(table) = value.get_ref().as_table() else { return };
        for (name, _, _) in self.items.iter().filter(|it| !it.2) {
            if let Some((key, value)) = layout.entry(table, name) {
                splices.replace(layout.lines_of_key(key, value).0, "");
            }
        }
        if !self.added.is_empty() {
            let lines: Vec<String> = self.added.iter().map(|it| self.with_meaning(it)).collect();
            let at = layout.end_of_own_keys(value);
            splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&lines)));
        }
    }
}

/// Takes items out of brackets and puts others behind the last that stays. At least one stays.
fn splice(
    layout: &Layout<'_>,
    items: &[(String, Range<usize>, bool)],
    added: &[String],
    splices: &mut Splices,
) {
    let Some(last_kept) = items.iter().rposition(|it| it.2) else { return };
    let last = &items[last_kept].1;
    let end = items.last().map_or(last.end, |it| it.1.end);
    let tail = last.end..end;
    let one_piece = !layout.text[tail.clone()].contains(['\n', '#']);
    if one_piece {
        // The comma in front of those that go at the end goes with them.
        splices.replace(tail, "");
    }
    for (at, (_, span, stays)) in items.iter().enumerate() {
        if *stays || one_piece && at > last_kept {
            continue;
        }
        let behind = past_comma(layout.text, span.end);
        let line = layout.line_start(span.start)..layout.line_end(behind.saturating_sub(1));
        let rest = layout.text[behind..line.end].trim();
        let alone = layout.text[line.start..span.start].trim().is_empty()
            && (rest.is_empty() || rest.starts_with('#'));
        let next = items.get(at + 1).map(|it| it.1.start);
        let beside =
            next.filter(|it| layout.text[behind..*it].trim_matches([' ', '\t']).is_empty());
        match beside {
            _ if alone => splices.replace(line, ""),
            Some(next) => splices.replace(span.start..next, ""),
            None => splices.replace(span.start..behind, ""),
        }
    }
    if added.is_empty() {
        return;
    }
    let start = layout.line_start(last.start);
    let indent = &layout.text[start..last.start];
    if indent.trim().is_empty() && items.len() > 1 {
        // One on each line: so are those that come.
        let behind = past_comma(layout.text, last.end);
        if behind == last.end {
            splices.insert(last.end, ",");
        }
        let lines: Vec<String> = added.iter().map(|it| format!("{indent}{it},")).collect();
        splices.insert(layout.line_end(behind.saturating_sub(1)), layout.lines(&lines));
    } else {
        splices.insert(last.end, format!(", {}", added.join(", ")));
    }
}

/// The place behind the comma that follows, if one does before the next item or the end.
fn past_comma(text: &str, end: usize) -> usize {
    let mut at = end;
    loop {
        let rest = &text[at..];
        let blank = rest.len() - rest.trim_start().len();
        let next = &rest[blank..];
        if next.starts_with(',') {
            return at + blank + 1;
        }
        if !next.starts_with('#') {
            return end;
        }
        at += blank + next.find('\n').unwrap_or(next.len());
    }
}
