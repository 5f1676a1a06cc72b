//! A policy in one of its postures.

use super::threads::Threads;
use super::wanted::Wanted;
use super::{Failure, Loaded, now};
use std::sync::OnceLock;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Host, NO_POSTURE, SHUT, Taken, nearest};
use tipstaff_core::program::{RuleProgram, lower_by};
use tipstaff_linux::{LinuxError, Machine};

impl Loaded {
    /// What the kernel is to be told. Most commands do not ask, and with many rules it takes as long as to read them.
    pub fn program(&self) -> &RuleProgram {
        self.lowered.get_or_init(|| self.lower())
    }

    /// Changes what it means, and what the kernel is to be told.
    pub(crate) fn each_plan(&mut self, mut change: impl FnMut(&mut HostPlan)) {
        change(&mut self.plan);
        if let Some(later) = &mut self.later {
            change(later);
        }
        self.lowered = OnceLock::new();
    }

    fn lower(&self) -> RuleProgram {
        let program = lower_by(&self.plan, &Threads);
        let end = self.plan.taken.as_ref().and_then(|it| it.until);
        match (&self.later, end) {
            (Some(later), Some(end)) => program.until(end, lower_by(later, &Threads)),
            _ => program,
        }
    }

    /// The posture that it is in.
    pub(crate) fn posture(&self) -> Option<String> {
        self.plan.taken.as_ref().map(|it| it.name.clone())
    }

    /// The section of its host.
    pub(crate) fn section(&self) -> Option<&Host> {
        self.policy.host(&self.plan.host)
    }

    /// Works it out for the posture of that name, for whoever asks what that means; `none` is a name, too.
    ///
    /// # Errors
    /// [`Failure`] if the host has no such posture.
    pub fn in_posture(&mut self, name: &str) -> Result<(), Failure> {
        if name == NO_POSTURE {
            self.in_no_posture();
            return Ok(());
        }
        let taken = Taken {
            name: name.to_owned(),
            since: self.now,
            until: None,
            why: String::new(),
            then: None,
        };
        self.take(&taken)
    }

    /// Leaves it in none, whatever is in force.
    pub(crate) fn in_no_posture(&mut self) {
        self.wanted = Wanted::This(None);
    }

    /// Works it out for a posture that was taken; once that is over, for the one behind it, or none.
    ///
    /// # Errors
    /// [`Failure`] if the host has no such posture.
    pub(crate) fn take(&mut self, taken: &Taken) -> Result<(), Failure> {
        let Some(taken) = taken.at(self.now).cloned() else {
            self.wanted = Wanted::This(None);
            return Ok(());
        };
        let later = match (&taken.then, taken.until) {
            (Some(then), Some(_)) => {
                let mut later = self.clone();
                later.take(then)?;
                Some(later.plan)
            }
            (None, Some(_)) => Some(self.plan.clone()),
            (_, None) => None,
        };
        let host = self.plan.host.clone();
        let Some(policy) = self.policy.in_posture(&host, &taken.name) else {
            return Err(self.no_posture(&taken.name));
        };
        let mut plan = resolve(&policy, &host, self.now)?;
        plan.taken = Some(taken.clone());
        if self.without_programs {
            plan.leave_out_programs();
        }
        if self.clock_is_wrong {
            plan.end_what_is_allowed_for_a_time();
        }
        if plan.moving {
            // What the machine has told of its addresses.
            plan.addresses.clone_from(&self.plan.addresses);
            plan.broadcasts.clone_from(&self.plan.broadcasts);
            plan.on_link = self.plan.on_link.clone();
        }
        self.plan = plan;
        self.later = later.map(Box::new);
        self.policy = policy;
        self.wanted = Wanted::This(Some(taken));
        self.lowered = OnceLock::new();
        Ok(())
    }

    /// Works it out for the posture that is in force on this machine, unless another was asked for. Whoever goes on to
    /// read the rules learns why they cannot be read.
    pub(crate) fn as_taken_here(&mut self, machine: &dyn Machine) {
        if self.wanted != Wanted::InForce {
            return;
        }
        let taken = match machine.posture() {
            Ok(taken) => taken,
            // Who may not look at the kernel's rules is not told of any either.
            Err(LinuxError::NotPermitted { .. }) => None,
            Err(error) => {
                self.wanted = Wanted::NotTold(error.to_string());
                return;
            }
        };
        let held = taken.filter(|it| it.0 == self.plan.host && it.1.at(self.now).is_some());
        if let Some((_, taken)) = held
            && self.take(&taken).is_err()
        {
            self.wanted = Wanted::Missing(taken);
        }
    }

    /// Refuses a policy that has lost the posture in force: what is to be enforced then is not known.
    ///
    /// # Errors
    /// [`Failure`] that says which.
    pub(crate) fn must_have_what_is_taken(&self) -> Result<(), Failure> {
        match &self.wanted {
            Wanted::Missing(taken) => Err(Failure::stopped(
                format!("the posture `{}` is in force, and the policy has it no more", taken.name),
                vec![
                    "`tipstaff posture leave` leaves it; or give it back to the policy".into(),
                    "nothing was changed".into(),
                ],
            )),
            Wanted::NotTold(why) => Err(Failure::System {
                message: format!("it is not known which posture is in force: {why}"),
                help: vec!["nothing was changed".into()],
            }),
            Wanted::InForce | Wanted::This(_) => Ok(()),
        }
    }

    /// Says that there is no such posture.
    fn no_posture(&self, name: &str) -> Failure {
        let postures = self.section().map(|it| &it.postures[..]).unwrap_or_default();
        let names = || postures.iter().map(|it| it.name.as_str());
        let host = &self.plan.host;
        let message = format!("{host} has no posture `{}`", name.escape_debug());
        let help = match nearest(name, names()) {
            Some(near) => format!("did you mean `{near}`?"),
            None if name == SHUT => {
                "that one is built in, and needs no policy: `tipstaff shut`".to_owned()
            }
            None if postures.is_empty() => {
                format!("it has none; a section [host.{host}.posture.NAME] makes one")
            }
            None => format!("it has: {}", names().collect::<Vec<_>>().join(", ")),
        };
        Failure::usage(message, help)
    }

    /// Whether it would be the same posture, or none, that is in force now.
    pub(crate) fn is_in_posture(&self, taken: Option<&Taken>) -> bool {
        let held = taken.and_then(|it| it.at(now()));
        match (&self.plan.taken, held) {
            (None, None) => true,
            (Some(one), Some(other)) => one.is_as(other),
            _ => false,
        }
    }
}
