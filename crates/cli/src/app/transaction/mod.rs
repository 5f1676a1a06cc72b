//! Enforcing as a recorded transaction: what stops it, what it changes, a way back.

mod again;
mod back;
mod boot;
mod clock;
mod entries;
mod guard;
mod load;
mod memory;
mod settle;
mod watch;

pub use again::boot_if_gone;
pub use boot::{Booted, boot};
pub use clock::since_boot;
pub use entries::as_written;
pub use guard::way;
pub use memory::FOR_A_BOOT;
pub use settle::{Settled, confirm, look_after, revert_pending};
pub use watch::stand_by;

use super::effect::Effects;
use super::enforce::{self, Report as Enforced};
use super::{Failure, Loaded, compare, likely_packet, programs};
use crate::store::{Docket, Home, Kind, Pending, State, Watcher, pending, set_pending, this_boot};
use back::Back;
use clock::{deadline, now};
use entries::{New, entry, recorded};
use load::{Outcome, put_in_force};
use serde::Serialize;
use settle::{last_confirmed, noted, settle};
use std::time::Duration;
use tipstaff_core::analysis;
use tipstaff_core::policy::{Code, Severity};
use tipstaff_core::program;
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// Who is told what will change.
pub type Tell<'t> = dyn Fn(&Effects) + Sync + 't;

/// How a change is to be made.
#[derive(Clone, Copy)]
pub struct Options<'o> {
    /// Where the docket is.
    pub home: &'o Home,
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
    /// Whether it is made even if the policy is another machine's.
    pub not_this_machine: bool,
    /// Whether all changes are worked out, however many there are.
    pub all: bool,
    /// How much memory a boot may need to load it, in MiB.
    pub boot_memory: u64,
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
    #[serde(flatten)]
    pub effects: Effects,
    /// How many connections live on that began before and that the policy would not admit;
    /// `null` if that is not known.
    pub living_on: Option<usize>,
    /// Those that were ended.
    pub living: Option<super::cut::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
    /// Whether what changes has been told beforehand.
    #[serde(skip)]
    pub told: bool,
}

impl Report {
    fn did(done: &'static str) -> Self {
        Self {
            done,
            entry: None,
            confirm_within: None,
            enforced: None,
            effects: Effects { changes_known: true, ..Effects::default() },
            living_on: None,
            living: None,
            remarks: Vec::new(),
            told: false,
        }
    }
}

fn stopped(message: impl Into<String>, help: Vec<String>) -> Failure {
    Failure::Stopped { message: message.into(), help }
}

/// Puts the policy into the kernel, and records it.
///
/// # Errors
/// [`Failure`] if something stops it or the kernel refuses; then nothing was changed. Where it is not
/// known whether the kernel took the rules, that is said, and the way back stands.
pub fn enforce(policy: &Loaded, options: &Options<'_>) -> Result<Report, Failure> {
    memory::must_suffice(policy, options.boot_memory)?;
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
    // Who may not even look at the kernel's rules learns that first: it is the reason.
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    ruleset::generation(&mut kernel)?;
    let despite = objections(policy, options)?;
    // Whoever else changes what is enforced waits until this is done.
    let mut docket = if options.dry { None } else { Some(opened(options.home)?) };
    let before = ruleset::read(&mut kernel)?;
    let effects = match &before {
        Some(snapshot) => compare::from_kernel(policy, snapshot.program.clone(), options.all),
        None => Effects { changes_known: true, ..Effects::default() },
    };
    let report = enforce::report(policy, before.as_ref());
    let reset = report.changed.clone();
    let mut remarks = odd_interfaces(policy);
    if policy.clock_is_wrong {
        remarks.push(
            "the clock shows a time before the policy was changed: what it allows for a time only counts \
             as over; set the clock and enforce again"
                .into(),
        );
    }
    if before.as_ref().is_some_and(|it| it.dormant) && !options.dry {
        remarks.push("our table was asleep and decided nothing; it is awake again".into());
    }
    let report = Report { enforced: Some(report), effects, remarks, ..Report::did("enforced") };
    let Some(docket) = docket.as_mut() else {
        return Ok(Report { done: "would-enforce", ..report });
    };
    let host = &policy.plan.host;
    let digest = docket.keep(host, &policy.sources)?;
    let same = before
        .as_ref()
        .is_some_and(|it| is_in_force(policy, it) && programs::are_known(policy, &it.marks));
    let known = docket.confirmed().is_some_and(|it| it.policy.as_ref() == Some(&digest));
    // Only told: what cannot be looked at does not make the enforcement fail.
    let living_on = || super::cut::count(&policy.program).ok();
    if same && known {
        // Not touched: what has been counted stays.
        return Ok(Report { done: "unchanged", living_on: living_on(), ..report });
    }
    let told = options.tell.filter(|_| !report.effects.is_nothing());
    if let Some(tell) = told {
        tell(&report.effects);
    }
    let back_to = last_confirmed(options.home, docket);
    let effect = effect(&report.effects, before.is_some());
    let keep = options.keep || same;
    let policy_and_digest = Some((policy, digest));
    let new = New { kind, policy: policy_and_digest, of, effect, waits: !keep, despite };
    let id = docket.add(entry(new))?;
    // Before anything changes: whatever happens to this process then, somebody is there.
    let waits = Waits { id, back_to, held: before.is_some(), shell: entries::shell(policy) };
    let back = match keep {
        true => Back::of(options.home, docket.written(), &waits.pending(0, 0, None)),
        false => watched(options, docket, &waits)?,
    };
    let sent = match same {
        true => Ok(Vec::new()),
        false => put_in_force(&mut kernel, policy, before.as_ref(), &reset),
    };
    let mut report = report;
    let not_recognised = match sent {
        Ok(not_recognised) => not_recognised,
        Err(outcome) => {
            let at_once = keep.then_some((&back, before.as_ref()));
            return Err(not_in_force(policy, options, docket, id, at_once, outcome));
        }
    };
    if let Some(enforced) = &mut report.enforced {
        enforced.not_recognised = not_recognised;
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    report.remarks.extend(keep.then(|| noted(options.home, docket, id)).flatten());
    Ok(Report {
        done: if same { "unchanged" } else { "enforced" },
        entry: Some(id),
        confirm_within: (!keep).then_some(options.within.as_secs()),
        living_on: living_on(),
        told: told.is_some(),
        ..report
    })
}

/// Writes down that it did not come to the new rules being in force, and says why.
fn not_in_force(
    policy: &Loaded,
    options: &Options<'_>,
    docket: &mut Docket,
    id: u64,
    at_once: Option<(&Back, Option<&Snapshot>)>,
    outcome: Outcome,
) -> Failure {
    match outcome {
        Outcome::Unknown(error) => unknown(options, docket, id, at_once, &error),
        Outcome::Refused(error) => {
            let noted = docket.became(id, State::Failed, &now());
            let noted = noted.and_then(|()| set_pending(options.home, None));
            match noted {
                Ok(()) => Failure::in_kernel(error, &policy.sources, &policy.plan),
                Err(failure) => failure,
            }
        }
    }
}

/// A change that is to wait.
struct Waits {
    id: u64,
    back_to: Option<u64>,
    held: bool,
    shell: Vec<String>,
}

impl Waits {
    fn pending(&self, made: u64, deadline: u64, watcher: Option<Watcher>) -> Pending {
        let (id, back_to, held, shell) = (self.id, self.back_to, self.held, self.shell.clone());
        Pending { id, deadline, boot: this_boot(), back_to, held, shell, made, watcher }
    }
}

/// Starts what watches over a change, and notes that it waits; gives the way back.
fn watched(options: &Options<'_>, docket: &Docket, waits: &Waits) -> Result<Back, Failure> {
    let (made, deadline) = (since_boot(), deadline(options.within));
    let back = Back::of(options.home, docket.written(), &waits.pending(made, deadline, None));
    let ready = watch::start(options.home, waits.id, deadline, &back, true)?;
    let pending = waits.pending(made, deadline, Some(ready.watcher));
    // If that cannot be written, the watcher is called off here, and nothing was changed.
    set_pending(options.home, Some(&pending))?;
    ready.let_go();
    Ok(back)
}

/// It is not known whether the kernel took the rules: what waits goes back by itself, what was to stay
/// goes back at once.
fn unknown(
    options: &Options<'_>,
    docket: &mut Docket,
    id: u64,
    at_once: Option<(&Back, Option<&Snapshot>)>,
    error: &tipstaff_linux::LinuxError,
) -> Failure {
    let message = format!("it is not known which rules are in force: {error}");
    let look = "look with `tipstaff status`".to_owned();
    let Some((back, before)) = at_once else {
        let seconds = options.within.as_secs();
        let note = docket.became(id, State::Pending, &now()).err().map(|it| it.line());
        let mut help = vec![
            look,
            format!(
                "entry {id} waits: it goes back by itself in {seconds} seconds unless confirmed"
            ),
        ];
        help.extend(note);
        return Failure::System { message, help };
    };
    let help = match back.go(before) {
        Ok(gone) => {
            let _ = docket.became(id, State::Reverted, &now());
            let mut help = vec!["what was in force before is again".to_owned()];
            help.extend(gone.trouble);
            help
        }
        Err(failure) => vec![look, format!("going back did not work either: {}", failure.line())],
    };
    Failure::System { message, help }
}

/// What speaks against a change: stops it, or gives what was overruled.
fn objections(policy: &Loaded, options: &Options<'_>) -> Result<Vec<String>, Failure> {
    let mut despite = Vec::new();
    let mut overrule = |word: &str, wish: bool, found: Result<(), Failure>| match found {
        Err(Failure::Stopped { .. }) if wish => {
            despite.push(word.to_owned());
            Ok(())
        }
        other => other,
    };
    overrule(
        "not-this-machine",
        options.not_this_machine,
        guard::this_machine(policy, options.home),
    )?;
    no_errors(policy, |code| code != Code::ShellLockout)?;
    let shell = no_errors(policy, |code| code == Code::ShellLockout);
    overrule("locked-out", options.even_if_locked_out, shell)?;
    overrule("locked-out", options.even_if_locked_out, guard::guard(policy))?;
    despite.dedup();
    Ok(despite)
}

/// Rules that name interfaces which are not there, in words.
fn odd_interfaces(policy: &Loaded) -> Vec<String> {
    super::live::interfaces::told(policy)
}

/// Whether the kernel holds just what the policy asks for, at this moment.
fn is_in_force(policy: &Loaded, before: &Snapshot) -> bool {
    holds(policy, before, |meant, found| program::compare(meant, found).is_empty())
}

/// Whether the kernel holds what the policy asks for, or asked for when interfaces had other names.
fn was_in_force(policy: &Loaded, before: &Snapshot) -> bool {
    let free = policy.moving_names();
    is_in_force(policy, before)
        || !free.is_empty()
            && holds(policy, before, |meant, found| program::renamed(meant, found, &free))
}

fn holds(
    policy: &Loaded,
    before: &Snapshot,
    same: impl Fn(&program::RuleProgram, &program::RuleProgram) -> bool,
) -> bool {
    let now = |program: &program::RuleProgram| program.clone().at(policy.now);
    !before.dormant
        && before.strays.is_empty()
        && before.host == policy.plan.host
        && same(&now(&policy.program), &now(&before.program))
}

/// Opens the docket, settles what an earlier command left open, and refuses while a change waits to
/// be confirmed.
fn opened(home: &Home) -> Result<Docket, Failure> {
    let mut docket = match Docket::open(home) {
        Ok(docket) => docket,
        Err(failure) => {
            // Who may not even look at the kernel's rules learns that first: it is the reason.
            ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?)?;
            return Err(failure);
        }
    };
    settle(home, &mut docket)?;
    docket.whole()?;
    match pending(home) {
        Ok(None) => Ok(docket),
        Ok(Some(pending)) => Err(stopped(
            format!("entry {} waits to be confirmed", pending.id),
            vec![
                "keep it with `tipstaff confirm`, or go back with `tipstaff revert`".into(),
                "nothing was changed".into(),
            ],
        )),
        Err(why) => Err(stopped(
            format!("a change may wait to be confirmed, and its note cannot be read: {why}"),
            vec!["`tipstaff revert` goes back".into(), "nothing was changed".into()],
        )),
    }
}

/// Findings that are errors stop an enforcement.
fn no_errors(policy: &Loaded, about: impl Fn(Code) -> bool) -> Result<(), Failure> {
    let likely = |direction| likely_packet(direction, &policy.plan);
    let found = analysis::review(&policy.policy, &policy.plan, policy.now, &likely);
    let errors: Vec<String> = found
        .iter()
        .filter(|it| it.severity == Severity::Error && it.accepted.is_none() && about(it.code))
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
fn effect(effects: &Effects, was_in_force: bool) -> String {
    if !was_in_force {
        return "nothing was in force before".into();
    }
    if !effects.changes_known {
        return "too much to be worked out".into();
    }
    let count = |kind: &str| effects.kinds.iter().filter(|it| **it == kind).count();
    let words: Vec<String> = ["opens", "closes", "limits", "unlimits", "answers", "silences"]
        .into_iter()
        .filter(|kind| count(kind) > 0)
        .map(|kind| format!("{kind} {}", count(kind)))
        .collect();
    if words.is_empty() { "nothing changes for packets".into() } else { words.join(", ") }
}

/// Enforces the policy of an earlier entry again: the one of that number, or the one that was
/// confirmed before the last.
///
/// # Errors
/// [`Failure`] as for [`enforce`], or if there is no such entry.
pub fn revert(id: Option<u64>, options: &Options<'_>) -> Result<Report, Failure> {
    let written = Docket::look(options.home)?;
    let mut confirmed = written.entries.iter().rev().filter(|it| it.state == State::Confirmed);
    let found = match id {
        Some(id) => written.entry(id),
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
    let policy = recorded(options.home, found)?;
    carry_out(&policy, options, Kind::Revert, Some(found.id))
}

/// Takes our rules out of the kernel, and records it.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn release(options: &Options<'_>) -> Result<Report, Failure> {
    let mut docket = opened(options.home)?;
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let Some(held) = ruleset::read(&mut kernel)? else {
        return Ok(Report::did("nothing-to-release"));
    };
    let back_to = last_confirmed(options.home, &docket);
    let keep = options.keep;
    let effect = "everything passes".to_owned();
    let despite = Vec::new();
    let new = New { kind: Kind::Release, policy: None, of: None, effect, waits: !keep, despite };
    let mut made = entry(new);
    made.host = Some(held.host);
    let id = docket.add(made)?;
    if !keep {
        let shell = docket
            .entries()
            .iter()
            .rev()
            .find_map(|it| Some(it.shell.clone()).filter(|shell| !shell.is_empty()));
        let shell = shell.unwrap_or_else(|| vec!["22/tcp".into()]);
        watched(options, &docket, &Waits { id, back_to, held: true, shell })?;
    }
    if let Err(error) = back::take_out(&mut kernel) {
        let there = ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?);
        if !matches!(there, Ok(None)) {
            docket.became(id, State::Failed, &now())?;
            set_pending(options.home, None)?;
            return Err(error.into());
        }
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    let remarks = keep.then(|| noted(options.home, &docket, id)).flatten().into_iter().collect();
    Ok(Report {
        entry: Some(id),
        confirm_within: (!keep).then_some(options.within.as_secs()),
        remarks,
        ..Report::did("released")
    })
}
