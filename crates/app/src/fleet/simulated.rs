//! Many members in one process, without kernels: all that they ask of a store is what real ones do.

use super::asking::{Met, Try};
use super::carrier::{Carrier, Shelf};
use super::member::Body;
use super::order::Numbered;
use super::packed;
use super::standing::{Has, NotTaken, Standing};
use super::taken::Taken;
use super::trust::Trust;
use super::word::{self, PATIENCE};
use crate::effect::Effects;
use crate::vocabulary as say;
use crate::{Failure, now};
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::Sender;
use std::thread::{Builder, JoinHandle};
use std::time::Duration;
use tipstaff_core::plan::resolve;

/// So much stack is enough for a member.
const STACK: usize = 512 * 1024;

/// So long after each other they begin.
const APART: Duration = Duration::from_millis(40);

/// A member without a kernel.
struct Made {
    host: String,
    has: Option<Has>,
    refused: Option<NotTaken>,
    /// Every so many members work out what the policy means for them; it is the same work for all.
    resolves: bool,
}

/// Has members of those names attend, until that is `over`; tells what they took. The first of them works out what its
/// policy means.
///
/// # Errors
/// The system's, if there can be no more threads.
pub fn simulate(
    trust: &Trust,
    hosts: &[String],
    over: &'static AtomicBool,
    took: &Sender<Result<Taken, Failure>>,
) -> std::io::Result<Vec<JoinHandle<()>>> {
    let begin = |(at, host): (usize, &String)| {
        let (trust, took) = (trust.clone(), took.clone());
        let body = Made { host: host.clone(), has: None, refused: None, resolves: at == 0 };
        let builder = Builder::new().stack_size(STACK);
        // No fleet begins in one instant.
        std::thread::sleep(APART);
        builder.spawn(move || word::stay(body, trust, over, &took))
    };
    hosts.iter().enumerate().map(begin).collect()
}

impl Body for Made {
    fn name(&self) -> Result<String, Failure> {
        Ok(self.host.clone())
    }

    fn refused(&self) -> Result<Option<NotTaken>, Failure> {
        Ok(self.refused.clone())
    }

    fn take(
        &mut self,
        carrier: &dyn Carrier,
        order: Option<&Numbered>,
        trust: &Trust,
    ) -> Result<Taken, Failure> {
        let effects = Effects { changes_known: true, ..Effects::default() };
        let nothing = |has| Taken {
            done: say::Took::NothingNew,
            number: None,
            has,
            refused: None,
            not_rehearsed: None,
            not_said: None,
            effects,
        };
        let had = self.has.as_ref().map(|it| it.number);
        let wanted = order.filter(|it| !it.1.held && it.1.is_for(&self.host));
        let Some((_, order)) = wanted.filter(|it| Some(it.1.number) != had) else {
            return Ok(nothing(self.has.clone()));
        };
        let bytes = carrier.read(Shelf::Sealed, order.number)?.unwrap_or_default();
        let wrong = |why: String| Failure::usage(why, "this is a simulation");
        let accepted = trust.open(&bytes, &trust.signers()?).map_err(|it| wrong(it.to_string()))?;
        if self.resolves {
            let policy = packed::policy(packed::sources(&accepted.opened.policy).map_err(wrong)?)?;
            resolve(&policy, &self.host, now())?;
        }
        // As a real one tries whether it is still reached: by a connection of its own.
        trust.carrier.open()?.tell(&format!(".{}.reached", self.host), b"{}\n")?;
        let (number, sha256) = (order.number, accepted.digest);
        let has = Some(Has { number, sha256, since: now().to_string() });
        self.has.clone_from(&has);
        let done = say::Took::Taken;
        Ok(Taken { done, number: Some(number), has, ..nothing(None) })
    }

    fn standing(&mut self, _: &dyn Carrier, fleet: &str) -> Result<Standing, Failure> {
        Ok(Standing {
            host: self.host.clone(),
            fleet: fleet.to_owned(),
            at: now().to_string(),
            again: PATIENCE,
            has: self.has.clone(),
            seen: self.has.as_ref().map(Has::as_seen),
            // As where rules were in force before it was a member: its connections go on.
            in_force: Some(true),
            drift: None,
            posture: None,
            changed_here: false,
            refused: self.refused.clone(),
            trouble: None,
            unanswered: Vec::new(),
            findings: Some(0),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            kernel: "6.12.0".to_owned(),
        })
    }

    fn answers(&mut self, _: &[Try]) -> Result<Vec<Met>, Failure> {
        Ok(Vec::new())
    }
}
