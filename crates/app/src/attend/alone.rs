//! Only one attends at a time; others can see whether somebody does.

use crate::Failure;
use crate::store::Home;
use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;
use std::fs::{File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::time::{Duration, Instant};

/// How long whoever only looks whether somebody attends may be in the way.
const ALONE: Duration = Duration::from_secs(2);
/// How often it is tried meanwhile.
const LOOK: Duration = Duration::from_millis(30);
const LOCK: &str = "attend.lock";

/// Whether somebody attends; `None` if that cannot be told.
pub(crate) fn is_attended(home: &Home) -> Option<bool> {
    let file = match File::open(home.folder.join(LOCK)) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Some(false),
        Err(_) => return None,
    };
    match flock(&file, FlockOperation::NonBlockingLockShared) {
        Ok(()) => Some(false),
        Err(Errno::WOULDBLOCK) => Some(true),
        Err(_) => None,
    }
}

/// Only one at a time: two would do everything twice.
pub(super) fn alone(home: &Home) -> Result<File, Failure> {
    let failed = |error: std::io::Error| Failure::System {
        message: format!("cannot attend, with the state in {}: {error}", home.folder.display()),
        help: vec!["run it as root, or name a folder of yours with --state PATH".into()],
    };
    home.make().map_err(failed)?;
    let mut options = OpenOptions::new();
    options.read(true).write(true).create(true).truncate(false).mode(0o600);
    let file = options.open(home.folder.join(LOCK)).map_err(failed)?;
    let begun = Instant::now();
    let lock = || flock(&file, FlockOperation::NonBlockingLockExclusive);
    let mut locked = lock();
    while locked == Err(Errno::WOULDBLOCK) && begun.elapsed() < ALONE {
        std::thread::sleep(LOOK);
        locked = lock();
    }
    match locked {
        Ok(()) => Ok(file),
        Err(Errno::WOULDBLOCK) => Err(Failure::stopped(
            "another process attends already",
            vec!["`systemctl status tipstaff-attend` shows it, if the unit runs it".into()],
        )),
        Err(error) => Err(failed(error.into())),
    }
}
