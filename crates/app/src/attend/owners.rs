//! Programs that rules name: whose files are replaced, and whose sockets are handed over.

use crate::Failure;
use crate::programs::{self, Program, Report};
use crate::store::Home;
use std::collections::BTreeSet;
use std::path::PathBuf;
use tipstaff_linux::ruleset::{self, Marks};
use tipstaff_linux::{Machine, Protocol};

/// What is known of them.
#[derive(Default)]
pub(super) struct Owners {
    /// What the rules say, as of when: they are read only if they have changed.
    held: Option<(u32, Option<String>, Marks)>,
    /// Which processes run which of them.
    running: Option<Vec<(String, Vec<u32>)>>,
    files: BTreeSet<PathBuf>,
}

impl Owners {
    /// The files by which rules name them.
    pub(super) fn files(&self) -> impl Iterator<Item = &PathBuf> {
        self.files.iter()
    }

    /// Has recognised what has changed; gives what came of it, if anything has.
    ///
    /// # Errors
    /// [`Failure`] if the kernel refuses; what it recognised before it recognises still.
    pub(super) fn see_to(
        &mut self,
        machine: &dyn Machine,
        home: &Home,
        changed: &BTreeSet<PathBuf>,
    ) -> Result<Option<Report>, Failure> {
        let Some(now) = self.look(machine)? else { return Ok(None) };
        let running: Vec<_> = now.programs.iter().map(runs).collect();
        let others = self.running.as_ref().is_some_and(|it| *it != running);
        let replaced = self.files.iter().any(|it| changed.contains(it));
        self.files = now.programs.iter().map(|it| PathBuf::from(&it.path)).collect();
        self.running = Some(running);
        if !(now.is_stale() || others || replaced) {
            return Ok(None);
        }
        let report = programs::refresh(machine, home)?;
        Ok(report.refreshed.then_some(report))
    }

    /// How things stand with them; `None` if rules name none.
    fn look(&mut self, machine: &dyn Machine) -> Result<Option<Report>, Failure> {
        if !machine.may_recognise() || machine.recognition()?.is_none() {
            *self = Self::default();
            return Ok(None);
        }
        let generation = ruleset::generation(&mut machine.channel(Protocol::Netfilter)?)?;
        if self.held.as_ref().is_none_or(|it| it.0 != generation) {
            let rules = machine.rules()?;
            let host = rules.as_ref().map(|it| it.host.clone());
            self.held = Some((generation, host, rules.map(|it| it.marks).unwrap_or_default()));
        }
        match &self.held {
            Some((_, host, marks)) if marks.mask != 0 => {
                Ok(Some(programs::of(machine, host.clone(), marks)?))
            }
            _ => Ok(None),
        }
    }
}

fn runs(program: &Program) -> (String, Vec<u32>) {
    (program.path.clone(), program.processes.clone())
}
