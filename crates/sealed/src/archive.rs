//! Archives in which the same files always are the same bytes.
//!
//! # References
//! POSIX.1-2001, pax: the ustar interchange format.

use crate::Refusal;
use std::collections::BTreeMap;
use std::io::Read;
use tar::{Archive, Builder, EntryType, Header};

/// Names and what is in them, in the order of the names.
pub type Files = BTreeMap<String, Vec<u8>>;

/// The longest name: one field of a header holds it, without the closing zero.
const LONGEST: usize = 99;

/// Writes files: in the order of their names, of nobody's, of no time.
///
/// # Errors
/// A name that an archive cannot have.
pub fn pack(files: &Files) -> Result<Vec<u8>, String> {
    let mut archive = Builder::new(Vec::new());
    for (name, bytes) in files {
        if !is_name(name) {
            return Err(name.clone());
        }
        let mut header = Header::new_ustar();
        header.set_entry_type(EntryType::Regular);
        header.set_mode(0o644);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(0);
        header.set_size(bytes.len() as u64);
        let set = header.set_path(name);
        set.map_err(|_| name.clone())?;
        header.set_cksum();
        archive.append(&header, &bytes[..]).map_err(|_| name.clone())?;
    }
    archive.into_inner().map_err(|error| error.to_string())
}

/// Reads what [`pack`] wrote.
///
/// # Errors
/// [`Refusal::NotOne`] if `bytes` are anything else, down to the last byte.
pub fn unpack(bytes: &[u8]) -> Result<Files, Refusal> {
    let no = |why: &str| Refusal::NotOne(why.to_owned());
    let unreadable = |_| no("its archive cannot be read");
    let mut files = Files::new();
    for entry in Archive::new(bytes).entries().map_err(unreadable)? {
        let mut entry = entry.map_err(unreadable)?;
        let name = String::from_utf8(entry.path_bytes().into_owned());
        let name = name.ok().filter(|it| is_name(it));
        let name = name.ok_or_else(|| no("a file in it has a name that none of ours has"))?;
        let mut content = Vec::new();
        entry.read_to_end(&mut content).map_err(|_| no("its archive ends too early"))?;
        if files.insert(name, content).is_some() {
            return Err(no("a file is in it twice"));
        }
    }
    // Whatever else an archive can say was not written by us.
    if pack(&files).is_ok_and(|it| it == bytes) {
        Ok(files)
    } else {
        Err(no("its archive has not the form in which ours are written"))
    }
}

/// Whether a file in an archive can be called so: a path below it, that leads nowhere else.
pub fn is_name(name: &str) -> bool {
    let part = |it: &str| {
        !matches!(it, "" | "." | "..") && !it.bytes().any(|byte| byte < b' ' || byte == 0x7f)
    };
    name.len() <= LONGEST && name.split('/').all(part)
}
