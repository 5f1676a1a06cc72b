//! Changes of a list of rules: a host's, a bundle's or a label's.

use super::super::{Policy, Source};
use super::items::{self, ItemEdit};
use super::layout::Layout;
use super::splice::Splices;
use super::{Assignment, EditError, Edited, Value};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// Where in a list something goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// Ahead of all the others.
    First,
    /// Behind all the others.
    Last,
    /// Right before the rule of that name.
    Before(String),
    /// Right after the one of this name.
    After(String),
}

/// A change of a list of rules.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleEdit {
    /// A new rule; its keys are written in the order given, after its name.
    Add {
        /// Where in the list it goes.
        place: Place,
        /// The keys that it is to have.
        keys: Vec<Assignment>,
    },
    /// Other values of some keys. An `allow`, `deny` or `reject` takes the place of the one there.
    Change {
        /// The keys that are set or removed.
        keys: Vec<Assignment>,
        /// Items that come into lists, or go.
        items: Vec<ItemEdit>,
    },
    /// Another place in the list.
    Move {
        /// Where in the list it goes.
        place: Place,
    },
    /// The bundle of that name is taken in there.
    Use {
        /// Where in the list it goes.
        place: Place,
    },
    /// It is taken out of the list.
    Remove,
}

const VERDICTS: [&str; 3] = ["allow", "deny", "reject"];

/// The list of a host (`("host", name)`), bundle or label.
pub(super) struct List<'l, 's> {
    layout: &'l Layout<'s>,
    /// `rule` or `expect`.
    key: &'static str,
    /// Whose list it is, such as `host.sluice` or `bundle.staff-access`.
    pub path: String,
    owner: &'l Spanned<DeValue<'s>>,
    items: Vec<(String, &'l Spanned<DeValue<'s>>)>,
}

/// Changes the rule `name` of a host or bundle (`owner`: `host` or `bundle`, and its name). A
/// section with `use` goes by the name of its bundle.
///
/// # Errors
/// [`EditError`] if there is no such rule, or one already, or the list is written in braces.
pub fn edit_rule(
    sources: &[Source],
    policy: &Policy,
    owner: (&'static str, &str),
    name: &str,
    edit: &RuleEdit,
) -> Result<Edited, EditError> {
    let (source, layout) = file_of(sources, owner)?;
    let list = List::of(&layout, owner, "rule", &sources[source].name)?;
    let mut splices = Splices::default();
    match edit {
        RuleEdit::Add { place, keys } => {
            if list.get(name).is_ok() {
                return Err(EditError::Taken { what: "rule", name: name.into() });
            }
            let mut lines = vec![format!("[[{}.rule]]", list.path)];
            lines.push(format!("name = {}", Value::Text(name.into())));
            let written = keys.iter().filter_map(|(key, value)| Some((key, value.as_ref()?)));
            lines.extend(written.map(|(key, value)| format!("{key} = {value}")));
            list.put(place, &layout.lines(&lines), &mut splices)?;
        }
        RuleEdit::Use { place } => {
            if list.get(name).is_ok() {
                return Err(EditError::Taken { what: "use of the bundle", name: name.into() });
            }
            let heading = format!("[[{}.rule]]", list.path);
            let lines = [heading, format!("use = {}", Value::Text(name.into()))];
            list.put(place, &layout.lines(&lines), &mut splices)?;
        }
        RuleEdit::Change { keys, items } => {
            let item = list.find(policy, name, owner)?;
            if let Some((_, Some(Value::Text(new)))) = keys.iter().find(|it| it.0 == "name")
                && new != name
                && list.get(new).is_ok()
            {
                return Err(EditError::Taken { what: "rule", name: new.clone() });
            }
            assign(&layout, item, keys, &mut splices);
            items::change(&layout, item, items, &mut splices)?;
        }
        RuleEdit::Move { place } => {
            let block = list.block(list.find(policy, name, owner)?)?;
            let beside = match place {
                Place::Before(other) | Place::After(other) => other == name,
                Place::First => list.items.first().is_some_and(|it| it.0 == name),
                Place::Last => list.items.last().is_some_and(|it| it.0 == name),
            };
            if !beside {
                let mut text = layout.text[block.clone()].to_owned();
                if !text.ends_with('\n') {
                    text.push_str(layout.line_end);
                }
                list.put(place, &text, &mut splices)?;
                splices.replace(list.with_gap(block), "");
            }
        }
        RuleEdit::Remove => {
            let block = list.block(list.find(policy, name, owner)?)?;
            splices.replace(list.with_gap(block), "");
        }
    }
    Ok(Edited { source, text: splices.apply(layout.text) })
}

/// The lines of a rule as they stand in the file, with the comments that go where it goes.
///
/// # Errors
/// [`EditError`] if there is no such rule, or the list is written in braces.
pub fn rule_lines(
    sources: &[Source],
    owner: (&'static str, &str),
    name: &str,
) -> Result<String, EditError> {
    let (source, layout) = file_of(sources, owner)?;
    let list = List::of(&layout, owner, "rule", &sources[source].name)?;
    let block = list.block(list.get(name)?)?;
    Ok(layout.text[block].to_owned())
}

/// Changes several rules of a host, bundle or label in the same way.
///
/// # Errors
/// As for [`edit_rule`]; then none is changed.
pub fn edit_rules(
    sources: &[Source],
    policy: &Policy,
    owner: (&'static str, &str),
    names: &[String],
    edit: &RuleEdit,
) -> Result<Edited, EditError> {
    let mut sources = sources.to_vec();
    let mut edited = None;
    for name in names {
        let one = edit_rule(&sources, policy, owner, name, edit)?;
        // They are in one list, and so in one file.
        sources[one.source] = Source::new(&sources[one.source].name, &one.text);
        edited = Some(one);
    }
    edited.ok_or_else(|| EditError::unknown("rule", "", []))
}

/// The section of an owner: `("host", "sluice")`, or a posture of it, `("host", "sluice.posture.sealed")`.
pub(super) fn section_of<'l, 's>(
    layout: &'l Layout<'s>,
    (what, name): (&'static str, &str),
) -> Option<&'l Spanned<DeValue<'s>>> {
    let mut parts = name.split('.');
    let first = layout.root.get(what)?.get_ref().as_table()?.get(parts.next()?)?;
    parts.try_fold(first, |section, part| section.get_ref().as_table()?.get(part))
}

/// The file in which the owner is defined.
pub(super) fn file_of<'s>(
    sources: &'s [Source],
    owner: (&'static str, &str),
) -> Result<(usize, Layout<'s>), EditError> {
    let (above, name) = owner.1.rsplit_once('.').unwrap_or(("", owner.1));
    let what = if above.is_empty() { owner.0 } else { "posture" };
    let mut known = Vec::new();
    for (at, source) in sources.iter().enumerate() {
        let Some(layout) = Layout::of(source) else { continue };
        if section_of(&layout, owner).is_some() {
            return Ok((at, layout));
        }
        let beside = match above {
            "" => layout.root.get(owner.0),
            above => section_of(&layout, (owner.0, above)),
        };
        let named = beside.and_then(|it| it.get_ref().as_table());
        known.extend(named.iter().flat_map(|it| it.keys().map(|key| key.get_ref().to_string())));
    }
    Err(EditError::unknown(what, name, known.iter().map(String::as_str)))
}

impl<'l, 's> List<'l, 's> {
    /// The list of that key (`rule` or `expect`) of an owner.
    pub(super) fn of(
        layout: &'l Layout<'s>,
        (what, name): (&'static str, &str),
        key: &'static str,
        file: &str,
    ) -> Result<Self, EditError> {
        let path = format!("{what}.{name}");
        let Some(owner) = section_of(layout, (what, name)) else {
            return Err(EditError::unknown(what, name, []));
        };
        let rules = owner.get_ref().as_table().and_then(|it| it.get(key));
        let rules = rules.and_then(|it| it.get_ref().as_array());
        let mut items = Vec::new();
        for (at, item) in rules.into_iter().flat_map(|it| it.iter()).enumerate() {
            if !layout.has_heading(item) {
                return Err(EditError::Form { key: format!("{path}.{key}"), file: file.into() });
            }
            let table = item.get_ref().as_table();
            let word = |key| table.and_then(|it: &DeTable<'_>| it.get(key)?.get_ref().as_str());
            let name = word("name").or(word("use")).map(str::to_owned);
            items.push((name.unwrap_or_else(|| (at + 1).to_string()), item));
        }
        Ok(Self { layout, key, path, owner, items })
    }

    pub(super) fn get(&self, name: &str) -> Result<&'l Spanned<DeValue<'s>>, EditError> {
        let found = self.items.iter().find(|it| it.0 == name);
        let known = self.items.iter().map(|it| it.0.as_str());
        found.map(|it| it.1).ok_or_else(|| EditError::unknown(self.what(), name, known))
    }

    fn what(&self) -> &'static str {
        if self.key == "rule" { "rule" } else { "expectation" }
    }

    /// Like [`List::get`]; a rule that a bundle brings in is told from one that does not exist.
    fn find(
        &self,
        policy: &Policy,
        name: &str,
        owner: (&'static str, &str),
    ) -> Result<&'l Spanned<DeValue<'s>>, EditError> {
        let found = self.get(name);
        let host = policy.host(owner.1).filter(|_| owner.0 == "host");
        let rule = host.and_then(|host| host.rules.iter().find(|rule| rule.name == name));
        let owner = rule.and_then(|rule| match (&rule.bundle, &rule.label) {
            (Some(bundle), _) => Some(("bundle", bundle.clone())),
            (None, Some(label)) => Some(("label", label.clone())),
            (None, None) => None,
        });
        match owner {
            Some((what, owner)) if found.is_err() => {
                Err(EditError::Elsewhere { name: name.into(), what, owner })
            }
            _ => found,
        }
    }

    pub(super) fn block(&self, item: &'l Spanned<DeValue<'s>>) -> Result<Range<usize>, EditError> {
        let form = || EditError::Form {
            key: format!("{}.{}", self.path, self.key),
            file: "the file".into(),
        };
        self.layout.section(item).ok_or_else(form)
    }

    /// A block with the empty lines that set it apart from what follows; at the end of a file,
    /// from what precedes.
    pub(super) fn with_gap(&self, block: Range<usize>) -> Range<usize> {
        let end = self.layout.blank_after(block.end);
        let mut start = block.start;
        if end == self.layout.text.len() {
            while start > 0 {
                let above = self.layout.line_start(start - 1);
                if !self.layout.text[above..start].trim().is_empty() {
                    break;
                }
                start = above;
            }
        }
        start..end
    }

    /// Puts a block of lines into the list.
    pub(super) fn put(
        &self,
        place: &Place,
        block: &str,
        splices: &mut Splices,
    ) -> Result<(), EditError> {
        let end = self.layout.line_end;
        let before = |item, splices: &mut Splices| {
            let at = self.block(item)?.start;
            splices.insert(at, format!("{block}{end}"));
            Ok(())
        };
        let after = |at: usize, splices: &mut Splices| {
            let first = self.layout.break_before(at);
            splices.insert(at, format!("{first}{end}{block}"));
            Ok(())
        };
        match (place, self.items.first(), self.items.last()) {
            (Place::Before(name), ..) => before(self.get(name)?, splices),
            (Place::After(name), ..) => after(self.block(self.get(name)?)?.end, splices),
            (Place::First, Some(first), _) => before(first.1, splices),
            (Place::Last, _, Some(last)) => after(self.block(last.1)?.end, splices),
            (Place::First | Place::Last, ..) => {
                // The first rule of its owner comes behind all that is there.
                let section = self.layout.section(self.owner);
                let at = section.map_or(self.layout.text.len(), |lines| lines.end);
                after(at, splices)
            }
        }
    }
}

/// Gives keys of a section other values.
pub(crate) fn assign(
    layout: &Layout<'_>,
    item: &Spanned<DeValue<'_>>,
    keys: &[Assignment],
    splices: &mut Splices,
) {
    let Some(table) = item.get_ref().as_table() else { return };
    let mut added = Vec::new();
    for (key, value) in keys {
        let same = |name: &str| {
            name == *key || VERDICTS.contains(key) && VERDICTS.contains(&name) && value.is_some()
        };
        let found = table.iter().find(|(name, _)| same(name.get_ref()));
        match (found, value) {
            (Some((name, old)), Some(value)) => {
                if name.get_ref() != key {
                    splices.replace(name.span(), *key);
                }
                splices.replace(old.span(), value.to_string());
            }
            (Some((name, old)), None) => {
                let (lines, comment) = layout.lines_of_key(name, old);
                // A comment behind the value stays, on a line of its own.
                let kept = comment.map(|comment| format!("{comment}{}", layout.line_end));
                splices.replace(lines, kept.unwrap_or_default());
            }
            (None, Some(value)) => added.push(format!("{key} = {value}")),
            (None, None) => {}
        }
    }
    if !added.is_empty() {
        let at = layout.end_of_own_keys(item);
        splices.insert(at, format!("{}{}", layout.break_before(at), layout.lines(&added)));
    }
}
