//! Changes of tables within sections: defaults, the baseline, interfaces, findings that are accepted.

use super::super::Source;
use super::layout::Layout;
use super::list::{List, file_of, section_of};
use super::splice::Splices;
use super::{EditError, Edited, Value, quoted};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A section: its kind, such as `host`, and its name.
pub type Owner<'n> = (&'static str, &'n str);

/// Where a table stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target<'n> {
    /// In a section.
    Section(Owner<'n>),
    /// In a rule of a host, bundle or label.
    Rule(Owner<'n>, &'n str),
    /// In an expectation of a host or label, counted from 1.
    Expectation(Owner<'n>, usize),
}

/// A key of a table and its new value; `None` takes it away.
pub type Entry = (String, Option<Value>);

/// Sets entries of the table that a `key` of `target` is. A table that is not there yet gets a heading of its
/// own if it is to be `headed`, and stands in braces otherwise; one that nothing is left of goes.
///
/// # Errors
/// [`EditError`] if there is no such target, or what is to go is not there.
pub fn set_entries(
    sources: &[Source],
    target: Target<'_>,
    key: &'static str,
    entries: &[Entry],
    headed: bool,
) -> Result<Edited, EditError> {
    let owner = match target {
        Target::Section(owner) | Target::Rule(owner, _) | Target::Expectation(owner, _) => owner,
    };
    let (source, layout) = file_of(sources, owner)?;
    let file = &sources[source].name;
    let (rules, expectations);
    let item = match target {
        Target::Section(owner) => own_section(&layout, owner, file)?,
        Target::Rule(owner, name) => {
            rules = List::of(&layout, owner, "rule", file)?;
            rules.get(name)?
        }
        Target::Expectation(owner, number) => {
            expectations = List::of(&layout, owner, "expect", file)?;
            expectations.get(&number.to_string())?
        }
    };
    let mut splices = Splices::default();
    let table = item.get_ref().as_table().and_then(|it| layout.entry(it, key));
    let Some((name, table)) = table else {
        let written: Vec<(&String, &Value)> =
            entries.iter().filter_map(|(key, value)| Some((key, value.as_ref()?))).collect();
        if let Some((gone, _)) = entries.iter().find(|it| it.1.is_none()) {
            return Err(EditError::unknown(key, gone, []));
        }
        let at = layout.end_of_own_keys(item);
        let lines = if headed {
            let mut lines = vec![String::new(), format!("[{}.{}.{key}]", owner.0, owner.1)];
            lines.extend(written.iter().map(|(key, value)| format!("{} = {value}", bare(key))));
            lines
        } else {
            let list: Vec<String> =
                written.iter().map(|(key, value)| format!("{} = {value}", bare(key))).collect();
            vec![format!("{key} = {{ {} }}", list.join(", "))]
        };
        splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&lines)));
        return Ok(Edited { source, text: splices.apply(layout.text) });
    };
    let form = || EditError::Form { key: key.into(), file: file.to_string() };
    let inside = table.get_ref().as_table().ok_or_else(form)?;
    for (gone, _) in entries.iter().filter(|it| it.1.is_none()) {
        if layout.entry(inside, gone).is_none() {
            let known = inside.keys().map(|it| it.get_ref().as_ref());
            return Err(EditError::unknown(key, gone, known));
        }
    }
    let left = inside
        .keys()
        .filter(|it| !entries.iter().any(|(gone, value)| value.is_none() && gone == it.get_ref()));
    if left.count() == 0 && entries.iter().all(|it| it.1.is_none()) {
        if layout.has_heading(table) {
            let lines = layout.section(table).ok_or_else(form)?;
            let end = layout.blank_after(lines.end);
            splices.replace(lines.start..end, "");
        } else {
            let (lines, comment) = layout.lines_of_key(name, table);
            let kept = comment.map(|comment| format!("{comment}{}", layout.line_end));
            splices.replace(lines, kept.unwrap_or_default());
        }
    } else if layout.has_heading(table) {
        in_lines(&layout, table, inside, entries, &mut splices);
    } else {
        in_braces(&layout, table, inside, entries, &mut splices).ok_or_else(form)?;
    }
    Ok(Edited { source, text: splices.apply(layout.text) })
}

/// The section of an owner, for what it says itself. One that is there only by the headings of others has no place for
/// that.
fn own_section<'l, 's>(
    layout: &'l Layout<'s>,
    owner: Owner<'_>,
    file: &str,
) -> Result<&'l Spanned<DeValue<'s>>, EditError> {
    let section = section_of(layout, owner);
    let section = section.ok_or_else(|| EditError::unknown(owner.0, owner.1, []))?;
    if layout.is_in_heading(section) && !layout.has_heading(section) {
        let key = format!("{}.{}", owner.0, owner.1);
        return Err(EditError::Form { key, file: file.to_string() });
    }
    Ok(section)
}

/// A key as TOML writes it.
fn bare(key: &str) -> String {
    let plain = |it: char| it.is_ascii_alphanumeric() || matches!(it, '-' | '_');
    if !key.is_empty() && key.chars().all(plain) { key.to_owned() } else { quoted(key) }
}

/// Sets entries of a table under a heading, a line each.
fn in_lines(
    layout: &Layout<'_>,
    table: &Spanned<DeValue<'_>>,
    inside: &DeTable<'_>,
    entries: &[Entry],
    splices: &mut Splices,
) {
    let mut added = Vec::new();
    for (key, value) in entries {
        match (layout.entry(inside, key), value) {
            (Some((_, old)), Some(value)) => splices.replace(old.span(), value.to_string()),
            (Some((name, old)), None) => {
                let (lines, comment) = layout.lines_of_key(name, old);
                let kept = comment.map(|comment| format!("{comment}{}", layout.line_end));
                splices.replace(lines, kept.unwrap_or_default());
            }
            (None, Some(value)) => added.push(format!("{} = {value}", bare(key))),
            (None, None) => {}
        }
    }
    if !added.is_empty() {
        let at = layout.end_of_own_keys(table);
        splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&added)));
    }
}

/// Sets entries of a table in braces, or one whose keys stand behind dots; `None` if what is to go is such
/// a one.
fn in_braces(
    layout: &Layout<'_>,
    table: &Spanned<DeValue<'_>>,
    inside: &DeTable<'_>,
    entries: &[Entry],
    splices: &mut Splices,
) -> Option<()> {
    let braces = layout.text.get(table.span())?.starts_with('{');
    // In the order of the text: a table gives its keys in the order of their letters.
    let mut there: Vec<_> = inside.iter().map(|(key, value)| (key.span(), value.span())).collect();
    there.sort_by_key(|it| it.0.start);
    let last = there.last().map(|it| it.1.end);
    for (key, value) in entries {
        match (layout.entry(inside, key), value) {
            (Some((_, old)), Some(value)) => splices.replace(old.span(), value.to_string()),
            (Some((name, old)), None) if braces => {
                let at = there.iter().position(|it| it.0 == name.span())?;
                let range = match (there.get(at + 1), at.checked_sub(1)) {
                    (Some(next), _) => name.span().start..next.0.start,
                    (None, Some(before)) => there[before].1.end..old.span().end,
                    (None, None) => name.span().start..old.span().end,
                };
                splices.replace(range, "");
            }
            (Some((name, old)), None) => {
                splices.replace(layout.lines_of_key(name, old).0, "");
            }
            (None, Some(value)) if braces => {
                let text = format!("{} = {value}", bare(key));
                match last {
                    Some(at) => splices.insert(at, format!(", {text}")),
                    None => splices.replace(table.span(), format!("{{ {text} }}")),
                }
            }
            (None, Some(value)) => {
                // Behind dots, such as `default.inbound`: one more line like those there.
                let (name, old) = there.last()?;
                let start = layout.line_start(name.start);
                let before = layout.text.get(start..name.start)?;
                let at = layout.line_end(old.end);
                let line = format!("{before}{} = {value}", bare(key));
                splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&[line])));
            }
            (None, None) => {}
        }
    }
    Some(())
}
