//! Connections that live on though the rules in force would not admit them any more.
//!
//! Which they are is told by the kernel's list of sockets, which is exact for TCP, and beside it by
//! connection tracking, for all that has no socket of its own here.

mod found;
mod judge;

pub use found::Living;
pub(crate) use judge::CLIENT_PORTS;

use crate::{Failure, Outcome, now};
use found::Found;
use judge::found;
use serde::Serialize;
use std::collections::HashSet;
use tipstaff_core::plan::{RuleId, TURNED_AWAY};
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::ruleset::{Tuple, keep_quiet};
use tipstaff_linux::{Machine, Protocol};

/// What lives on, and what was ended.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose rules are in force.
    pub host: String,
    /// Whether they were to be ended.
    pub cut: bool,
    /// The connections that the rules in force would not admit.
    pub living: Vec<Living>,
    /// What could not be looked at: connections of it may live on too.
    pub unknown: Vec<String>,
}

impl Report {
    /// How it ended: well, unless something goes on that was to be ended.
    pub fn outcome(&self) -> Outcome {
        let left = self.living.iter().any(|it| it.ended == Some(false) && !it.own_session);
        if left { Outcome::Found } else { Outcome::Fine }
    }
}

/// Which of the connections that the rules in force would not admit are to be ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// None: they are only listed.
    None,
    /// Those of addresses that are turned away; others are not listed either.
    OfTurnedAway,
    /// All of them.
    All,
}

/// Finds the connections that the rules in force would not admit, and ends those that are to be ended.
/// Listening sockets are never touched.
///
/// # Errors
/// [`Failure`] if no rules are in force, or the kernel does not let us look.
pub fn report(machine: &dyn Machine, ends: End) -> Result<Report, Failure> {
    let held = machine.rules()?.filter(|it| !it.dormant);
    let Some(held) = held else {
        return Err(Failure::Stopped {
            message: "no rules are in force, so all that lives on is admitted".into(),
            help: vec!["`tipstaff enforce` puts rules in force".into()],
        });
    };
    // What has ended by now decides nothing.
    let (mut found, unknown) = found(machine, &held.program.at(now()))?;
    if ends == End::OfTurnedAway {
        let by = RuleId::baseline(TURNED_AWAY).to_string();
        found.retain(|it| it.living.by == by);
    }
    if ends != End::None {
        end(machine, &mut found)?;
    }
    let living = found.into_iter().map(|it| it.living).collect();
    Ok(Report { host: held.host, cut: ends != End::None, living, unknown })
}

/// Finds the connections that the rules in force would not admit, and that those before did; ends them if wished.
///
/// # Errors
/// As for [`report`].
pub fn admitted_only_before(
    machine: &dyn Machine,
    before: &RuleProgram,
    cut: bool,
) -> Result<Report, Failure> {
    let Some(held) = machine.rules()?.filter(|it| !it.dormant) else {
        return Err(Failure::stopped("no rules are in force", Vec::new()));
    };
    let (mut found, unknown) = found(machine, &held.program.at(now()))?;
    let which = |it: &Living| (it.direction, it.traffic.clone(), it.from, it.to);
    let not_before: HashSet<_> =
        self::found(machine, before)?.0.iter().map(|it| which(&it.living)).collect();
    found.retain(|it| !not_before.contains(&which(&it.living)));
    if cut {
        end(machine, &mut found)?;
    }
    let living = found.into_iter().map(|it| it.living).collect();
    Ok(Report { host: held.host, cut, living, unknown })
}

/// How many connections live on that the rules would not admit.
///
/// # Errors
/// As for [`report`].
pub fn count(machine: &dyn Machine, rules: &RuleProgram) -> Result<usize, Failure> {
    Ok(found(machine, rules)?.0.len())
}

fn end(machine: &dyn Machine, found: &mut [Found]) -> Result<(), Failure> {
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    let mut diagnosis = machine.channel(Protocol::SocketDiagnosis)?;
    // First nothing of them passes any more; else a packet could begin them anew in between.
    let others = || found.iter().filter(|it| !it.living.own_session);
    let quiet: Vec<Tuple> =
        others().filter(|it| !it.is_own_tcp()).flat_map(|it| it.tuples.clone()).collect();
    let quieted = keep_quiet(&mut kernel, &quiet).map_err(|error| error.to_string());
    for it in found.iter_mut() {
        if it.living.own_session {
            it.living.ended = Some(false);
            continue;
        }
        let ended = it.end(&mut kernel, &mut diagnosis, quieted.as_ref().err());
        it.living.ended = Some(ended.is_ok());
        it.living.why_not = ended.err();
    }
    Ok(())
}
