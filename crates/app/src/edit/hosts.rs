//! What a change of the policy changes for the packets of each host, in whichever posture.

use super::broken::newly_broken;
use crate::effect::{self, ChangeWords};
use crate::finding::Finding;
use serde::Serialize;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Host, Policy, Time};

/// What changes on one host.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HostEffect {
    /// The host whose packets fare differently.
    pub host: String,
    /// The posture in which they do; `null`: in none. What is the same in all is told once.
    pub posture: Option<String>,
    /// The packets that fare differently, region by region.
    pub changes: Vec<ChangeWords>,
}

/// What changes on all hosts, and what is not so any more that must be.
pub(crate) struct OnHosts {
    /// Hosts for which nothing changes are left out.
    pub hosts: Vec<HostEffect>,
    /// Expectations that held before.
    pub broken: Vec<Finding>,
}

/// Holds two policies against each other.
pub(crate) fn on_hosts((old, new): (&Policy, &Policy), now: Time) -> OnHosts {
    let mut hosts = Vec::new();
    let mut broken = Vec::new();
    for host in &new.hosts {
        let (Ok(was), Ok(is)) = (resolve(old, &host.name, now), resolve(new, &host.name, now))
        else {
            continue;
        };
        let changes = effect::changes((old, &was), (new, &is));
        let expected = old.host(&host.name).map(|it| &it.expectations);
        let states_more = expected.is_some_and(|it| it.len() != host.expectations.len());
        if !changes.is_empty() || states_more {
            broken.extend(newly_broken((old, &was), (new, &is), now));
        }
        let within = in_postures(host, old, new, (now, states_more));
        broken.extend(within.broken);
        let other = within.changes.into_iter().filter(|it| !effect::same(&it.changes, &changes));
        let other: Vec<HostEffect> = other.collect();
        if !changes.is_empty() {
            hosts.push(HostEffect { host: host.name.clone(), posture: None, changes });
        }
        hosts.extend(other);
    }
    OnHosts { hosts, broken }
}

/// What changes in the postures of a host, and what is not so any more in them that must be.
struct InPostures {
    changes: Vec<HostEffect>,
    broken: Vec<Finding>,
}

fn in_postures(
    host: &Host,
    old: &Policy,
    new: &Policy,
    (now, states_more): (Time, bool),
) -> InPostures {
    let mut found = InPostures { changes: Vec::new(), broken: Vec::new() };
    for posture in &host.postures {
        let within = |policy: &Policy| {
            let policy = policy.in_posture(&host.name, &posture.name)?;
            let plan = resolve(&policy, &host.name, now).ok()?;
            Some((policy, plan))
        };
        let (Some((old, was)), Some((new, is))) = (within(old), within(new)) else { continue };
        let changes = effect::changes((&old, &was), (&new, &is));
        if !changes.is_empty() || states_more {
            found.broken.extend(newly_broken((&old, &was), (&new, &is), now));
        }
        if !changes.is_empty() {
            let (host, posture) = (host.name.clone(), Some(posture.name.clone()));
            found.changes.push(HostEffect { host, posture, changes });
        }
    }
    found
}
