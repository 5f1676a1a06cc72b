//! Who used what rules allow, as far as the kernel remembers it of those rules as they are now.

use super::callers::addresses;
use super::{Failure, Loaded};
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use tipstaff_core::analysis::Use;
use tipstaff_core::plan::{Condition, Kind, RuleId};
use tipstaff_core::space::{AddressSet, Direction, PortProtocol, TrafficSet};
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::{Caller, Snapshot};

/// Who used what rules allow.
#[derive(Default)]
pub(crate) struct Uses {
    /// The rules of which that is known.
    pub list: Vec<Use>,
    /// Why it is known of none, as part of a list.
    pub unknown: Option<String>,
}

/// Who used what rules allow; nothing is known, and nothing said, where it is not to be remembered.
pub(crate) fn uses(machine: &dyn Machine, loaded: &Loaded, now: u64) -> Uses {
    if !loaded.plan.record.is_some_and(|it| it.admitted) {
        return Uses::default();
    }
    let unknown = |why: String| Uses {
        unknown: Some(format!("who used which rule ({why})")),
        list: Vec::new(),
    };
    let in_force = match machine.rules() {
        Ok(held) => held.filter(|it| !it.dormant && it.host == loaded.plan.host),
        Err(error) => return unknown(Failure::from(error).line()),
    };
    // Evidence is about rules in force; that they are not is told elsewhere.
    let Some(in_force) = in_force.filter(|it| it.program.record.is_some()) else {
        return Uses::default();
    };
    match machine.callers() {
        Ok(Some(callers)) if callers.no_room > 0 => {
            unknown(format!("{} packets found no room in the record", callers.no_room))
        }
        Ok(Some(callers)) => {
            let since = callers.since();
            // By rule: there may be thousands, and ten thousands came.
            let mut by: HashMap<(Direction, &RuleId), Vec<&Caller>> = HashMap::new();
            for caller in callers.list.iter().filter(|it| it.admitted) {
                by.entry((caller.direction, &caller.decision)).or_default().push(caller);
            }
            let admitting = loaded.program().admitting.iter().filter(|it| it.id.kind == Kind::Rule);
            let known = admitting.filter_map(|it| {
                let seconds = now.saturating_sub(*since.get(it)?).min(callers.keeps.into());
                let its = by.get(&(it.direction, &it.id)).into_iter().flatten();
                let by = its.map(|it| addresses(it)).collect();
                Some(Use { rule: it.id.clone(), seconds, by })
            });
            let told = |it: &Use| !it.by.is_empty() || !may_have_been_used(loaded, it, &in_force);
            let mut list: Vec<Use> = known.filter(told).collect();
            add_what_lives(machine, loaded, &mut list);
            Uses { list, unknown: None }
        }
        Ok(None) => Uses::default(),
        Err(error) => unknown(Failure::from(error).line()),
    }
}

/// Whether a rule of which no use is remembered may have been used all the same: what connection tracking leaves
/// alone, such as some kinds of ICMP, begins nothing, and so is not remembered. The rule has counted it.
fn may_have_been_used(loaded: &Loaded, used: &Use, in_force: &Snapshot) -> bool {
    let conditions = loaded.plan.find(&used.rule).map(|it| &it.conditions);
    let beside_ports = |it: &Condition| {
        let TrafficSet { icmp, icmpv6, others, .. } = &it.traffic;
        !icmp.is_empty() || !icmpv6.is_empty() || !others.is_empty()
    };
    conditions.into_iter().flatten().any(beside_ports)
        && in_force.tallies.iter().any(|it| it.id == used.rule && it.taken.packets > 0)
}

/// A connection that was begun longer ago than is remembered is a use all the same. Which rule it came by is not
/// asked closely: it counts for each that could have let it in.
fn add_what_lives(machine: &dyn Machine, loaded: &Loaded, uses: &mut [Use]) {
    let own = machine.addresses().unwrap_or_default();
    let is_own = |it: IpAddr| own.contains(&it);
    let mut living: Vec<(Direction, PortProtocol, SocketAddr, SocketAddr)> = Vec::new();
    for it in machine.connections().map(|it| it.found).unwrap_or_default() {
        living.push((Direction::Inbound, it.protocol, it.peer, it.own));
        living.push((Direction::Outbound, it.protocol, it.own, it.peer));
    }
    for it in machine.flows().unwrap_or_default().iter().filter(|it| !it.is_over()) {
        let (Some(protocol), Some(ports)) = (PortProtocol::of_number(it.protocol), it.ports) else {
            continue;
        };
        let ends = (SocketAddr::new(it.source, ports.0), SocketAddr::new(it.destination, ports.1));
        let direction = match (is_own(it.source), is_own(it.destination)) {
            (true, _) => Direction::Outbound,
            (_, true) => Direction::Inbound,
            _ => Direction::Forwarded,
        };
        living.push((direction, protocol, ends.0, ends.1));
    }
    let mut living: Vec<_> = living
        .into_iter()
        .map(|(direction, protocol, from, to)| {
            (direction, protocol, from.ip().to_canonical(), to.ip().to_canonical(), to.port())
        })
        .filter(|it| !it.2.is_loopback() && !it.3.is_loopback())
        .collect();
    living.sort_unstable();
    living.dedup();
    for used in uses {
        let Some((direction, decision)) = loaded.plan.decisions().find(|it| it.1.id == used.rule)
        else {
            continue;
        };
        let by =
            living.iter().filter(|it| it.0 == direction).filter(|(_, protocol, from, to, port)| {
                let takes = |it: &Condition| {
                    it.traffic.ports[*protocol].contains(*port)
                        && it.source.contains(*from)
                        && it.destination.contains(*to)
                };
                decision.conditions.iter().any(takes)
            });
        let by = by.map(|it| if direction == Direction::Outbound { it.3 } else { it.2 });
        let more: AddressSet = by.map(AddressSet::single).collect();
        used.by = used.by.union(&more);
    }
}
