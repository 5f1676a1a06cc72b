//! A remote shell that nobody can reach.

use super::super::question::{ordinary, shares};
use super::facts::{Machine, is_shell};
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend, Subject};
use super::subjects::Subjects;
use crate::plan::{HostPlan, Kind};
use crate::policy::{Code, Severity, Verdict};
use crate::space::{Direction, Piece, PortProtocol, RangeSet, TrafficSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::ShellLockout,
        severity: Severity::Error,
        meaning: "No address can begin a connection to the port at which the remote shell listens, so \
             nobody could administer the host from elsewhere. The port is taken from `shell` in \
             the host's section, or, with `--live`, from what listens here.",
    }],
    looks: &[Look::Policy(findings), Look::Machine(listening)],
};

/// Whether some address can begin a connection that carries this traffic to the host.
#[must_use]
pub fn reachable(plan: &HostPlan, traffic: &TrafficSet) -> bool {
    let direction = Direction::Inbound;
    let region = Piece { traffic: traffic.clone(), ..ordinary(plan, direction) };
    // If they are too many to be told, they are not nobody.
    shares(plan, direction, vec![region]).is_none_or(|shares| {
        shares.iter().any(|share| share.decision.act.verdict() == Verdict::Allow)
    })
}

/// Names for a rule that lets somebody reach the shell.
const NAMES: [&str; 3] = ["shell", "remote-shell", "way-in"];

/// The finding about a host whose remote shell is written down.
fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let Some(shell) = &subjects.host.shell else { return Vec::new() };
    if reachable(subjects.plan, &shell.traffic) {
        return Vec::new();
    }
    let terms = shell.terms.join(", ");
    let region =
        Piece { traffic: shell.traffic.clone(), ..ordinary(subjects.plan, Direction::Inbound) };
    let witness = region.example(&(subjects.likely)(Direction::Inbound), Direction::Inbound);
    // Where the baseline turns everybody away, a rule that lets somebody in comes too late.
    let above = witness.as_ref().map(|it| subjects.plan.decision(it));
    let above = above.filter(|it| it.id.kind == Kind::Baseline).map(|it| it.id.clone());
    let free = |name: &&'static str| !subjects.host.rules.iter().any(|it| it.name == *name);
    let name = NAMES.into_iter().find(free);
    let allow = Mend::Allow { name, traffic: shell.terms.clone(), from: None };
    vec![Finding {
        code: Code::ShellLockout,
        severity: Severity::Error,
        subject: Subject::Host,
        mend: above.is_none().then_some(allow),
        others: above.into_iter().collect(),
        origin: Some(shell.origin.clone()),
        message: format!(
            "no address can reach the remote shell ({terms}) of `{}`",
            subjects.host.name
        ),
        witness,
        accepted: None,
    }]
}

/// A remote shell that listens and that nobody can reach, where the policy does not say which it is.
fn listening(machine: &Machine<'_>) -> Vec<Finding> {
    if machine.host.shell.is_some() {
        return Vec::new();
    }
    let shells = machine.facts.listeners.iter().filter(|it| {
        it.for_others()
            && it.protocol == PortProtocol::Tcp
            && it.program_name().is_some_and(is_shell)
    });
    let ports: RangeSet<u16> = RangeSet::from_ranges(shells.map(|it| (it.port, it.port)));
    if ports.is_empty() || reachable(machine.plan, &PortProtocol::Tcp.traffic(ports.clone())) {
        return Vec::new();
    }
    let message = format!("no address can reach the remote shell that listens at {ports}/tcp");
    let finding = Finding::of_host(Code::ShellLockout, Severity::Error, message);
    let free = |name: &&'static str| !machine.host.rules.iter().any(|it| it.name == *name);
    vec![finding.mend(Mend::Allow {
        name: NAMES.into_iter().find(free),
        traffic: ports.ranges().iter().map(|it| format!("{}/tcp", it.0)).collect(),
        from: None,
    })]
}
