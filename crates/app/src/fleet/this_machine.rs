//! This machine as a member of a fleet.

use super::asking::{Met, Try};
use super::carrier::Carrier;
use super::kept::{self, Member, changed_here};
use super::member::Body;
use super::order::{self, Numbered};
use super::place::Place;
use super::probes::{self, Target};
use super::question::answers;
use super::standing::{Highest, NotTaken, Standing, Unanswered};
use super::take::{How, said, take_from};
use super::taken::Taken;
use super::trust::Trust;
use super::word::{self, ANYWAY, PATIENCE};
use crate::load::load_vouched;
use crate::store::{Home, Seen, docket_stamp};
use crate::{Failure, Loaded, load_here, now, review, status};
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant, SystemTime};
use tipstaff_linux::Machine;

/// Where only somebody changed rules in the kernel, it is looked no more often than so whether ours are still there.
const BETWEEN: Duration = Duration::from_secs(15);

/// Takes what this machine is told to, and says how it stands, until that is `over`; hands over what happened.
pub(crate) fn stay(
    machine: &dyn Machine,
    home: &Home,
    trust: Trust,
    over: &AtomicBool,
    to: &Sender<Result<Taken, Failure>>,
) {
    word::stay(ThisMachine::of(machine, home), trust, over, to);
}

/// Takes what this machine is told to, once, and says how it stands.
///
/// # Errors
/// [`Failure`] if the carrier, the list of who may sign, or what is kept cannot be read; or if it is not known what
/// became of it.
pub fn take(machine: &dyn Machine, home: &Home, trust: &Trust, how: How) -> Result<Taken, Failure> {
    let carrier = trust.carrier.open()?;
    let order = order::last(&*carrier)?;
    let taken = take_from(&*carrier, order.as_ref(), machine, home, (trust, how));
    // Whether it went well or not: who looks on wants to know.
    let trouble = taken.as_ref().err().map(Failure::line);
    let standing = ThisMachine::of(machine, home).standing(&*carrier, &trust.fleet);
    let said = standing.and_then(|standing| {
        let standing = Standing { trouble, ..standing };
        let word = serde_json::to_vec_pretty(&standing).unwrap_or_default();
        carrier.tell(&standing.host, &word)
    });
    Ok(Taken { not_said: said.err().map(|it| it.line()), ..taken? })
}

/// This machine as a member.
pub(super) struct ThisMachine<'m> {
    machine: &'m dyn Machine,
    home: &'m Home,
    known: Option<Known>,
    /// What it said at the carrier that it has seen, before this process said anything; `None`: it was not looked yet.
    said_before: Option<Option<Seen>>,
    /// What did not answer, and when that was tried.
    tried: Option<(Instant, Vec<Target>, Vec<Unanswered>)>,
}

/// What takes long to find out, and what it depends on.
#[derive(Debug)]
struct Known {
    of: Depends,
    when: Instant,
    in_force: Option<bool>,
    drift: Option<String>,
    posture: Option<String>,
    findings: Option<usize>,
    /// What it is to try.
    targets: Vec<Target>,
}

/// While this stays, what the kernel's rules are compared with the policy stays.
type Depends = (Option<u32>, Option<(SystemTime, u64)>, Member, bool);

impl<'m> ThisMachine<'m> {
    pub(super) fn of(machine: &'m dyn Machine, home: &'m Home) -> Self {
        Self { machine, home, known: None, said_before: None, tried: None }
    }

    /// The highest that it has seen. What is said next takes the place of what was said before, which may be all that is
    /// left of it.
    fn seen(
        &mut self,
        carrier: &dyn Carrier,
        host: &str,
        fleet: &str,
    ) -> Result<Option<Highest>, Failure> {
        let before = match &self.said_before {
            Some(before) => before.clone(),
            None => self.said_before.insert(said(carrier, host, fleet)?).clone(),
        };
        // Where it cannot be read nothing is taken, and that is said.
        let here = Seen::read(self.home, fleet).ok().flatten();
        let highest = here.into_iter().chain(before).max_by_key(|it| it.sequence);
        Ok(highest.map(|it| Highest { number: it.sequence, sha256: it.sha256 }))
    }

    /// What does not answer of what it is to try; tried once in a while.
    fn unanswered(&mut self, targets: Vec<Target>) -> Vec<Unanswered> {
        let fresh = |it: &&(Instant, Vec<Target>, _)| it.0.elapsed() < ANYWAY && it.1 == targets;
        if let Some((_, _, unanswered)) = self.tried.as_ref().filter(fresh) {
            return unanswered.clone();
        }
        let unanswered = probes::unanswered(&targets);
        self.tried = Some((Instant::now(), targets, unanswered.clone()));
        unanswered
    }
}

impl Body for ThisMachine<'_> {
    fn name(&self) -> Result<String, Failure> {
        Ok(Place::of(self.home)?.host)
    }

    fn refused(&self) -> Result<Option<NotTaken>, Failure> {
        Ok(Member::read(self.home)?.refused)
    }

    fn take(
        &mut self,
        carrier: &dyn Carrier,
        order: Option<&Numbered>,
        trust: &Trust,
    ) -> Result<Taken, Failure> {
        take_from(carrier, order, self.machine, self.home, (trust, How::default()))
    }

    fn standing(&mut self, carrier: &dyn Carrier, fleet: &str) -> Result<Standing, Failure> {
        let (machine, home) = (self.machine, self.home);
        let place = &Place::of(home)?;
        let seen = self.seen(carrier, &place.host, fleet)?;
        let member = Member::read(home)?;
        let changed_here = changed_here(home, &place.policy)?;
        let generation = machine.generation().ok();
        let depends = (generation, docket_stamp(home), member, changed_here);
        // Others may change their rules all the time.
        let stays = |it: &Known| {
            let young = it.when.elapsed() < BETWEEN;
            it.of == depends
                || young && (&it.of.1, &it.of.2, it.of.3) == (&depends.1, &depends.2, depends.3)
        };
        if !self.known.as_ref().is_some_and(stays) {
            self.known = Some(known(machine, home, place, depends.clone()));
        }
        let targets = self.known.as_ref().map(|it| it.targets.clone()).unwrap_or_default();
        let unanswered = self.unanswered(targets);
        let known = self.known.as_ref();
        Ok(Standing {
            host: place.host.clone(),
            fleet: fleet.to_owned(),
            at: now().to_string(),
            again: PATIENCE,
            has: depends.2.has,
            seen,
            in_force: known.and_then(|it| it.in_force),
            drift: known.and_then(|it| it.drift.clone()),
            posture: known.and_then(|it| it.posture.clone()),
            changed_here,
            refused: depends.2.refused,
            trouble: None,
            unanswered,
            findings: known.and_then(|it| it.findings),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            kernel: rustix::system::uname().release().to_string_lossy().into_owned(),
        })
    }

    fn answers(&mut self, tries: &[Try]) -> Result<Vec<Met>, Failure> {
        let place = Place::of(self.home)?;
        Ok(answers(&load_here(self.machine, &place.policy, Some(&place.host))?, tries))
    }
}

fn known(machine: &dyn Machine, home: &Home, place: &Place, of: Depends) -> Known {
    let host = &place.host;
    // What somebody changed on the machine is not what it should have.
    let policy = match of.3 {
        false => load_here(machine, &place.policy, Some(host)).ok(),
        true => kept::sealed(home, &place.policy).and_then(|(sources, at)| {
            let shown = place.policy.display().to_string();
            load_vouched(machine, &shown, sources, host, at).ok()
        }),
    };
    let report = policy.as_ref().and_then(|it| status::report(machine, it, home).ok());
    let in_force = report.as_ref().map(|it| it.in_force && it.equal == Some(true));
    let drift = report.as_ref().and_then(|it| it.differences.first()).map(|it| it.message.clone());
    let posture = report.and_then(|it| it.posture).and_then(|it| it.posture);
    let found = |it: &Loaded| review::report(machine, it, false).ok();
    let findings = policy.as_ref().and_then(found).map(|it| it.findings.len());
    let targets = policy.as_ref().map(probes::asked_for).unwrap_or_default();
    Known { of, when: Instant::now(), in_force, drift, posture, findings, targets }
}
