//! The machine's own list of users (passwd(5)).
//!
//! Nothing else is asked: what is enforced must not wait for a directory on the network, least of all while
//! the machine starts. Users of a directory go by their number.

use crate::LinuxError;
use std::collections::BTreeMap;
use std::fs;
use std::io::{self, ErrorKind};

const USERS: &str = "/etc/passwd";

/// The names of all users, by number; of several with one number the first. None without a list.
pub(crate) fn users() -> BTreeMap<u32, String> {
    let list = list().unwrap_or_default();
    let mut found = BTreeMap::new();
    for (name, number) in listed(&list) {
        found.entry(number).or_insert_with(|| String::from_utf8_lossy(name).into_owned());
    }
    found
}

/// The number of a user, by name or number; `None` if there is no such name.
///
/// # Errors
/// [`LinuxError::System`] if the list of users is there and cannot be read.
pub(crate) fn user_number(user: &str) -> Result<Option<u32>, LinuxError> {
    if let Ok(number) = user.parse() {
        return Ok(Some(number));
    }
    let list = list().map_err(|source| LinuxError::system(format!("read {USERS}"), source))?;
    Ok(number_in(&list, user))
}

fn number_in(list: &[u8], user: &str) -> Option<u32> {
    listed(list).find(|it| it.0 == user.as_bytes()).map(|it| it.1)
}

fn list() -> io::Result<Vec<u8>> {
    match fs::read(USERS) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(Vec::new()),
        read => read,
    }
}

/// The users of a list of lines `name:password:number:...`; a line without a number is none.
fn listed(list: &[u8]) -> impl Iterator<Item = (&[u8], u32)> {
    list.split(|it| *it == b'\n').filter_map(|line| {
        let mut fields = line.split(|it| *it == b':');
        let (name, number) = (fields.next()?, fields.nth(1)?);
        Some((name, std::str::from_utf8(number).ok()?.parse().ok()?))
    })
}

#[cfg(test)]
mod tests {
    use super::{listed, number_in, user_number};

    #[test]
    fn names_are_found_whole_and_numbers_are_themselves() {
        let list = b"root:x:0:0::/root:/bin/sh\ntoor:x:0:0::/:/\n\xff:x:3:3\nseed:x:7\n\
                     seedbase:x:990:990::/:/\nseedbase:x:991:990::/:/\nodd\nodd2:x:many:1\n";
        for (name, number) in [("root", 0), ("toor", 0), ("seedbase", 990), ("seed", 7)] {
            assert_eq!(number_in(list, name), Some(number), "{name}");
        }
        for missing in ["see", "odd", "odd2", "x", "SEEDBASE", ""] {
            assert_eq!(number_in(list, missing), None, "{missing}");
        }
        assert_eq!(listed(list).count(), 6, "one that is no text hides no other");
        assert_eq!(user_number("990").expect("a number"), Some(990));
        assert_eq!(user_number("no-such-user-here").expect("read"), None);
    }
}
