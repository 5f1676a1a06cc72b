//! What sees a posture out: a process of its own, which is ready before the posture is taken and leaves it when its
//! time is over or its command is gone. The kernel ends one with a time by itself; this does the rest: it ends what
//! only the posture admitted, writes that down, and also does so where the clock was set.

use super::clock::since_boot;
use super::over::settle_posture;
use super::watch::{Ready, begin};
use crate::Failure;
use crate::store::{Docket, Home, InPosture, Watcher};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::OwnedFd;
use rustix::process::{Pid, PidfdFlags, pidfd_open};
use serde::{Deserialize, Serialize};
use std::io::{Read, Write};
use std::time::Duration;
use tipstaff_core::policy::Taken;
use tipstaff_linux::{Machine, leave_control_groups};

/// The hidden command that it is.
const COMMAND: &str = "see-out";
/// How often it looks whether somebody has left the posture, or set the clock.
const LOOK: Duration = Duration::from_millis(500);
/// How long it waits for whoever holds the docket.
const PATIENCE: Duration = Duration::from_millis(500);
/// How long it waits before it tries again what the kernel refused.
const AGAIN: Duration = Duration::from_millis(200);

/// What it is told.
#[derive(Debug, Serialize, Deserialize)]
struct Order {
    posture: InPosture,
    /// Who is about to take it.
    taker: Option<Watcher>,
}

/// Starts one, and waits until it is ready.
pub(super) fn start(home: &Home, posture: &InPosture) -> Result<Ready, Failure> {
    let taker = Watcher::of(std::process::id());
    begin(home, &[COMMAND], &Order { posture: posture.clone(), taker })
}

/// Waits until a posture is over, and leaves it; ends when somebody else has. Which posture is read from `input`; on
/// `out` it is said when it waits.
///
/// # Errors
/// [`Failure`] if it is not told which.
pub fn see_out(
    machine: &dyn Machine,
    home: &Home,
    input: &mut dyn Read,
    out: &mut dyn Write,
) -> Result<(), Failure> {
    let mut text = String::new();
    let told = input.read_to_string(&mut text);
    let order: Option<Order> = told.ok().and_then(|_| serde_json::from_str(&text).ok());
    let Some((Order { posture, taker }, taken)) = order.and_then(|it| {
        let taken = it.posture.taken()?;
        Some((it, taken))
    }) else {
        return Err(Failure::usage(
            "nobody says which posture to see out",
            "`tipstaff posture take` starts this by itself",
        ));
    };
    let _ = rustix::process::setsid();
    leave_control_groups();
    let command = posture.ends_with.and_then(|it| process(it.pid)).filter(|_| {
        // It may have gone, and another have come, before its number was asked for.
        posture.ends_with.is_some_and(Watcher::lives)
    });
    if writeln!(out, "{}", super::watch::READY).and_then(|()| out.flush()).is_err() {
        return Ok(());
    }
    let mut taken_yet = false;
    loop {
        let over = posture.is_over(crate::now(), since_boot());
        // Whoever is gone has taken it before, or never will.
        let taker_gone = taker.is_some_and(|it| !it.lives());
        match machine.posture() {
            Ok(held) if held.as_ref().is_some_and(|it| it.1.is(&taken)) => taken_yet = true,
            // Somebody has left it, or taken another; or it was never taken.
            Ok(_) if taken_yet || over || taker_gone => return Ok(()),
            _ => {}
        }
        if over && taken_yet {
            let (mut docket, _) = Docket::open_anyway(home, PATIENCE);
            let settled = settle_posture(machine, home, &mut docket);
            drop(docket);
            if settled.is_err() {
                std::thread::sleep(AGAIN);
            } else if machine.posture().is_ok_and(|it| it.is_some_and(|it| it.1.is(&taken))) {
                // Nobody has written down that it was taken: it can be left by hand.
                return Ok(());
            }
            continue;
        }
        wait(command.as_ref(), left(&posture, &taken).min(LOOK));
    }
}

/// The process of a number, to be waited for.
fn process(pid: u32) -> Option<OwnedFd> {
    pidfd_open(Pid::from_raw(i32::try_from(pid).ok()?)?, PidfdFlags::empty()).ok()
}

/// How long it lasts yet, by the clock that cannot be set and by the other one.
fn left(posture: &InPosture, taken: &Taken) -> Duration {
    let by_boot = posture
        .deadline
        .map(|it| Duration::from_millis(it.saturating_sub(since_boot())))
        .unwrap_or(LOOK);
    let seconds = taken.until.map(|it| it.seconds().saturating_sub(crate::now().seconds()));
    let by_clock = seconds.and_then(|it| u64::try_from(it).ok()).map(Duration::from_secs);
    by_boot.min(by_clock.unwrap_or(LOOK)).max(Duration::from_millis(10))
}

/// Waits so long, or until the process has ended.
fn wait(process: Option<&OwnedFd>, time: Duration) {
    let Some(process) = process else {
        std::thread::sleep(time);
        return;
    };
    let time = Timespec {
        tv_sec: i64::try_from(time.as_secs()).unwrap_or(0),
        tv_nsec: time.subsec_nanos().into(),
    };
    let _ = poll(&mut [PollFd::new(process, PollFlags::IN)], Some(&time));
}
