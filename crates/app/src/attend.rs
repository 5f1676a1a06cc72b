//! `attend`: one process that follows what happens to the machine, and does at once what otherwise the next command does.

use crate::newcomers::{self, Newcomer, newcomer};
use crate::store::{Home, docket_stamp};
use crate::transaction::{self, Followed};
use crate::{Failure, load_here};
use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;
use serde::Serialize;
use std::fs::{File, OpenOptions};
use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::OpenOptionsExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::{Duration, Instant, SystemTime};
use tipstaff_linux::{Machine, Movements};

/// How often it is looked at what listens, since the kernel does not tell, and whether somebody has changed the docket.
const LOOK: Duration = Duration::from_secs(2);
/// How often it is looked where the machine is though nothing has happened.
const ANYWAY: Duration = Duration::from_secs(30);
/// What comes within this time counts as one.
const TOGETHER: Duration = Duration::from_millis(30);
/// No more often than so it is looked where the machine is.
const BETWEEN: Duration = Duration::from_millis(400);
/// How long whoever only looks whether somebody attends may be in the way.
const ALONE: Duration = Duration::from_secs(2);
/// A failure that stays is told again after so long.
const AGAIN: Duration = Duration::from_secs(300);
const LOCK: &str = "attend.lock";

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Happened {
    /// A posture was taken by itself.
    Posture(Followed),
    /// Something listens that did not before.
    Newcomer(Newcomer),
}

/// Who is told of what happens, and of what could not be done.
pub type Tell<'t> = dyn FnMut(Result<&Happened, &Failure>) -> Result<(), Failure> + 't;

/// Follows what happens until somebody ends it: takes postures that hold by themselves, leaves those that are over, and
/// has rules follow interfaces. `tell` is told of each change, and of what could not be done.
///
/// # Errors
/// [`Failure`] if another one does already, the system does not let it listen, or nothing more can be told.
pub fn attend(machine: &dyn Machine, home: &Home, tell: &mut Tell<'_>) -> Result<(), Failure> {
    let _alone = alone(home)?;
    let mut movements = Movements::open()?;
    let mut told: Option<(String, Instant)> = None;
    let (mut ready, mut due) = (false, Due::default());
    loop {
        if due.is_now(home) {
            match transaction::follow(machine, home) {
                Ok(Some(followed)) => {
                    told = None;
                    tell(Ok(&Happened::Posture(followed)))?;
                }
                Ok(None) => told = None,
                Err(failure) => {
                    let line = failure.line();
                    if told.as_ref().is_none_or(|it| it.0 != line || it.1.elapsed() >= AGAIN) {
                        tell(Err(&failure))?;
                        told = Some((line, Instant::now()));
                    }
                }
            }
            transaction::look_after(machine, home);
            due.done(home);
        }
        for newcomer in came(machine, home) {
            tell(Ok(&Happened::Newcomer(newcomer)))?;
        }
        notify(if ready { "WATCHDOG=1" } else { "READY=1" });
        ready = true;
        let until = Instant::now() + LOOK;
        while !due.moved {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            due.moved = movements.wait(left.max(Duration::from_millis(1)))?;
        }
        due.rest();
    }
}

/// When it has to be looked again where the machine is: that takes as long as working out the policy.
#[derive(Default)]
struct Due {
    /// Whether something has happened to links, addresses, routes or neighbours.
    moved: bool,
    /// When it was looked last, and what the docket's file was like then.
    last: Option<(Instant, Option<(SystemTime, u64)>)>,
}

impl Due {
    fn is_now(&self, home: &Home) -> bool {
        let Some((when, docket)) = &self.last else { return true };
        self.moved || when.elapsed() >= ANYWAY || *docket != docket_stamp(home)
    }

    fn done(&mut self, home: &Home) {
        *self = Self { moved: false, last: Some((Instant::now(), docket_stamp(home))) };
    }

    /// What comes together counts as one, and no more often than so; whoever makes a link busy does not make this busy.
    fn rest(&self) {
        if let Some((when, _)) = self.last.as_ref().filter(|_| self.moved) {
            std::thread::sleep(TOGETHER.max(BETWEEN.saturating_sub(when.elapsed())));
        }
    }
}

/// What listens that did not before. Who cannot look now may the next time.
fn came(machine: &dyn Machine, home: &Home) -> Vec<Newcomer> {
    let Ok(seen) = newcomers::look(machine, home) else { return Vec::new() };
    if seen.new.is_empty() {
        return Vec::new();
    }
    let policy =
        home.policy.as_ref().and_then(|it| load_here(machine, &it.0, it.1.as_deref()).ok());
    seen.new.iter().map(|it| newcomer(it, true, policy.as_ref())).collect()
}

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
fn alone(home: &Home) -> Result<File, Failure> {
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
        std::thread::sleep(TOGETHER);
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

/// Tells the service manager, if one wants to know (sd_notify(3)).
fn notify(what: &str) {
    let Some(name) = std::env::var_os("NOTIFY_SOCKET") else { return };
    let address = match name.as_bytes() {
        [b'@', rest @ ..] => SocketAddr::from_abstract_name(rest),
        _ => SocketAddr::from_pathname(&name),
    };
    // Whoever does not listen does not want to know.
    if let (Ok(address), Ok(socket)) = (address, UnixDatagram::unbound()) {
        let _ = socket.send_to_addr(what.as_bytes(), &address);
    }
}
