//! What a host says of itself at the carrier, and when.

use super::carrier::Carrier;
use super::kept::{self, Member, changed_here};
use super::order::{self, Numbered};
use super::standing::Standing;
use super::take::{How, Place, Taken, take_from};
use super::trust::Trust;
use crate::load::load_vouched;
use crate::store::{Home, docket_stamp};
use crate::vocabulary as say;
use crate::{Failure, Loaded, load_here, now, review, status};
use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant, SystemTime};
use tipstaff_linux::Machine;

/// So long it is slept at a time.
const SHORT: Duration = Duration::from_millis(20);
const SOON: Duration = Duration::from_millis(500);
/// How often it is looked at the carrier.
const LOOK: Duration = Duration::from_secs(5);
/// Where the carrier is not reached, or something was refused, it is tried again after so long.
const AGAIN: Duration = Duration::from_secs(20);
/// Where only somebody changed rules in the kernel, it is looked no more often than so whether ours are still there.
const BETWEEN: Duration = Duration::from_secs(15);
/// So often a host says how it stands though nothing has changed.
const ANYWAY: Duration = Duration::from_secs(60);
/// It has so long for it before it counts as silent.
const PATIENCE: u64 = 180;

/// A member of a fleet that stays.
#[derive(Debug)]
struct Attending {
    trust: Trust,
    /// Spoken to all the time: to begin anew every time is what costs a store most.
    carrier: Option<Box<dyn Carrier + Send>>,
    /// The last order that was read.
    order: Option<Numbered>,
    look: Instant,
    told: Option<(Standing, Instant)>,
    known: Option<Known>,
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
}

/// While this stays, what the kernel's rules are compared with the policy stays.
type Depends = (Option<u32>, Option<(SystemTime, u64)>, Member, bool);

/// Takes what this host is told to, and says how it stands, until that is `over`; hands over what happened.
pub(crate) fn stay(
    machine: &dyn Machine,
    home: &Home,
    trust: Trust,
    over: &AtomicBool,
    to: &Sender<Result<Taken, Failure>>,
) {
    let mut attending = Attending::of(trust);
    while !over.load(Ordering::Relaxed) {
        let happened = attending.see_to(machine, home).transpose();
        // Whoever no longer listens ends it.
        if happened.is_some_and(|it| to.send(it).is_err()) {
            return;
        }
        std::thread::sleep(attending.next().clamp(SHORT, SOON));
    }
}

impl Attending {
    fn of(trust: Trust) -> Self {
        let look = Instant::now() + spread(LOOK);
        Self { trust, carrier: None, order: None, look, told: None, known: None }
    }

    /// How soon there is something to do.
    fn next(&self) -> Duration {
        self.look.saturating_duration_since(Instant::now())
    }

    /// Takes what this host is told to, and says how it stands.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be done now.
    fn see_to(&mut self, machine: &dyn Machine, home: &Home) -> Result<Option<Taken>, Failure> {
        if !self.next().is_zero() {
            return Ok(None);
        }
        self.look = Instant::now() + AGAIN + spread(AGAIN);
        let before = Member::read(home)?.refused;
        let carrier = match self.carrier.take() {
            Some(carrier) => carrier,
            None => self.trust.carrier.open()?,
        };
        let order = order::last_but(&*carrier, self.order.take());
        let took = order.and_then(|order| {
            self.order = order;
            let how = (&self.trust, How::default());
            take_from(&*carrier, self.order.as_ref(), machine, home, how)
        });
        // Whether it went well or not: who looks on wants to know.
        let trouble = took.as_ref().err().map(Failure::line);
        self.say(&*carrier, machine, home, trouble)?;
        self.carrier = Some(carrier);
        let taken = took?;
        let news = match taken.done {
            say::Took::Taken => true,
            say::Took::NothingNew => false,
            say::Took::Refused => taken.refused != before,
        };
        if taken.done != say::Took::Refused {
            self.look = Instant::now() + LOOK + spread(LOOK);
        }
        Ok(news.then_some(taken))
    }

    /// Says how this host stands, if that is news, or was not said for long.
    fn say(
        &mut self,
        carrier: &dyn Carrier,
        machine: &dyn Machine,
        home: &Home,
        trouble: Option<String>,
    ) -> Result<(), Failure> {
        let place = Place::of(home)?;
        let standing = Standing { trouble, ..self.standing(machine, home, &place)? };
        let same = |it: &(Standing, Instant)| {
            it.1.elapsed() < ANYWAY
                && Standing { at: standing.at.clone(), ..it.0.clone() } == standing
        };
        if self.told.as_ref().is_some_and(same) {
            return Ok(());
        }
        let word = serde_json::to_vec_pretty(&standing).unwrap_or_default();
        carrier.tell(&place.host, &word)?;
        self.told = Some((standing, Instant::now()));
        Ok(())
    }

    fn standing(
        &mut self,
        machine: &dyn Machine,
        home: &Home,
        place: &Place,
    ) -> Result<Standing, Failure> {
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
        let known = self.known.as_ref();
        Ok(Standing {
            host: place.host.clone(),
            fleet: self.trust.fleet.clone(),
            at: now().to_string(),
            again: PATIENCE,
            has: depends.2.has,
            in_force: known.and_then(|it| it.in_force),
            drift: known.and_then(|it| it.drift.clone()),
            posture: known.and_then(|it| it.posture.clone()),
            changed_here,
            refused: depends.2.refused,
            trouble: None,
            findings: known.and_then(|it| it.findings),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            kernel: rustix::system::uname().release().to_string_lossy().into_owned(),
        })
    }
}

/// Up to a quarter of it, by chance: not all hosts at the same moment.
fn spread(most: Duration) -> Duration {
    let chance = RandomState::new().build_hasher().finish();
    most.mul_f64(0.25 * (chance % 1_000) as f64 / 1_000.0)
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
    Known { of, when: Instant::now(), in_force, drift, posture, findings }
}
