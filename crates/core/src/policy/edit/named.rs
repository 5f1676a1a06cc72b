//! Changes of what has a name: places, services, bundles, labels and hosts.

use super::super::{Policy, Source, Used};
use super::items::{self, ItemEdit};
use super::layout::Layout;
use super::list::assign;
use super::splice::Splices;
use super::{Assignment, EditError, Edited};
use toml::de::DeTable;

/// A change of what has a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NamedEdit {
    /// A new one, with these keys.
    Add(Vec<Assignment>),
    /// Other values of some keys, and items that come into lists, or go.
    Change(Vec<Assignment>, Vec<ItemEdit>),
    /// Another name, if nothing uses it by the old one.
    Rename(String),
    /// It is taken out of the policy.
    Remove,
}

/// Changes the thing of that name. A new one goes into the `file` of that name, or else where others of its
/// kind are.
///
/// # Errors
/// [`EditError`] if there is no such thing, or one already, or no such file, or it is in use and would go.
pub fn edit_named(
    sources: &[Source],
    policy: &Policy,
    (what, name): (Used, &str),
    edit: &NamedEdit,
    file: Option<&str>,
) -> Result<Edited, EditError> {
    let word = what.as_str();
    let layouts: Vec<(usize, Layout<'_>)> = sources
        .iter()
        .enumerate()
        .filter_map(|(at, source)| Some((at, Layout::of(source)?)))
        .collect();
    let tables = |layout: &Layout<'_>| -> Vec<String> {
        let named = layout.root.get(word).and_then(|it| it.get_ref().as_table());
        named.iter().flat_map(|it| it.keys().map(|key| key.get_ref().to_string())).collect()
    };
    let known: Vec<String> = layouts.iter().flat_map(|it| tables(&it.1)).collect();
    let holder = layouts.iter().find(|it| tables(&it.1).iter().any(|known| known == name));
    if let NamedEdit::Add(keys) = edit {
        if holder.is_some() {
            return Err(EditError::Taken { what: word, name: name.into() });
        }
        let has_some = |it: &Layout<'_>| !tables(it).is_empty();
        let (source, layout) = file_for_new(sources, &layouts, has_some, file)?
            .ok_or_else(|| EditError::unknown(word, name, []))?;
        let mut lines = vec![format!("[{word}.{name}]")];
        let written = keys.iter().filter_map(|(key, value)| Some((key, value.as_ref()?)));
        lines.extend(written.map(|(key, value)| format!("{key} = {value}")));
        return Ok(Edited { source: *source, text: add(layout, word, &lines) });
    }
    let Some((source, layout)) = holder else {
        return Err(EditError::unknown(word, name, known.iter().map(String::as_str)));
    };
    let named = layout.root.get(word).and_then(|it| it.get_ref().as_table()?.get(name));
    let form = || EditError::Form {
        key: format!("{word}.{name}"),
        file: sources[*source].name.to_string(),
    };
    let value = named.ok_or_else(form)?;
    let lines = layout.section(value).ok_or_else(form)?;
    let mut splices = Splices::default();
    match edit {
        NamedEdit::Change(keys, items) => {
            assign(layout, value, keys, &mut splices);
            items::change(layout, value, items, &mut splices)?;
        }
        NamedEdit::Rename(new) if known.contains(new) => {
            return Err(EditError::Taken { what: word, name: new.clone() });
        }
        NamedEdit::Add(_) | NamedEdit::Remove | NamedEdit::Rename(_) => {
            let mut users: Vec<_> = policy
                .uses
                .iter()
                .filter(|it| it.what == what && it.name == name)
                .map(|it| it.origin.clone())
                .collect();
            users.sort_by_key(|origin| (origin.file.clone(), origin.span.start));
            users.dedup();
            // A label without a section is still a word.
            let needed = what != Used::Label || *edit != NamedEdit::Remove;
            if needed && !users.is_empty() {
                return Err(EditError::InUse { what: word, name: name.into(), users });
            }
            if let NamedEdit::Rename(new) = edit {
                let key = layout.root.get(word).and_then(|it| {
                    it.get_ref().as_table()?.keys().find(|key| key.get_ref() == name)
                });
                splices.replace(key.ok_or_else(form)?.span(), new.as_str());
            } else {
                let end = layout.blank_after(lines.end);
                splices.replace(lines.start..end, "");
            }
        }
    }
    Ok(Edited { source: *source, text: splices.apply(layout.text) })
}

/// The file that a new thing goes into: the one of that name, or the last that has some of its kind.
fn file_for_new<'f, 's>(
    sources: &[Source],
    layouts: &'f [(usize, Layout<'s>)],
    has_some: impl Fn(&Layout<'_>) -> bool,
    file: Option<&str>,
) -> Result<Option<&'f (usize, Layout<'s>)>, EditError> {
    let Some(file) = file else {
        let beside = layouts.iter().rev().find(|it| has_some(&it.1));
        return Ok(beside.or(layouts.first()));
    };
    let found = layouts.iter().find(|it| is_file(&sources[it.0].name, file));
    let known = sources.iter().map(|it| &*it.name);
    found.map(Some).ok_or_else(|| EditError::unknown("file", file, known))
}

/// Whether a file is meant by a path or by its last part.
fn is_file(name: &str, meant: &str) -> bool {
    name == meant || name.rsplit('/').next() == Some(meant)
}

/// Adds a section behind the last one of its kind, or else ahead of all sections.
fn add(layout: &Layout<'_>, word: &str, lines: &[String]) -> String {
    let block = layout.lines(lines);
    let mut splices = Splices::default();
    let end_of = |table: &DeTable<'_>| {
        table.values().filter_map(|it| layout.section(it)).map(|lines| lines.end).max()
    };
    let same = layout.root.get(word).and_then(|it| it.get_ref().as_table());
    if let Some(at) = same.and_then(end_of) {
        let first = layout.break_before(at);
        splices.insert(at, format!("{first}{}{block}", layout.line_end));
    } else {
        // Behind the keys of the file itself.
        let keys = layout.root.values().filter(|it| !it.get_ref().is_table());
        let at = keys.map(|it| layout.line_end(it.span().end)).max().unwrap_or(0);
        let first = layout.break_before(at);
        splices.insert(at, format!("{first}{}{block}", layout.line_end));
    }
    splices.apply(layout.text)
}
