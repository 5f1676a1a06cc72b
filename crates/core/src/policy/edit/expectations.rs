//! Changes of what is expected of a host or label.

use super::super::Source;
use super::list::{List, Place, file_of};
use super::splice::Splices;
use super::{Assignment, EditError, Edited};

/// A change of a list whose items have no names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ListEdit {
    /// A new one at the end, with these keys.
    Add(Vec<Assignment>),
    /// The one of that number goes, counted from 1.
    Remove(usize),
}

/// Changes what is expected of a host or label (`owner`, and its name).
///
/// # Errors
/// [`EditError`] if there is no such owner or number, or the list is written in braces.
pub fn edit_expectations(
    sources: &[Source],
    owner: (&'static str, &str),
    edit: &ListEdit,
) -> Result<Edited, EditError> {
    let (source, layout) = file_of(sources, owner)?;
    let list = List::of(&layout, owner, "expect", &sources[source].name)?;
    let mut splices = Splices::default();
    match edit {
        ListEdit::Add(keys) => {
            let mut lines = vec![format!("[[{}.expect]]", list.path)];
            let written = keys.iter().filter_map(|(key, value)| Some((key, value.as_ref()?)));
            lines.extend(written.map(|(key, value)| format!("{key} = {value}")));
            list.put(&Place::Last, &layout.lines(&lines), &mut splices)?;
        }
        ListEdit::Remove(number) => {
            let block = list.block(list.get(&number.to_string())?)?;
            splices.replace(list.with_gap(block), "");
        }
    }
    Ok(Edited { source, text: splices.apply(layout.text) })
}
