//! What watches over a change that waits: a process of its own, which is ready before anything is
//! changed, holds in its memory what to go back to, and ends only when somebody has decided or it has
//! gone back.

use super::super::Failure;
use super::back::Back;
use super::clock::{now, since_boot};
use crate::store::{Docket, Home, Pending, State, Watcher, Written, pending, set_pending};
use serde::{Deserialize, Serialize};
use std::fs;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, SystemTime};
use tipstaff_linux::ruleset::Snapshot;
use tipstaff_linux::{Machine, leave_control_groups};

/// The hidden command that it is.
const WATCH: &str = "stand-by";
/// This program, whatever has become of its file since it was started.
const OWN_PROGRAM: &str = "/proc/self/exe";
pub(super) const READY: &str = "ready";
/// How often it looks whether somebody has decided.
const LOOK: Duration = Duration::from_millis(50);
/// How long it waits for whoever holds the docket when the time is over.
const PATIENCE: Duration = Duration::from_millis(500);
/// How long it waits before it tries again what the kernel refused.
const AGAIN: Duration = Duration::from_millis(500);

/// What it is told.
#[derive(Debug, Serialize, Deserialize)]
struct Order {
    id: u64,
    deadline: u64,
    back: Back,
    /// Whether the change is still to be made.
    ahead: bool,
}

/// A watcher that is ready. Unless it is let go, it is called off when this is dropped: nothing has
/// been changed then.
#[derive(Debug)]
pub(super) struct Ready {
    child: Option<Child>,
    /// Which process it is.
    pub watcher: Watcher,
}

impl Ready {
    /// From here on it does its work, whatever becomes of this process.
    pub(crate) fn let_go(mut self) {
        self.child = None;
    }
}

impl Drop for Ready {
    fn drop(&mut self) {
        if let Some(child) = &mut self.child {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Starts one, and waits until it is ready. `ahead` says whether the change is still to be made: then
/// what the kernel holds meanwhile is a way back, too.
///
/// # Errors
/// [`Failure`] if it does not come to that; nothing was changed.
pub(super) fn start(
    home: &Home,
    id: u64,
    deadline: u64,
    back: &Back,
    ahead: bool,
) -> Result<Ready, Failure> {
    let order = Order { id, deadline, back: back.clone(), ahead };
    begin(home, &[WATCH, &id.to_string()], &order)
}

/// Starts a hidden command of this program that goes on by itself, hands it its order, and waits until it is ready.
///
/// # Errors
/// [`Failure`] if it does not come to that; nothing was changed.
pub(super) fn begin(home: &Home, words: &[&str], order: &impl Serialize) -> Result<Ready, Failure> {
    let failed = |error: io::Error| Failure::System {
        message: format!("cannot start what would go back: {error}"),
        help: vec!["nothing was changed; --keep needs no way back".into()],
    };
    let mut child = Command::new(OWN_PROGRAM)
        .arg0("tipstaff")
        .arg("--state")
        .arg(&home.state)
        .arg("--boot-note")
        .arg(&home.asked_note)
        .args(words)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .current_dir("/")
        // What ends the group of the command that started it leaves it alone.
        .process_group(0)
        .spawn()
        .map_err(failed)?;
    let handed = hand_over(&mut child, order);
    let watcher = Watcher::of(child.id());
    match (handed, watcher) {
        (Ok(()), Some(watcher)) => Ok(Ready { child: Some(child), watcher }),
        (handed, _) => {
            let _ = child.kill();
            let _ = child.wait();
            Err(failed(handed.err().unwrap_or_else(|| io::ErrorKind::BrokenPipe.into())))
        }
    }
}

fn hand_over(child: &mut Child, order: &impl Serialize) -> io::Result<()> {
    let broken = || io::Error::from(io::ErrorKind::BrokenPipe);
    let mut orders = child.stdin.take().ok_or_else(broken)?;
    serde_json::to_writer(&mut orders, order)?;
    orders.flush()?;
    drop(orders);
    let mut answer = String::new();
    BufReader::new(child.stdout.take().ok_or_else(broken)?).read_line(&mut answer)?;
    match answer.trim() {
        READY => Ok(()),
        "" => Err(io::Error::other("it ended before it was ready")),
        words => Err(io::Error::other(words.to_owned())),
    }
}

/// Waits until the change is decided, or goes back when its time is over. What to watch over is read from
/// `input`; on `out` it is said when it is.
///
/// # Errors
/// [`Failure`] if it is not told what to watch over.
pub fn stand_by(
    machine: &dyn Machine,
    home: &Home,
    id: u64,
    input: &mut dyn Read,
    out: &mut dyn Write,
) -> Result<(), Failure> {
    let mut text = String::new();
    let told = input.read_to_string(&mut text);
    let order: Option<Order> = told.ok().and_then(|_| serde_json::from_str(&text).ok());
    let Some(order) = order.filter(|it| it.id == id) else {
        return Err(Failure::usage(
            "nobody says what to watch over",
            "`tipstaff enforce` starts this by itself",
        ));
    };
    drop(text);
    // A session and a control group of its own: what ends those of whoever started it leaves it
    // alone.
    let _ = rustix::process::setsid();
    leave_control_groups();
    let before: Option<Snapshot> = if order.ahead { machine.rules().ok().flatten() } else { None };
    let said = writeln!(out, "{READY}").and_then(|()| out.flush());
    if said.is_err() {
        // Whoever started it is gone, and has changed nothing.
        return Ok(());
    }
    let mut eye = Eye::default();
    loop {
        if eye.decided(home, id) {
            return Ok(());
        }
        let left = order.deadline.saturating_sub(since_boot());
        if left > 0 {
            std::thread::sleep(LOOK.min(Duration::from_millis(left)));
            continue;
        }
        let (mut docket, _) = Docket::open_anyway(home, PATIENCE);
        // Whoever held the docket until now may have decided.
        if decided(docket.written(), id) {
            return Ok(());
        }
        if order.back.go(machine, before.as_ref()).is_ok() {
            // If it cannot be written down, the next command finds it done.
            if docket.became(id, State::Reverted, &now()).is_ok() {
                forget(home, id);
            }
            return Ok(());
        }
        // Whatever stood in the way may be gone in a moment.
        drop(docket);
        std::thread::sleep(AGAIN);
    }
}

/// Takes the note of a change away, but not that of a later one.
fn forget(home: &Home, id: u64) {
    if let Ok(Some(Pending { id: noted, .. })) = pending(home)
        && noted != id
    {
        return;
    }
    let _ = set_pending(home, None);
}

/// Whether the docket says that somebody has decided. What it does not say, or what cannot be read, is
/// no decision.
fn decided(written: &Written, id: u64) -> bool {
    written
        .entry(id)
        .is_some_and(|it| matches!(it.state, State::Confirmed | State::Reverted | State::Failed))
}

/// Looks into the docket when its file has changed.
#[derive(Default)]
struct Eye {
    seen: Option<(SystemTime, u64)>,
}

impl Eye {
    fn decided(&mut self, home: &Home, id: u64) -> bool {
        let file = fs::metadata(home.folder.join("docket.jsonl"));
        let now = file.ok().and_then(|it| Some((it.modified().ok()?, it.len())));
        if now == self.seen {
            return false;
        }
        self.seen = now;
        Docket::look(home).is_ok_and(|written| decided(&written, id))
    }
}
