//! A host takes what it is told to: verified, enforced with a way back, and kept only if the carrier is still reached.

use super::carrier::{Carrier, Shelf};
use super::in_force::{Why, in_force, policy_of, rehearsed};
use super::kept::{self, Member};
use super::order::{Numbered, Order};
use super::place::Place;
use super::restored::restore;
use super::standing::{Has, Highest, NotTaken, Standing};
use super::taken::{REHEARSAL, Taken, WENT_BACK, not_taken, nothing};
use super::trust::{Accepted, Trust};
use crate::store::{Home, Seen};
use crate::vocabulary as say;
use crate::{Failure, Loaded};
use tipstaff_core::policy::Time;
use tipstaff_linux::Machine;

/// How it is to be taken.
#[derive(Clone, Copy, Debug, Default)]
pub struct How {
    /// Whether what somebody changed on this machine is given up.
    pub over_local: bool,
    /// Whether it is tried again although it went back in the same attempt at rolling it out.
    pub again: bool,
}

/// Takes what this host is told to by the last order of a carrier.
///
/// # Errors
/// [`Failure`] if the carrier, the list of who may sign, or what is kept cannot be read; or if it is not known what
/// became of it.
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
    let Some((_, order)) = wanted else {
        return match how.over_local {
            true => restore(machine, home, trust, &place, member),
            false => Ok(nothing(member, None)),
        };
    };
    let number = order.number;
    let has = member.has.as_ref().is_some_and(|it| it.number == number);
    if has && !how.over_local {
        return Ok(nothing(member, Some(number)));
    }
    // Whatever else kept it from being taken may be over; to be shut off again and again helps nobody.
    let for_good = |it: &NotTaken| {
        it.number == number
            && it.attempt == order.attempt
            && [WENT_BACK, REHEARSAL].contains(&&*it.code)
    };
    if let Some(refused) = member.refused.clone().filter(|it| for_good(it) && !how.again) {
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
    let said = said(carrier, &place.host, &trust.fleet)?;
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
    // Where no lab can be made, the kernel still has to hold what it is given.
    let not_rehearsed = match rehearsed(machine, &policy) {
        Ok(None) => None,
        Ok(Some(why)) => return telling.refuse(REHEARSAL, why),
        Err(failure) => Some(failure.line()),
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
    Ok(Taken {
        done: say::Took::Taken,
        number,
        has: Some(has),
        refused: None,
        not_rehearsed,
        not_said: None,
        effects,
    })
}

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

/// What this host said at the carrier that it has seen, before its disk was perhaps brought back from a copy.
pub(super) fn said(
    carrier: &dyn Carrier,
    host: &str,
    fleet: &str,
) -> Result<Option<Seen>, Failure> {
    let Some(word) = carrier.word_of(host)? else { return Ok(None) };
    // What is no word of ours is told of elsewhere, and forbids nothing.
    let word: Option<Standing> = serde_json::from_slice(&word).ok();
    let word = word.filter(|it| it.host == host && it.fleet == fleet);
    let of = |it: Highest| Seen { fleet: fleet.into(), sequence: it.number, sha256: it.sha256 };
    let all = word.map(|it| it.has.as_ref().map(Has::as_seen).into_iter().chain(it.seen));
    Ok(all.into_iter().flatten().map(of).max_by_key(|it| it.sequence))
}

/// What it means for this machine.
fn policy(machine: &dyn Machine, place: &Place, accepted: &Accepted) -> Result<Loaded, Why> {
    let opened = &accepted.opened;
    let sealed = Time::parse(&opened.statement.sealed).unwrap_or_else(crate::now);
    policy_of(machine, place, &opened.policy, sealed)
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
