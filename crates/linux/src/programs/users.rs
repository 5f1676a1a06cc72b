//! As whom a process acts.

use std::fs;

/// The user as whom a process acts (`/proc/PID/status`, proc_pid_status(5)): the last of the four numbers
/// of `Uid`. `None` if it is gone.
pub(super) fn acts_as(pid: u32) -> Option<u32> {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let line = status.lines().find_map(|it| it.strip_prefix("Uid:"))?;
    line.split_whitespace().nth(3)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::acts_as;

    #[test]
    fn it_is_the_last_of_the_four() {
        assert_eq!(acts_as(std::process::id()), Some(rustix::process::geteuid().as_raw()));
    }
}
