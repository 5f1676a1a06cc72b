//! Postures that hold by themselves, by where the machine is.

use super::change::carry_out;
use super::memory::FOR_A_BOOT;
use super::over::behind;
use super::request::Options;
use crate::cut;
use crate::store::{Docket, Entry, Home, InPosture, Kind, pending};
use crate::{Failure, Loaded};
use serde::Serialize;
use std::time::Duration;
use tipstaff_core::policy::{Taken, Whereabouts};
use tipstaff_linux::Machine;

/// A posture that was taken by itself.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Followed {
    /// Its name.
    pub posture: String,
    /// The one that was in force before; `null`: none was.
    pub before: Option<String>,
    /// What could not be done about what only that one admitted, as a whole sentence.
    pub trouble: Option<String>,
}

/// The entry that is in force, if postures of its policy hold by themselves and none was taken by hand.
pub(super) fn by_place(home: &Home) -> Option<Entry> {
    let written = Docket::look(home).ok()?;
    let last = written.confirmed().filter(|it| it.by_place)?;
    // What waits to be confirmed is somebody's, who sits there.
    let waits = pending(home).map_or(true, |it| it.is_some());
    let by_hand = last.posture.as_ref().is_some_and(|it| {
        let goes_on =
            it.by_now(last.situation().is_of_this_boot(), crate::now(), super::since_boot());
        goes_on.is_some_and(|it| it.by_hand)
    });
    (!waits && !by_hand).then(|| last.clone())
}

/// The posture that holds by itself where this machine is, of such an entry's policy. Where that cannot be told, the one
/// that holds where nothing is known.
pub(super) fn posture_here(machine: &dyn Machine, policy: &Loaded) -> Option<Taken> {
    let section = policy.section()?;
    let seen = machine.whereabouts().unwrap_or_else(|_| Whereabouts::default());
    let name = section.posture_at(&seen)?.to_owned();
    let elsewhere = section.at_boot.as_ref() == Some(&name);
    let why = match elsewhere {
        true => "by itself: this machine is nowhere that is known",
        false => "by itself: this machine is where it belongs",
    };
    Some(Taken { name, since: policy.now, until: None, why: why.into(), then: None })
}

/// Takes the posture that belongs to where this machine is, in one batch, and ends what only the one before admitted.
/// Gives `None` if that is in force, if none holds by itself, or if somebody has taken one by hand.
///
/// # Errors
/// [`Failure`] as for `enforce`; then the one before still holds.
pub fn follow(machine: &dyn Machine, home: &Home) -> Result<Option<Followed>, Failure> {
    let Some(last) = by_place(home) else { return Ok(None) };
    let mut policy = behind(machine, home, &last, None)?;
    let Some(taken) = posture_here(machine, &policy) else { return Ok(None) };
    let now = policy.now;
    // Mostly it is in force, which is asked at less cost than all rules.
    let held = machine.posture()?.and_then(|it| it.1.at(now).map(|it| it.name.clone()));
    if held.as_ref() == Some(&taken.name) {
        return Ok(None);
    }
    let Some(held) = machine.rules()?.filter(|it| !it.dormant) else { return Ok(None) };
    let before = held.program.taken.as_ref().and_then(|it| it.at(now));
    if before.is_some_and(|it| it.name == taken.name) || held.host != policy.plan.host {
        return Ok(None);
    }
    let before = before.map(|it| it.name.clone());
    policy.take(&taken)?;
    policy.place(machine)?;
    let posture = InPosture::of(&taken);
    let options = Options {
        machine,
        home,
        keep: true,
        within: Duration::ZERO,
        dry: false,
        without_programs: last.without_programs,
        // Whoever came by the network that was left cannot be asked any more.
        even_if_locked_out: true,
        not_this_machine: true,
        all: false,
        log_for: None,
        posture: Some(&posture),
        boot_memory: FOR_A_BOOT,
        tell: None,
    };
    match carry_out(&policy, &options, Kind::Take, Some(last.id)) {
        Ok(_) => {}
        // Somebody was faster: what belongs there now is asked the next time.
        Err(Failure::Stopped { .. }) if by_place(home).is_none_or(|it| it.id != last.id) => {
            return Ok(None);
        }
        Err(failure) => return Err(failure),
    }
    let ended = cut::admitted_only_before(machine, &held.program.at(now), true);
    let trouble = ended.err().map(|it| {
        format!("what only the posture before admitted could not be ended: {}", it.line())
    });
    Ok(Some(Followed { posture: taken.name, before, trouble }))
}
