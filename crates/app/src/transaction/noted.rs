//! The note of the boot, for what was confirmed.

use crate::store::{Docket, Home, Note};

/// Notes for the boot what was confirmed; says if that cannot be done.
pub(super) fn noted(home: &Home, docket: &Docket, id: u64) -> Option<String> {
    let entry = docket.written().entry(id)?;
    let error = Note::of(entry).write(home).err()?;
    let path = home.note.as_ref()?.display();
    Some(format!(
        "{path} cannot be written ({error}): if the docket is lost too, a boot will not know what \
         was confirmed"
    ))
}
