//! The way back: what is put in place of a change that is not kept, in the order in which it is
//! tried.

use super::super::{Failure, Loaded, programs};
use super::entries::{only_shell, worked_out};
use crate::store::{
    Entry, Guarded, Home, Kind, Note, Pending, Situation, State, Written, by_digest, origin,
};
use serde::{Deserialize, Serialize};
use tipstaff_core::policy::{Host, Time};
use tipstaff_linux::programs as linux_programs;
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{LinuxError, Machine, NetlinkSocket, Protocol};

/// Further back than so many policies nobody wants to go by himself.
const WAYS: usize = 4;

/// What to go back to. It holds everything that takes, and needs no file any more.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Back {
    /// Whether nothing of ours was in force before: the rules are taken out.
    pub take_out: bool,
    /// The policies, the one that was confirmed last first.
    pub ways: Vec<Way>,
    /// The host, for what is left if nothing else works.
    pub host: String,
    /// The remote shell's traffic, likewise.
    pub shell: Vec<String>,
    /// Whether everything is to pass then.
    pub open_on_failure: bool,
}

/// A policy to go back to.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Way {
    /// The number of the entry that goes back.
    pub entry: u64,
    /// The digest of its policy.
    pub digest: String,
    /// The policy that was in force before.
    pub policy: Guarded,
    /// What its places held.
    #[serde(default)]
    pub texts: Vec<(String, String, String)>,
    /// Whether its rules for programs were left out.
    pub without_programs: bool,
    /// When it was enforced (RFC 3339), if that is known.
    pub made: Option<String>,
    /// The posture in which it was.
    #[serde(default)]
    pub situation: Situation,
}

/// What was put in place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Went {
    /// Our rules were taken out.
    Out,
    /// Back to the policy of this entry.
    To(u64),
    /// What the kernel held before the change.
    Before,
    /// Nothing but the baseline and the remote shell.
    Closed,
    /// Nothing, as the policy wants it when nothing can be loaded.
    Open,
}

impl Went {
    /// The entry that is in force again.
    pub(super) fn entry(self) -> Option<u64> {
        match self {
            Self::To(entry) => Some(entry),
            _ => None,
        }
    }

    /// What is said of it where it is not what was to be expected.
    pub(super) fn trouble(self, wanted: Option<u64>) -> Option<String> {
        match self {
            Self::Out | Self::Before => None,
            Self::To(entry) if Some(entry) == wanted => None,
            Self::To(entry) => {
                Some(format!("an earlier policy is in force, that of entry {entry}"))
            }
            Self::Closed => Some(
                "no policy could be loaded: only the baseline and the remote shell stay open"
                    .into(),
            ),
            Self::Open => {
                Some("no policy could be loaded, and the policy lets everything pass then".into())
            }
        }
    }
}

impl Back {
    /// The way back of a change that waits.
    pub(super) fn of(home: &Home, written: &Written, waits: &Pending) -> Self {
        let mut back = Self::to(home, written, waits.back_to);
        if waits.back_to.is_none() && waits.held {
            // Nobody knows any more what it was: only who watches over it from the beginning does.
            back.take_out = false;
        }
        if back.shell.is_empty() {
            back.shell.clone_from(&waits.shell);
        }
        back
    }

    /// The way back to the entry of that number; `None`: to no rules of ours.
    ///
    /// What the docket has lost, the note of the boot may still know.
    pub(super) fn to(home: &Home, written: &Written, entry: Option<u64>) -> Self {
        let mut back = Self {
            take_out: false,
            ways: Vec::new(),
            host: String::new(),
            shell: Vec::new(),
            open_on_failure: false,
        };
        let Some(id) = entry else { return Self { take_out: true, ..back } };
        let note = Note::read(home).ok().flatten();
        match written.entry(id) {
            Some(entry) if entry.kind == Kind::Release => return Self { take_out: true, ..back },
            Some(entry) => back.add(home, entry),
            None => {}
        }
        if let Some(note) = note.filter(|it| it.entry == id) {
            if note.policy.is_none() && written.entry(id).is_none() {
                return Self { take_out: true, ..back };
            }
            back.add_noted(home, &note);
        }
        let confirmed = written.entries.iter().rev().filter(|it| it.state == State::Confirmed);
        for older in confirmed.filter(|it| it.id < id && it.kind != Kind::Release) {
            if back.ways.len() >= WAYS {
                break;
            }
            back.add(home, older);
        }
        back
    }

    fn add(&mut self, home: &Home, entry: &Entry) {
        if self.host.is_empty() {
            self.host = entry.host.clone().unwrap_or_default();
            self.shell.clone_from(&entry.shell);
            self.open_on_failure = entry.open_on_failure;
        }
        let Some(digest) = &entry.policy else { return };
        self.add_policy(home, origin(entry), digest, |policy| Way {
            without_programs: entry.without_programs,
            made: Some(entry.time.clone()),
            situation: entry.situation(),
            ..policy
        });
    }

    fn add_noted(&mut self, home: &Home, note: &Note) {
        if self.host.is_empty() {
            self.host.clone_from(&note.host);
            self.shell.clone_from(&note.shell);
            self.open_on_failure = note.open_on_failure;
        }
        let Some(digest) = &note.policy else { return };
        self.add_policy(home, note.entry, digest, |policy| Way {
            without_programs: note.without_programs,
            made: note.time.clone(),
            situation: note.situation.clone(),
            ..policy
        });
    }

    fn add_policy(
        &mut self,
        home: &Home,
        entry: u64,
        digest: &str,
        as_it_was: impl Fn(Way) -> Way,
    ) {
        let Ok(policy) = by_digest(home, digest) else { return };
        let digest = digest.to_owned();
        let plain = Way {
            entry,
            digest,
            texts: policy.texts(),
            policy,
            without_programs: false,
            made: None,
            situation: Situation::default(),
        };
        let way = as_it_was(plain);
        let same = |it: &Way| (&it.digest, &it.situation) == (&way.digest, &way.situation);
        if !self.ways.iter().any(same) {
            self.ways.push(way);
        }
    }

    /// Puts back the first that can be had; `before` is what the kernel held before the change. Gives
    /// what it was, and what stood in the way of the others.
    ///
    /// # Errors
    /// [`Failure`] if the kernel takes nothing at all; then it is to be tried again.
    pub(super) fn go(
        &self,
        machine: &dyn Machine,
        before: Option<&Snapshot>,
    ) -> Result<Gone, Failure> {
        let mut kernel = machine.channel(Protocol::Netfilter)?;
        let mut trouble = Vec::new();
        if self.take_out {
            take_out(&mut kernel)?;
            return Ok(Gone::to(Went::Out, trouble));
        }
        for (at, way) in self.ways.iter().enumerate() {
            if at == 1
                && let Some(gone) = restore(before, &mut kernel, &mut trouble)
            {
                return Ok(gone);
            }
            match way.go(machine, &mut kernel, &mut trouble) {
                Ok(left_out) => {
                    let host = Some(way.policy.host.clone());
                    return Ok(Gone { host, left_out, ..Gone::to(Went::To(way.entry), trouble) });
                }
                Err(failure) => trouble.push(format!("entry {}: {}", way.entry, failure.line())),
            }
        }
        if self.ways.len() < 2
            && let Some(gone) = restore(before, &mut kernel, &mut trouble)
        {
            return Ok(gone);
        }
        if self.open_on_failure {
            take_out(&mut kernel)?;
            return Ok(Gone::to(Went::Open, trouble));
        }
        close(&mut kernel, &self.host, &self.shell)?;
        Ok(Gone::to(Went::Closed, trouble))
    }
}

/// What was put in place, and what stood in the way.
#[derive(Debug)]
pub(super) struct Gone {
    /// What is in force now.
    pub went: Went,
    /// The host of the policy, if it is one.
    pub host: Option<String>,
    /// Whether rules for programs were left out that were in force.
    pub left_out: bool,
    /// What stood in the way of what was tried first, as whole sentences.
    pub trouble: Vec<String>,
}

impl Gone {
    fn to(went: Went, trouble: Vec<String>) -> Self {
        Self { went, host: None, left_out: false, trouble }
    }
}

/// Puts back just what the kernel held, if that is known.
fn restore(
    before: Option<&Snapshot>,
    kernel: &mut NetlinkSocket,
    trouble: &mut Vec<String>,
) -> Option<Gone> {
    let before = before?;
    let (host, program) = (&before.host, &before.program);
    match ruleset::go_to(kernel, host, program, &before.marks) {
        Ok(()) => Some(Gone::to(Went::Before, std::mem::take(trouble))),
        Err(error) => {
            trouble.push(format!("what was in force before: {error}"));
            None
        }
    }
}

impl Way {
    /// Loads it; gives whether rules for programs had to be left out.
    fn go(
        &self,
        machine: &dyn Machine,
        kernel: &mut NetlinkSocket,
        trouble: &mut Vec<String>,
    ) -> Result<bool, Failure> {
        let name = format!("entry {}", self.entry);
        let made = self.made.as_deref().and_then(Time::parse);
        let kept = self.policy.clone().with_texts(&self.texts);
        let read = |it: &Situation| worked_out(&kept, self.without_programs, &name, made, it);
        let mut policy = read(&self.situation)?;
        let by_hand = self.situation.posture.as_ref().is_some_and(|it| it.by_hand);
        if !by_hand && policy.section().is_some_and(Host::goes_by_place) {
            // What held by itself held where the machine was then. Until it is known where it is now, what holds
            // at a boot does.
            policy = read(&Situation::default())?;
        }
        policy.place(machine)?;
        if policy.clock_is_wrong {
            trouble.push(
                "the clock shows a time before the policy was enforced: what it allows for a time only \
                 counts as over"
                    .into(),
            );
        }
        policy.keep_only_what_loading_needs();
        put(machine, kernel, &mut policy, trouble)?;
        Ok(policy.without_programs && !self.without_programs)
    }
}

/// Loads a policy; where programs cannot be told apart, all its other rules.
pub(super) fn put(
    machine: &dyn Machine,
    kernel: &mut NetlinkSocket,
    policy: &mut Loaded,
    trouble: &mut Vec<String>,
) -> Result<(), Failure> {
    use super::super::enforce::can_tell_programs;
    if let Err(failure) = can_tell_programs(machine, policy) {
        let why = machine.lacking_for_programs().join("; ");
        trouble.push(format!("{}; missing: {why}", failure.line()));
        policy.leave_out_programs();
    }
    let mut outcome = programs::load(kernel, policy);
    if let Err(LinuxError::Lacking { .. }) = &outcome {
        // What a kernel cannot test in packets shows only when it is given the rules.
        trouble.extend(outcome.err().map(|it| it.to_string()));
        policy.leave_out_programs();
        outcome = programs::load(kernel, policy);
    }
    outcome.map_err(|error| Failure::in_kernel(error, &policy.sources, &policy.plan))
}

/// Loads nothing but the baseline and the remote shell.
pub(super) fn close(
    kernel: &mut NetlinkSocket,
    host: &str,
    shell: &[String],
) -> Result<(), Failure> {
    let policy = only_shell(host, shell)?;
    let program = policy.program();
    ruleset::enforce(kernel, &policy.plan.host, program)?;
    Ok(())
}

/// Takes our rules out.
pub(crate) fn take_out(kernel: &mut NetlinkSocket) -> Result<(), LinuxError> {
    ruleset::release(kernel)?;
    linux_programs::clear()
}
