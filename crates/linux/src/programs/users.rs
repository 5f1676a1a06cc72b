//! Which number a user's name stands for.
//!
//! Names are looked up in `/etc/passwd` (passwd(5)) alone: what is enforced must not wait for a
//! directory on the network, least of all while the machine starts. Users of a directory go by their
//! number.

use crate::LinuxError;
use std::fs;
use std::io::ErrorKind;
use std::path::Path;

const USERS: &str = "/etc/passwd";

/// The number of a user, by name or number; `None` if there is no such name.
///
/// # Errors
/// [`LinuxError::System`] if the list of users is there and cannot be read.
pub(crate) fn user_number(user: &str) -> Result<Option<u32>, LinuxError> {
    if let Ok(number) = user.parse() {
        return Ok(Some(number));
    }
    match fs::read(Path::new(USERS)) {
        Ok(list) => Ok(listed(&list, user)),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        Err(source) => Err(LinuxError::system(format!("read {USERS}"), source)),
    }
}

/// The number of a user in a list of lines `name:password:number:…`; of two lines the first counts.
fn listed(list: &[u8], name: &str) -> Option<u32> {
    let mut lines = list.split(|it| *it == b'\n').map(|line| line.split(|it| *it == b':'));
    let mut fields = lines.find(|line| line.clone().next() == Some(name.as_bytes()))?.skip(2);
    std::str::from_utf8(fields.next()?).ok()?.parse().ok()
}

/// The user as whom a process acts (`/proc/PID/status`, proc_pid_status(5)): the last of the four numbers
/// of `Uid`. `None` if it is gone.
pub(super) fn acts_as(pid: u32) -> Option<u32> {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let line = status.lines().find_map(|it| it.strip_prefix("Uid:"))?;
    line.split_whitespace().nth(3)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::{acts_as, listed, user_number};

    #[test]
    fn names_are_found_whole_and_numbers_are_themselves() {
        let list = b"root:x:0:0::/root:/bin/sh\n\xff:x:3:3\nseed:x:7\nseedbase:x:990:990::/:/\n\
                     seedbase:x:991:990::/:/\nodd\nodd2:x:many:1\n";
        assert_eq!(listed(list, "seedbase"), Some(990));
        assert_eq!(listed(list, "seed"), Some(7));
        for missing in ["see", "odd", "odd2", "x", "SEEDBASE"] {
            assert_eq!(listed(list, missing), None, "{missing}");
        }
        assert_eq!(user_number("990").expect("a number"), Some(990));
        assert_eq!(user_number("no-such-user-here").expect("read"), None);
        assert_eq!(acts_as(std::process::id()), Some(rustix::process::geteuid().as_raw()));
    }
}
