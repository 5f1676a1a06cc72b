//! A remote shell that nobody can reach.

use super::super::question::{ordinary, shares};
use super::{Finding, Mend, Subject, Subjects};
use crate::plan::HostPlan;
use crate::policy::{Code, Severity, Verdict};
use crate::space::{Direction, Piece, TrafficSet};

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

/// The finding about a host whose remote shell is written down.
pub fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let Some(shell) = &subjects.host.shell else { return Vec::new() };
    if reachable(subjects.plan, &shell.traffic) {
        return Vec::new();
    }
    let terms = shell.terms.join(", ");
    let region =
        Piece { traffic: shell.traffic.clone(), ..ordinary(subjects.plan, Direction::Inbound) };
    vec![Finding {
        code: Code::ShellLockout,
        severity: Severity::Error,
        subject: Subject::Host,
        others: Vec::new(),
        origin: Some(shell.origin.clone()),
        message: format!(
            "no address can reach the remote shell ({terms}) of `{}`",
            subjects.host.name
        ),
        witness: region.example(&(subjects.likely)(Direction::Inbound), Direction::Inbound),
        mend: Some(Mend::Allow { name: Some("shell"), traffic: shell.terms.clone(), from: None }),
        accepted: None,
    }]
}
