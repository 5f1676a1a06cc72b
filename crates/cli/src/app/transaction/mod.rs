//! Enforcing as a recorded transaction: what stops it, what it changes, a way back.

mod boot;
mod guard;

pub use boot::{Booted, boot};

use super::effect::ChangeWords;
use super::enforce::{self, Report as Enforced};
use super::session::Session;
use super::{Failure, Loaded, compare, likely_packet, loaded, programs};
use crate::store::{Docket, Entry, Kind, Pending, State};
use jiff::Timestamp;
use rustix::time::{ClockId, clock_gettime};
use serde::Serialize;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use tipstaff_core::analysis;
use tipstaff_core::policy::{Severity, Source};
use tipstaff_core::program;
use tipstaff_linux::programs as linux_programs;
use tipstaff_linux::ruleset::{self, Snapshot, Tally};
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol};

/// Who is told what will change.
pub type Tell<'t> = dyn Fn(&[ChangeWords]) + Sync + 't;

/// How a change is to be made.
#[derive(Clone, Copy)]
pub struct Options<'o> {
    /// Where the docket is.
    pub state: &'o Path,
    /// Whether it stays without being confirmed.
    pub keep: bool,
    /// How long it waits to be confirmed.
    pub within: Duration,
    /// Whether nothing is to be changed.
    pub dry: bool,
    /// Whether rules for programs are left out.
    pub without_programs: bool,
    /// Whether it is made even if the session could not be opened again.
    pub even_if_locked_out: bool,
    /// Told what will change, before anything does.
    pub tell: Option<&'o Tell<'o>>,
}

/// What a change did, or would do.
#[derive(Debug, Serialize)]
pub struct Report {
    /// What was done: `enforced`, `unchanged`, `would-enforce`, `released`, `nothing-to-release`.
    pub done: &'static str,
    /// The entry of the docket; `null` if nothing was done.
    pub entry: Option<u64>,
    /// In how many seconds it goes by itself, unless it is confirmed; `null` if it stays.
    pub confirm_within: Option<u64>,
    /// The rules that are in force now.
    #[serde(flatten)]
    pub enforced: Option<Enforced>,
    /// What it changes for packets, against what the kernel enforced before; empty if nothing was
    /// in force.
    pub changes: Vec<ChangeWords>,
    /// How many connections live on that began before and that the policy would not admit;
    /// `null` if that is not known.
    pub living_on: Option<usize>,
    /// Those that were ended.
    pub living: Option<super::cut::Report>,
    /// Whether what changes has been told beforehand.
    #[serde(skip)]
    pub told: bool,
}

/// A change that has to be confirmed is watched over by a process of its own.
pub const WATCH: &str = "stand-by";
/// How often that looks whether it has been confirmed.
const LOOK: Duration = Duration::from_millis(100);

fn now() -> String {
    Timestamp::from_second(Timestamp::now().as_second())
        .map_or_else(|_| String::new(), |it| it.to_string())
}

/// Milliseconds since boot, by a clock that cannot be set.
fn since_boot() -> u64 {
    let time = clock_gettime(ClockId::Boottime);
    let part = |value: i64| u64::try_from(value).unwrap_or_default();
    part(time.tv_sec) * 1_000 + part(time.tv_nsec) / 1_000_000
}

/// When a change goes that waits this long.
fn deadline(within: Duration) -> u64 {
    since_boot() + u64::try_from(within.as_millis()).unwrap_or(u64::MAX / 2)
}

/// Names this boot.
fn this_boot() -> String {
    let name = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    name.trim().to_owned()
}

fn stopped(message: impl Into<String>, help: Vec<String>) -> Failure {
    Failure::Stopped { message: message.into(), help }
}

/// Puts the policy into the kernel, and records it.
///
/// # Errors
/// [`Failure`] if something stops it or the kernel refuses; then nothing was changed.
pub fn enforce(policy: &Loaded, options: &Options<'_>) -> Result<Report, Failure> {
    carry_out(policy, options, Kind::Enforce, None)
}

fn carry_out(
    policy: &Loaded,
    options: &Options<'_>,
    kind: Kind,
    of: Option<u64>,
) -> Result<Report, Failure> {
    let mut reduced;
    let policy = if options.without_programs && !policy.without_programs {
        reduced = policy.clone();
        reduced.leave_out_programs();
        &reduced
    } else {
        policy
    };
    enforce::can_tell_programs(policy)?;
    no_errors(policy)?;
    if !options.even_if_locked_out {
        guard::guard(policy)?;
    }
    // Whoever else changes what is enforced waits until this is done.
    let mut docket = if options.dry { None } else { Some(opened(options.state)?) };
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let before = ruleset::read(&mut kernel)?;
    let changes = match &before {
        Some(snapshot) => compare::from_kernel(policy, snapshot.program.clone()),
        None => Vec::new(),
    };
    let mut report = enforce::report(policy, before.as_ref());
    let reset = report.changed.clone();
    let Some(docket) = docket.as_mut() else {
        let done = "would-enforce";
        return Ok(Report {
            done,
            entry: None,
            confirm_within: None,
            enforced: Some(report),
            changes,
            living_on: None,
            living: None,
            told: false,
        });
    };
    let host = &policy.plan.host;
    let digest = docket.keep(host, &policy.sources)?;
    let same = before
        .as_ref()
        .is_some_and(|it| is_in_force(policy, it) && programs::are_known(policy, &it.marks));
    let known = docket.confirmed().is_some_and(|it| it.policy.as_ref() == Some(&digest));
    if same && known {
        // Not touched: what has been counted stays.
        let enforced = Some(report);
        return Ok(Report {
            done: "unchanged",
            entry: None,
            confirm_within: None,
            enforced,
            changes,
            living_on: super::cut::count(policy).ok(),
            living: None,
            told: false,
        });
    }
    let told = options.tell.filter(|_| !changes.is_empty());
    if let Some(tell) = told {
        tell(&changes);
    }
    let back_to = docket.confirmed().map(|entry| entry.id);
    let effect = effect(&changes, before.is_some());
    let id = docket.add(entry(kind, Some(policy), Some(digest), of, effect))?;
    let keep = options.keep || same;
    if !keep {
        let deadline = deadline(options.within);
        docket.set_pending(Some(&Pending { id, deadline, boot: this_boot(), back_to }))?;
        // Before anything changes: whatever happens to this process then, somebody is there.
        watch_over(options.state, id)?;
    }
    let sent =
        if same { Ok(Vec::new()) } else { send(&mut kernel, policy, before.as_ref(), &reset) };
    match sent {
        Ok(not_recognised) => report.not_recognised = not_recognised,
        Err(error) => {
            docket.became(id, State::Failed, &now())?;
            docket.set_pending(None)?;
            return Err(Failure::in_kernel(error, &policy.sources, &policy.plan));
        }
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    Ok(Report {
        done: if same { "unchanged" } else { "enforced" },
        entry: Some(id),
        confirm_within: (!keep).then_some(options.within.as_secs()),
        enforced: Some(report),
        changes,
        // Only told: what cannot be looked at does not make the enforcement fail.
        living_on: super::cut::count(policy).ok(),
        living: None,
        told: told.is_some(),
    })
}

/// Puts the policy's rules into the kernel, provided that ours are still what they were when it
/// was worked out what changes. Others may change theirs at any time. Decisions go on counting from
/// where they are, but for those that `reset` names. Gives what is not recognised of sockets.
fn send(
    kernel: &mut NetlinkSocket,
    policy: &Loaded,
    before: Option<&Snapshot>,
    reset: &[String],
) -> Result<Vec<String>, LinuxError> {
    const TRIES: usize = 8;
    let marks = before.map(|it| it.marks.clone()).unwrap_or_default();
    let ((), not_recognised) = programs::recognised(policy, &marks, |marks| {
        for _ in 0..TRIES {
            let generation = ruleset::generation(kernel)?;
            let now = ruleset::read(kernel)?;
            if now.as_ref().map(|it| (&it.program, it.dormant))
                != before.map(|it| (&it.program, it.dormant))
            {
                return Err(LinuxError::Changed);
            }
            // What has been counted up to now, of decisions that take what they took.
            let carried: Vec<Tally> = now
                .filter(|it| it.host == policy.plan.host)
                .map(|it| it.tallies)
                .unwrap_or_default()
                .into_iter()
                .filter(|tally| !reset.contains(&tally.id.to_string()))
                .collect();
            let (host, program) = (&policy.plan.host, &policy.program);
            match ruleset::enforce_at(kernel, host, program, marks, generation, &carried) {
                Err(LinuxError::Changed) => {}
                done => return done.map(drop),
            }
        }
        Err(LinuxError::Changed)
    })?;
    Ok(not_recognised)
}

/// Whether the kernel holds just what the policy asks for.
fn is_in_force(policy: &Loaded, before: &Snapshot) -> bool {
    !before.dormant
        && before.host == policy.plan.host
        && program::compare(&policy.program, &before.program).is_empty()
}

/// Opens the docket, settles what an earlier command left open, and refuses while a change waits to
/// be confirmed.
fn opened(state: &Path) -> Result<Docket, Failure> {
    let mut docket = match Docket::open(state) {
        Ok(docket) => docket,
        Err(failure) => {
            // Who may not even look at the kernel's rules learns that first: it is the reason.
            ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?)?;
            return Err(failure);
        }
    };
    settle(state, &mut docket)?;
    match Docket::pending(state) {
        None => Ok(docket),
        Some(pending) => Err(stopped(
            format!("entry {} waits to be confirmed", pending.id),
            vec![
                "keep it with `tipstaff confirm`, or go back with `tipstaff revert`".into(),
                "nothing was changed".into(),
            ],
        )),
    }
}

/// Settles what a command that was killed, or a reboot, left open.
fn settle(state: &Path, docket: &mut Docket) -> Result<(), Failure> {
    let pending = Docket::pending(state);
    if let Some(pending) = &pending
        && pending.boot != this_boot()
    {
        // A change that nobody confirmed before the machine went down counts as not confirmed.
        docket.became(pending.id, State::Reverted, &now())?;
        docket.set_pending(None)?;
        return Ok(());
    }
    let open: Vec<Entry> =
        docket.entries().iter().filter(|it| it.state == State::Intended).cloned().collect();
    for entry in open {
        let arrived = arrived(state, &entry);
        let waits = pending.as_ref().is_some_and(|pending| pending.id == entry.id);
        let became = match (arrived, waits) {
            (true, true) => State::Pending,
            (true, false) => State::Confirmed,
            (false, _) => State::Failed,
        };
        if waits && became == State::Failed {
            docket.set_pending(None)?;
        }
        docket.became(entry.id, became, &now())?;
    }
    Ok(())
}

/// Whether what an entry intended is in the kernel.
fn arrived(state: &Path, entry: &Entry) -> bool {
    let Ok(mut kernel) = NetlinkSocket::open(Protocol::Netfilter) else { return false };
    let Ok(found) = ruleset::read(&mut kernel) else { return false };
    match (entry.kind, found) {
        (Kind::Release, found) => found.is_none(),
        (_, None) => false,
        (_, Some(found)) => recorded(state, entry).is_ok_and(|policy| is_in_force(&policy, &found)),
    }
}

/// The policy of an entry, worked out.
///
/// # Errors
/// [`Failure`] if it is not kept any more, or not what it was.
pub fn recorded(state: &Path, entry: &Entry) -> Result<Loaded, Failure> {
    let kept = Docket::policy(state, entry)?;
    let sources = kept.files.iter().map(|(name, text)| Source::new(name, text)).collect();
    let mut policy = loaded(&format!("entry {}", entry.id), sources, Some(&kept.host))?;
    if entry.without_programs {
        policy.leave_out_programs();
    }
    Ok(policy)
}

/// Findings that are errors stop an enforcement.
fn no_errors(policy: &Loaded) -> Result<(), Failure> {
    let likely = |direction| likely_packet(direction, &policy.plan);
    let found = analysis::review(&policy.policy, &policy.plan, policy.now, &likely);
    let errors: Vec<String> = found
        .iter()
        .filter(|it| it.severity == Severity::Error && it.accepted.is_none())
        .map(|it| format!("{}: {}", it.code.as_str(), it.message))
        .collect();
    if errors.is_empty() {
        return Ok(());
    }
    let help = vec![
        "mend it, or accept it in the policy; `tipstaff review` says more".to_owned(),
        "nothing was changed".to_owned(),
    ];
    Err(stopped(format!("the review finds an error: {}", errors.join("; ")), help))
}

/// What changes, in a few words.
fn effect(changes: &[ChangeWords], was_in_force: bool) -> String {
    if !was_in_force {
        return "nothing was in force before".into();
    }
    let count = |kind: &str| changes.iter().filter(|it| it.kind == kind).count();
    let words: Vec<String> = ["opens", "closes", "limits", "unlimits", "answers", "silences"]
        .into_iter()
        .filter(|kind| count(kind) > 0)
        .map(|kind| format!("{kind} {}", count(kind)))
        .collect();
    if words.is_empty() { "nothing changes for packets".into() } else { words.join(", ") }
}

/// A new entry by whoever runs this.
fn entry(
    kind: Kind,
    of_policy: Option<&Loaded>,
    policy: Option<String>,
    of: Option<u64>,
    effect: String,
) -> Entry {
    let users = super::users::Users::read();
    let login =
        fs::read_to_string("/proc/self/loginuid").ok().and_then(|it| it.trim().parse().ok());
    let login = login.filter(|&uid: &u32| uid != u32::MAX).map(|uid| users.name(uid));
    let login = std::env::var("SUDO_USER").ok().or(login);
    let user = users.name(rustix::process::getuid().as_raw());
    let time = now();
    Entry {
        id: 0,
        since: time.clone(),
        time,
        kind,
        host: of_policy.map(|it| it.plan.host.clone()),
        shell: of_policy.map(shell).unwrap_or_default(),
        open_on_failure: of_policy
            .and_then(|it| it.policy.host(&it.plan.host))
            .is_some_and(|host| host.open_on_failure),
        without_programs: of_policy.is_some_and(|it| it.without_programs),
        login: login.filter(|login| *login != user),
        user,
        from: Session::own().map(|session| session.client.to_string()),
        policy,
        of,
        effect,
        state: State::Intended,
    }
}

/// Where the remote shell of a policy's host listens: what is written, or what is usual.
fn shell(policy: &Loaded) -> Vec<String> {
    let host = policy.policy.host(&policy.plan.host);
    match host.and_then(|host| host.shell.as_ref()) {
        Some(shell) => shell.traffic.to_string().split(", ").map(str::to_owned).collect(),
        None => vec!["22/tcp".into()],
    }
}

/// Starts the process that goes back when the time is over. It does not end with the session.
fn watch_over(state: &Path, id: u64) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::System {
        message: format!("cannot start what would go back: {error}"),
        help: vec!["nothing was changed; --keep needs no way back".into()],
    };
    let program = std::env::current_exe().map_err(failed)?;
    Command::new(program)
        .arg("--state")
        .arg(state)
        .args([WATCH, &id.to_string()])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .current_dir("/")
        .spawn()
        .map_err(failed)?;
    Ok(())
}

/// Waits until a change is confirmed, or goes back when its time is over.
///
/// # Errors
/// [`Failure`] if the docket cannot be written.
pub fn stand_by(state: &Path, id: u64) -> Result<(), Failure> {
    // A session of its own: what ends the session that started it leaves it alone.
    let _ = rustix::process::setsid();
    loop {
        let Some(pending) = Docket::pending(state).filter(|it| it.id == id) else { return Ok(()) };
        let left = pending.deadline.saturating_sub(since_boot());
        if left > 0 {
            std::thread::sleep(LOOK.min(Duration::from_millis(left)));
            continue;
        }
        let mut docket = Docket::open(state)?;
        if Docket::pending(state).is_some_and(|it| it.id == id) && go_back(state, &pending).is_ok()
        {
            docket.became(id, State::Reverted, &now())?;
            docket.set_pending(None)?;
            return Ok(());
        }
        // Whatever stood in the way may be gone in a moment.
        drop(docket);
        std::thread::sleep(Duration::from_secs(1));
    }
}

/// Puts back what was confirmed before.
fn go_back(state: &Path, pending: &Pending) -> Result<(), Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let entries = Docket::look(state)?;
    let to = pending.back_to.and_then(|id| entries.iter().find(|entry| entry.id == id));
    match to.filter(|entry| entry.kind != Kind::Release) {
        None => {
            ruleset::release(&mut kernel)?;
            linux_programs::clear()?;
        }
        Some(entry) => {
            programs::load(&mut kernel, &recorded(state, entry)?)?;
        }
    }
    Ok(())
}

/// What `confirm` and an immediate `revert` did.
#[derive(Debug, Serialize)]
pub struct Settled {
    /// `confirmed` or `reverted`.
    pub done: &'static str,
    /// The entry.
    pub entry: u64,
    /// The entry that is in force again; `null` if the rules were taken out.
    pub back_to: Option<u64>,
}

/// Keeps the change that waits.
///
/// # Errors
/// [`Failure`] if none does.
pub fn confirm(state: &Path) -> Result<Settled, Failure> {
    let mut docket = Docket::open(state)?;
    settle(state, &mut docket)?;
    let Some(pending) = Docket::pending(state) else {
        return Err(Failure::usage(
            "nothing waits to be confirmed",
            "`tipstaff docket` shows what became of the last change",
        ));
    };
    docket.became(pending.id, State::Confirmed, &now())?;
    docket.set_pending(None)?;
    Ok(Settled { done: "confirmed", entry: pending.id, back_to: None })
}

/// Goes back at once from the change that waits; `None` if none does.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn revert_pending(state: &Path) -> Result<Option<Settled>, Failure> {
    let mut docket = Docket::open(state)?;
    settle(state, &mut docket)?;
    let Some(pending) = Docket::pending(state) else { return Ok(None) };
    go_back(state, &pending)?;
    docket.became(pending.id, State::Reverted, &now())?;
    docket.set_pending(None)?;
    Ok(Some(Settled { done: "reverted", entry: pending.id, back_to: pending.back_to }))
}

/// Enforces the policy of an earlier entry again: the one of that number, or the one that was
/// confirmed before the last.
///
/// # Errors
/// [`Failure`] as for [`enforce`], or if there is no such entry.
pub fn revert(id: Option<u64>, options: &Options<'_>) -> Result<Report, Failure> {
    let entries = Docket::look(options.state)?;
    let mut confirmed = entries.iter().rev().filter(|it| it.state == State::Confirmed);
    let found = match id {
        Some(id) => entries.iter().find(|entry| entry.id == id),
        None => {
            let last = confirmed.next().and_then(|it| it.policy.clone());
            confirmed.find(|it| it.policy != last)
        }
    };
    let Some(found) = found else {
        return Err(Failure::usage(
            "there is no such entry to go back to",
            "`tipstaff docket` lists them",
        ));
    };
    if found.kind == Kind::Release {
        return release(options);
    }
    let policy = recorded(options.state, found)?;
    carry_out(&policy, options, Kind::Revert, Some(found.id))
}

/// Takes our rules out of the kernel, and records it.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn release(options: &Options<'_>) -> Result<Report, Failure> {
    let mut docket = opened(options.state)?;
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let mut report = Report {
        done: "nothing-to-release",
        entry: None,
        confirm_within: None,
        enforced: None,
        changes: Vec::new(),
        living_on: None,
        living: None,
        told: false,
    };
    let Some(before) = ruleset::read(&mut kernel)? else { return Ok(report) };
    let back_to = docket.confirmed().map(|entry| entry.id);
    let effect = "everything passes".to_owned();
    let mut made = entry(Kind::Release, None, None, None, effect);
    made.host = Some(before.host);
    let id = docket.add(made)?;
    // Without an entry that says what was in force there is nothing to go back to.
    let keep = options.keep || back_to.is_none();
    if !keep {
        let deadline = deadline(options.within);
        docket.set_pending(Some(&Pending { id, deadline, boot: this_boot(), back_to }))?;
        watch_over(options.state, id)?;
    }
    let released = ruleset::release(&mut kernel).and_then(|_| linux_programs::clear());
    if let Err(error) = released {
        docket.became(id, State::Failed, &now())?;
        docket.set_pending(None)?;
        return Err(error.into());
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    report.done = "released";
    report.entry = Some(id);
    report.confirm_within = (!keep).then_some(options.within.as_secs());
    Ok(report)
}
