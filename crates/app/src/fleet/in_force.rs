//! A host puts in force what it is to take, with a way back, and keeps it if the carrier is still reached.

use super::carriers::CarrierName;
use super::packed::{self, Files};
use super::place::Place;
use super::probes::{self, Target};
use super::taken::WENT_BACK;
use super::trust::Trust;
use crate::effect::Effects;
use crate::load::load_vouched;
use crate::rehearse::{self, Request};
use crate::store::{Docket, Home, State, digest, pending};
use crate::transaction::{self, FOR_A_BOOT, Options};
use crate::{Failure, Loaded};
use std::sync::mpsc::channel;
use std::time::Duration;
use tipstaff_core::policy::Time;
use tipstaff_linux::Machine;

/// How long the way back is.
const WITHIN: Duration = Duration::from_secs(60);
/// Within this time the carrier must be reached.
const REACHED: Duration = Duration::from_secs(20);

/// More decisions than this are not rehearsed: a host that says nothing for minutes counts as one that does not take it.
const REHEARSED: usize = 300;

/// A word for why something is not taken, and a sentence.
pub(super) type Why = (&'static str, String);

/// What files mean for this machine.
pub(super) fn policy_of(
    machine: &dyn Machine,
    place: &Place,
    files: &Files,
    sealed: Time,
) -> Result<Loaded, Why> {
    let sources = packed::sources_at(files, &place.policy);
    let sources = sources.map_err(|why| ("not-a-policy", why))?;
    let shown = place.policy.display().to_string();
    load_vouched(machine, &shown, sources, &place.host, sealed)
        .map_err(|failure| ("not-for-this-host", failure.line()))
}

/// Whether real packets in a sealed lab meet what the policy says; if not, an example.
pub(super) fn rehearsed(machine: &dyn Machine, policy: &Loaded) -> Result<Option<String>, Failure> {
    let decisions: usize = policy.plan.chains.iter().map(|it| it.decisions.len()).sum();
    if decisions > REHEARSED {
        let message = format!("{decisions} decisions take too long to rehearse on a host");
        return Err(Failure::stopped(message, vec!["`tipstaff rehearse` does that".into()]));
    }
    let request = Request { live: false, from: &[], traffic: None, quick: true, instead: None };
    let found = match rehearse::report(machine, policy, &request, &|_, _| {}) {
        // Nothing to try is nothing that disagrees.
        Err(Failure::Usage { .. }) => return Ok(None),
        found => found?,
    };
    let example = || {
        let witness = found.witnesses.first().map(|it| {
            let of = &it.packet;
            format!(
                ", such as {} from {} to {}: {}",
                of.protocol, of.source, of.destination, it.met
            )
        });
        let witness = witness.unwrap_or_default();
        let many = found.disagreements;
        format!("in a lab of this kernel {many} packets did not meet what it says{witness}")
    };
    Ok((found.disagreements > 0).then(example))
}

/// Puts it in force, with the way back, and keeps it if the carrier is still reached.
pub(super) fn in_force(
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
        return Ok(match stays(machine, home, (&trust.carrier, &place.host), &[]) {
            Ok(()) => Ok(Effects { changes_known: true, ..Effects::default() }),
            Err(why) => {
                transaction::revert_pending(machine, home)?;
                Err((WENT_BACK, why))
            }
        });
    }
    // What did not answer before either is nothing that it breaks.
    let answered = probes::answered(probes::asked_for(policy));
    let report = match transaction::enforce(policy, &options) {
        Ok(report) => report,
        Err(failure @ Failure::System { .. }) => return Err(failure),
        Err(failure) => return Ok(Err(("stopped", failure.line()))),
    };
    if report.confirm_within.is_some()
        && let Err(why) = stays(machine, home, (&trust.carrier, &place.host), &answered)
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

/// Confirms what waits, if the carrier is still reached and what answered still does: something is really written there, in
/// a thread of its own that may never come back.
fn stays(
    machine: &dyn Machine,
    home: &Home,
    (carrier, host): (&CarrierName, &str),
    answered: &[Target],
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
    if let Some(not_any_more) = probes::unanswered(answered).first() {
        return Err(format!("with it {}", not_any_more.line()));
    }
    let confirmed = transaction::confirm(machine, home, false);
    confirmed.map(|_| ()).map_err(|failure| failure.line())
}
