//! What leaves the host and what passes through it, on a copy: asked for, sent, and held against what the policy says.

use super::order::Crossing;
use super::words::{Crossed, Witness};
use crate::vocabulary as say;
use crate::{Failure, PacketWords};
use std::collections::BTreeSet;
use std::net::IpAddr;
use tipstaff_core::plan::{Act, HostPlan};
use tipstaff_core::policy::Verdict;
use tipstaff_core::rehearsal::{self, Site};
use tipstaff_core::space::{Direction, Packet, PortProtocol, Transport};
use tipstaff_linux::lab::Stage;
use tipstaff_linux::probe::{Fate, Payload, Range, Shot, first_packet};

/// So many of each direction at most: those that are denied take a few seconds.
const MOST: u64 = 20_000;
/// So many disagreements are shown with their packet; all are counted.
const SHOWN: usize = 20;
/// An answer that is owed is waited for so many times: kernels ration them.
const AGAIN: usize = 3;

/// What is to be tried.
#[derive(Debug)]
pub(super) struct Crossings<'p> {
    plan: &'p HostPlan,
    packets: Vec<rehearsal::Crossing<'p>>,
    left_out: u64,
}

/// What rules of a plan tell apart.
pub(super) fn crossings<'p>(plan: &'p HostPlan, site: &Site) -> Crossings<'p> {
    let mut all = Crossings { plan, packets: Vec::new(), left_out: 0 };
    for direction in [Direction::Outbound, Direction::Forwarded] {
        let found = rehearsal::crossings(plan, site, direction, MOST);
        all.packets.extend(found.packets);
        all.left_out += found.left_out;
    }
    all
}

impl Crossings<'_> {
    /// The same for the lab.
    pub(super) fn order(&self) -> Vec<Crossing> {
        let plan = self.plan;
        let crossing =
            |it: &rehearsal::Crossing<'_>| Crossing { said: said(plan, it), ..sent(&it.packet) };
        self.packets.iter().map(crossing).collect()
    }

    /// What became of them, held against what the plan says.
    pub(super) fn judged(&self, met: &[Option<say::Verdict>]) -> Crossed {
        let plan = self.plan;
        let count = |it: usize| u64::try_from(it).unwrap_or(u64::MAX);
        let mut found = Crossed { left_out: self.left_out, ..Crossed::default() };
        // A packet of which nothing was heard would be a mistake of ours; it is not passed over.
        found.disagreements = count(self.packets.len().abs_diff(met.len()));
        // Answers leave by the outbound rules, which may keep them.
        let default = plan.chain(Direction::Outbound).decisions.last().map(|it| it.act);
        let answers_leave = default == Some(Act::Decide(Verdict::Allow));
        for (crossing, met) in self.packets.iter().zip(met) {
            let rehearsal::Crossing { packet, decision } = crossing;
            let Some(met) = *met else {
                found.never_came += 1;
                continue;
            };
            match packet.direction {
                Direction::Forwarded => found.forwarded += 1,
                _ => found.outbound += 1,
            }
            let said = said(plan, crossing);
            let kept = !answers_leave && (said, met) == (say::Verdict::Reject, say::Verdict::Deny);
            if met == said || kept {
                continue;
            }
            found.disagreements += 1;
            if found.witnesses.len() < SHOWN {
                found.witnesses.push(Witness {
                    packet: PacketWords::of(packet),
                    policy: decision.act.verdict().into(),
                    decided_by: (*decision).into(),
                    met: match met {
                        say::Verdict::Allow => say::Fate::PassedOn,
                        say::Verdict::Deny => say::Fate::Denied,
                        say::Verdict::Reject => say::Fate::Rejected,
                    },
                });
            }
        }
        found
    }
}

/// What a sender is to see.
fn said(plan: &HostPlan, it: &rehearsal::Crossing<'_>) -> say::Verdict {
    match it.decision.act.verdict() {
        Verdict::Reject if !plan.may_answer(&it.packet) => say::Verdict::Deny,
        verdict => verdict.into(),
    }
}

/// A packet as the lab is told of it.
fn sent(it: &Packet) -> Crossing {
    Crossing {
        by: it.in_interface.clone(),
        to: it.out_interface.clone().unwrap_or_default(),
        source: it.source,
        destination: it.destination,
        protocol: it.protocol(),
        ports: match it.transport {
            Transport::Ports { source, destination, .. } => (source, destination),
            Transport::Icmp { kind } => (kind.into(), kind.into()),
            Transport::Other { .. } => (0, 0),
        },
        said: say::Verdict::Allow,
    }
}

/// Sends them on a stage, and gives what became of each.
///
/// # Errors
/// [`Failure`] if the system refuses.
pub(super) fn crossed(
    crossings: &[Crossing],
    stage: &Stage,
    forwards: bool,
) -> Result<Vec<Option<say::Verdict>>, Failure> {
    let all = crossings;
    // What nobody forwards comes to no rule.
    let crossings: Vec<&Crossing> = all.iter().filter(|it| forwards || it.by.is_none()).collect();
    stage.wait_for_nobody()?;
    let ways: BTreeSet<(IpAddr, &str)> =
        crossings.iter().map(|it| (it.destination, it.to.as_str())).collect();
    for (destination, link) in ways {
        stage.lead(destination, link)?;
    }
    let links = stage.host().links();
    let by: Vec<usize> = crossings
        .iter()
        .map(|it| links.iter().position(|link| Some(&link.0) == it.by.as_ref()).unwrap_or(0))
        .collect();
    let shots: Vec<Shot> = crossings.iter().map(|it| shot(it)).collect();
    let mut range = Range::on(stage)?;
    let first = range.fire_by(&shots, |at| by[at])?;
    let (mut fates, mut lost) = (first.fates, first.lost_reports);
    for _ in 0..AGAIN {
        // What may be the lab's doing, and no more: a rule that lets some pass by chance is not asked until it does.
        let odd = |at: usize| match (fates[at], crossings[at].said) {
            (Fate::Lost, _) | (Fate::Decided(Verdict::Deny), say::Verdict::Reject) => true,
            (fate, said) => lost > 0 && verdict(&fate) != Some(said),
        };
        let open: Vec<usize> = (0..fates.len()).filter(|at| odd(*at)).collect();
        if open.is_empty() {
            break;
        }
        let again: Vec<Shot> = open.iter().map(|at| shots[*at]).collect();
        let found = range.fire_by(&again, |at| by[open[at]])?;
        lost = found.lost_reports;
        open.into_iter().zip(found.fates).for_each(|(at, fate)| fates[at] = fate);
    }
    let mut found = fates.iter().map(verdict);
    let came =
        |it: &Crossing| (forwards || it.by.is_none()).then(|| found.next()).flatten().flatten();
    Ok(all.iter().map(came).collect())
}

fn verdict(fate: &Fate) -> Option<say::Verdict> {
    match fate {
        Fate::Decided(verdict) => Some((*verdict).into()),
        // The host answered of itself, whatever the rules did.
        Fate::StoppedOddly => Some(say::Verdict::Deny),
        Fate::Lost => None,
    }
}

fn shot(it: &Crossing) -> Shot {
    let (source, destination) = it.ports;
    let payload = match PortProtocol::of_number(it.protocol) {
        Some(protocol) => first_packet(protocol, source, destination),
        None if is_icmp(it) => Payload::Icmp { kind: u8::try_from(destination).unwrap_or(0) },
        None => Payload::Other { protocol: it.protocol },
    };
    let direction = if it.by.is_some() { Direction::Forwarded } else { Direction::Outbound };
    Shot { direction, source: it.source, destination: it.destination, payload }
}

fn is_icmp(it: &Crossing) -> bool {
    let own =
        if it.source.is_ipv4() { tipstaff_core::space::ICMP } else { tipstaff_core::space::ICMPV6 };
    it.protocol == own
}
