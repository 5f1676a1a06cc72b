//! Changes of places, services and hosts, and of what a host has in sections of its own.

use super::super::{Policy, Source, Used};
use super::items::{self, ItemEdit};
use super::layout::Layout;
use super::list::assign;
use super::splice::Splices;
use super::{Assignment, EditError, Edited};
use toml::de::DeTable;

/// A change of a place or service.
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

/// Changes the place or service `name`.
///
/// # Errors
/// [`EditError`] if there is no such thing, or one already, or it is in use and would go.
pub fn edit_named(
    sources: &[Source],
    policy: &Policy,
    what: Used,
    name: &str,
    edit: &NamedEdit,
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
        let mut lines = vec![format!("[{word}.{name}]")];
        let written = keys.iter().filter_map(|(key, value)| Some((key, value.as_ref()?)));
        lines.extend(written.map(|(key, value)| format!("{key} = {value}")));
        let beside = layouts.iter().rev().find(|it| !tables(&it.1).is_empty());
        let Some((source, layout)) = beside.or(layouts.first()) else {
            return Err(EditError::unknown(word, name, []));
        };
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
            if !users.is_empty() {
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

/// Sets keys of a section that a host has: `default`, what it does where no rule decides, or `baseline`.
///
/// # Errors
/// [`EditError`] if there is no such host, or its section cannot be changed piece by piece.
pub fn set_in_section(
    sources: &[Source],
    host: &str,
    name: &'static str,
    keys: &[Assignment],
) -> Result<Edited, EditError> {
    let mut known = Vec::new();
    for (source, file) in sources.iter().enumerate() {
        let Some(layout) = Layout::of(file) else { continue };
        let hosts = layout.root.get("host").and_then(|it| it.get_ref().as_table());
        known.extend(hosts.iter().flat_map(|it| it.keys().map(|key| key.get_ref().to_string())));
        let Some(owner) = hosts.and_then(|hosts| hosts.get(host)) else { continue };
        let section = owner.get_ref().as_table().and_then(|it| it.get(name));
        let mut splices = Splices::default();
        match section {
            Some(section) if layout.has_heading(section) => {
                assign(&layout, section, keys, &mut splices);
            }
            Some(inline) => set_inline(&layout, inline, keys, &mut splices),
            None => {
                let at = layout.end_of_own_keys(owner);
                let mut lines = vec![String::new(), format!("[host.{host}.{name}]")];
                let written = keys.iter().filter_map(|it| Some((it.0, it.1.as_ref()?)));
                lines.extend(written.map(|(key, value)| format!("{key} = {value}")));
                splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&lines)));
            }
        }
        return Ok(Edited { source, text: splices.apply(layout.text) });
    }
    Err(EditError::unknown("host", host, known.iter().map(String::as_str)))
}

/// Sets keys of a table in braces.
fn set_inline(
    layout: &Layout<'_>,
    inline: &toml::Spanned<toml::de::DeValue<'_>>,
    keys: &[Assignment],
    splices: &mut Splices,
) {
    let Some(table) = inline.get_ref().as_table() else { return };
    for (key, value) in keys {
        let Some(value) = value else { continue };
        match layout.entry(table, key) {
            Some((_, old)) => splices.replace(old.span(), value.to_string()),
            None => {
                let last = table.values().map(|it| it.span().end).max();
                match last {
                    Some(at) => splices.insert(at, format!(", {key} = {value}")),
                    None => splices.replace(inline.span(), format!("{{ {key} = {value} }}")),
                }
            }
        }
    }
}
