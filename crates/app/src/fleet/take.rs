//! A host takes what it is told to: verified, enforced with a way back, and kept only if the carrier is still reached.

use super::carrier::{Carrier, Shelf, is_host};
use super::carriers::CarrierName;
use super::kept::{self, Member};
use super::order::{self, Numbered, Order};
use super::packed;
use super::standing::{Has, NotTaken, Standing};
use super::trust::{Accepted, Trust};
use crate::effect::Effects;
use crate::load::{load_vouched, name_of_this_machine};
use crate::store::{Docket, Home, Seen, State, digest, pending};
use crate::transaction::{self, FOR_A_BOOT, Options};
use crate::vocabulary as say;
use crate::{Failure, Loaded, Outcome};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::mpsc::channel;
use std::time::Duration;
use tipstaff_core::policy::Time;
use tipstaff_linux::Machine;

/// How long the way back is.
const WITHIN: Duration = Duration::from_secs(60);
/// It took it, and shut itself off with it.
pub(super) const WENT_BACK: &str = "went-back";
/// Within this time the carrier must be reached.
const REACHED: Duration = Duration::from_secs(20);

/// What became of what a host was told to take.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Taken {
    /// What was done: `taken`, `nothing-new`, `refused`.
    pub done: say::Took,
    /// The number of the sealed bundle; `null` if this host is told to take none.
    pub number: Option<u64>,
    /// What it has now.
    pub has: Option<Has>,
    /// Why it was not taken.
    pub refused: Option<NotTaken>,
    /// What it changed for packets, if it was taken.
    #[serde(flatten)]
    pub effects: Effects,
}

impl Taken {
    /// Whether it was, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.done == say::Took::Refused { Outcome::Found } else { Outcome::Fine }
    }
}

/// Who takes, and where.
#[derive(Clone, Debug)]
pub(super) struct Place {
    /// The name of the machine in the fleet.
    pub host: String,
    /// The folder of the policy.
    pub policy: PathBuf,
}

impl Place {
    /// Of this machine.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be a member.
    pub(super) fn of(home: &Home) -> Result<Self, Failure> {
        let (policy, host) = home.policy.clone().unwrap_or_default();
        let host = host.unwrap_or_else(name_of_this_machine);
        if !is_host(&host) {
            let message = format!("a member of a fleet cannot be called `{}`", host.escape_debug());
            return Err(Failure::usage(message, "--host gives it another name"));
        }
        kept::must_be_a_folder(&policy)?;
        Ok(Self { host, policy })
    }
}

/// How it is to be taken.
#[derive(Clone, Copy, Debug, Default)]
pub struct How {
    /// Whether what somebody changed on this machine is given up.
    pub over_local: bool,
    /// Whether it is tried again although it went back in the same attempt at rolling it out.
    pub again: bool,
}

/// Takes what this host is told to, once.
///
/// # Errors
/// [`Failure`] if the carrier, the list of who may sign, or what is kept cannot be read; or if it is not known what
/// became of it.
pub fn take(machine: &dyn Machine, home: &Home, trust: &Trust, how: How) -> Result<Taken, Failure> {
    let carrier = trust.carrier.open()?;
    let order = order::last(&*carrier)?;
    take_from(&*carrier, order.as_ref(), machine, home, (trust, how))
}

/// Likewise, by the last order of a carrier that is spoken to already.
pub(super) fn take_from(
    carrier: &dyn Carrier,
    order: Option<&Numbered>,
    machine: &dyn Machine,
    home: &Home,
    (trust, how): (&Trust, How),
) -> Result<Taken, Failure> {
    trust.must_have_a_name()?;
    let place = Place::of(home)?;
    let member = Member::read(home)?;
    let wanted = order.filter(|it| !it.1.held && it.1.is_for(&place.host));
    let Some((_, order)) = wanted else { return Ok(nothing(member, None)) };
    let number = order.number;
    let has = member.has.as_ref().is_some_and(|it| it.number == number);
    if has && !how.over_local {
        return Ok(nothing(member, Some(number)));
    }
    // Whatever else kept it from being taken may be over; to be shut off again and again helps nobody.
    let went_back =
        |it: &NotTaken| it.number == number && it.attempt == order.attempt && it.code == WENT_BACK;
    if let Some(refused) = member.refused.clone().filter(|it| went_back(it) && !how.again) {
        return Ok(not_taken(member.has, refused));
    }
    let telling = Telling { home, member: &member, order };
    if !how.over_local && kept::changed_here(home, &place.policy)? {
        let why =
            format!("its policy in {} was changed on the machine itself", place.policy.display());
        return telling.refuse("changed-here", why);
    }
    let Some(bytes) = carrier.read(Shelf::Sealed, number)? else {
        return telling.refuse("missing", format!("number {number} is not at the carrier"));
    };
    let said = said(carrier, &place.host, trust)?;
    let accepted = match accepted(home, trust, (number, &bytes), said)? {
        Ok(accepted) => accepted,
        Err((code, why)) => return telling.refuse(code, why),
    };
    // Seen is seen, whatever becomes of it.
    let sha256 = accepted.digest.clone();
    Seen { fleet: trust.fleet.clone(), sequence: number, sha256 }.write(home)?;
    let policy = match policy(machine, &place, &accepted) {
        Ok(policy) => policy,
        Err((code, why)) => return telling.refuse(code, why),
    };
    let effects = match in_force(machine, home, trust, &place, &policy) {
        Ok(Ok(effects)) => effects,
        Ok(Err((code, why))) => return telling.refuse(code, why),
        Err(failure) => {
            telling.refuse("failed", failure.line())?;
            return Err(failure);
        }
    };
    let has = kept::put(home, &place.policy, (number, &bytes), &accepted.opened.policy)?;
    Member { has: Some(has.clone()), refused: None }.write(home)?;
    let number = Some(number);
    Ok(Taken { done: say::Took::Taken, number, has: Some(has), refused: None, effects })
}

/// A word for why something is not taken, and a sentence.
type Why = (&'static str, String);

/// What a sealed bundle has, if this host may take it.
fn accepted(
    home: &Home,
    trust: &Trust,
    (number, bytes): (u64, &[u8]),
    said: Option<Seen>,
) -> Result<Result<Accepted, Why>, Failure> {
    let signers = trust.signers()?;
    let seen = Seen::read(home, &trust.fleet)?.into_iter().chain(said);
    let seen = seen.max_by_key(|it| it.sequence);
    let last = seen.as_ref().map(|it| (it.sequence, it.sha256.as_str()));
    let accepted = trust.open(bytes, &signers).and_then(|it| {
        it.opened.follows(&it.digest, last)?;
        Ok(it)
    });
    Ok(match accepted {
        Ok(it) if it.opened.statement.sequence == number => Ok(it),
        Ok(_) => Err(("another-number", "its number is not the one it is named by".into())),
        Err(refusal) => Err((refusal.code(), refusal.to_string())),
    })
}

/// What this host said at the carrier that it has, before its disk was perhaps brought back from a copy.
fn said(carrier: &dyn Carrier, host: &str, trust: &Trust) -> Result<Option<Seen>, Failure> {
    let Some(word) = carrier.word_of(host)? else { return Ok(None) };
    // What is no word of ours is told of elsewhere, and forbids nothing.
    let word: Option<Standing> = serde_json::from_slice(&word).ok();
    let word = word.filter(|it| it.host == host && it.fleet == trust.fleet);
    let seen =
        |has: Has| Seen { fleet: trust.fleet.clone(), sequence: has.number, sha256: has.sha256 };
    Ok(word.and_then(|it| it.has).map(seen))
}

/// What it means for this machine.
fn policy(machine: &dyn Machine, place: &Place, accepted: &Accepted) -> Result<Loaded, Why> {
    let opened = &accepted.opened;
    let sources = packed::sources_at(&opened.policy, &place.policy);
    let sources = sources.map_err(|why| ("not-a-policy", why))?;
    let sealed = Time::parse(&opened.statement.sealed).unwrap_or_else(crate::now);
    let shown = place.policy.display().to_string();
    load_vouched(machine, &shown, sources, &place.host, sealed)
        .map_err(|failure| ("not-for-this-host", failure.line()))
}

/// Puts it in force, with the way back, and keeps it if the carrier is still reached.
fn in_force(
    machine: &dyn Machine,
    home: &Home,
    trust: &Trust,
    place: &Place,
    policy: &Loaded,
) -> Result<Result<Effects, Why>, Failure> {
    let options = Options {
        machine,
        home,
        keep: false,
        within: WITHIN,
        dry: false,
        without_programs: false,
        even_if_locked_out: false,
        not_this_machine: false,
        all: false,
        log_for: None,
        posture: None,
        boot_memory: FOR_A_BOOT,
        tell: None,
    };
    if waits(home, policy) {
        // Somebody was ended who had put it in force: what is left to do is to see whether it stays.
        return Ok(match stays(machine, home, &trust.carrier, &place.host) {
            Ok(()) => Ok(Effects { changes_known: true, ..Effects::default() }),
            Err(why) => {
                transaction::revert_pending(machine, home)?;
                Err((WENT_BACK, why))
            }
        });
    }
    let report = match transaction::enforce(policy, &options) {
        Ok(report) => report,
        Err(failure @ Failure::System { .. }) => return Err(failure),
        Err(failure) => return Ok(Err(("stopped", failure.line()))),
    };
    if report.confirm_within.is_some()
        && let Err(why) = stays(machine, home, &trust.carrier, &place.host)
    {
        transaction::revert_pending(machine, home)?;
        return Ok(Err((WENT_BACK, why)));
    }
    Ok(Ok(report.effects))
}

/// Whether what waits to be confirmed is just that policy.
fn waits(home: &Home, policy: &Loaded) -> bool {
    let Ok(Some(waits)) = pending(home) else { return false };
    let entry = Docket::look(home).ok().and_then(|it| it.entry(waits.id).cloned());
    let its = digest(&policy.plan.host, &policy.sources).0;
    entry.is_some_and(|it| it.policy.as_ref() == Some(&its) && it.state == State::Pending)
}

/// Confirms what waits, if the carrier is still reached: something is really written there, in a thread of its own that
/// may never come back.
fn stays(
    machine: &dyn Machine,
    home: &Home,
    carrier: &CarrierName,
    host: &str,
) -> Result<(), String> {
    let (tell, told) = channel();
    // What begins with a dot is no host's word.
    let (carrier, name) = (carrier.clone(), format!(".{host}.reached"));
    std::thread::spawn(move || {
        // Spoken to anew: a connection of before says nothing.
        let told = carrier.open().and_then(|it| it.tell(&name, b"{}\n"));
        let _ = tell.send(told.map_err(|it| it.line()));
    });
    match told.recv_timeout(REACHED) {
        Ok(Ok(())) => {}
        Ok(Err(why)) => return Err(format!("with it the carrier is not reached: {why}")),
        Err(_) => {
            let seconds = REACHED.as_secs();
            return Err(format!("with it the carrier is not reached within {seconds} seconds"));
        }
    }
    let confirmed = transaction::confirm(machine, home, false);
    confirmed.map(|_| ()).map_err(|failure| failure.line())
}

fn nothing(member: Member, number: Option<u64>) -> Taken {
    let effects = Effects { changes_known: true, ..Effects::default() };
    Taken { done: say::Took::NothingNew, number, has: member.has, refused: None, effects }
}

fn not_taken(has: Option<Has>, refused: NotTaken) -> Taken {
    let effects = Effects { changes_known: true, ..Effects::default() };
    let number = Some(refused.number);
    Taken { done: say::Took::Refused, number, has, refused: Some(refused), effects }
}

/// What is needed to say why something is not taken.
struct Telling<'t> {
    home: &'t Home,
    member: &'t Member,
    order: &'t Order,
}

impl Telling<'_> {
    /// Keeps why it is not taken, so that it is not tried over and over.
    fn refuse(&self, code: &str, why: String) -> Result<Taken, Failure> {
        let (number, code) = (self.order.number, code.to_owned());
        let refused = NotTaken { number, attempt: self.order.attempt, code, why };
        let has = self.member.has.clone();
        let member = Member { has: has.clone(), refused: Some(refused.clone()) };
        if member != *self.member {
            member.write(self.home)?;
        }
        Ok(not_taken(has, refused))
    }
}
