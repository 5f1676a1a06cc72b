//! What was met, held against what the policy says.

use super::order::{Ranges, Shot};
use super::traffic::traffic_words;
use super::tries::packet;
use super::words::{Row, Witness};
use crate::receivers::Receivers;
use crate::{By, Loaded, PacketWords};
use std::collections::BTreeMap;
use tipstaff_core::plan::{Act, HostPlan};
use tipstaff_core::policy::Verdict;
use tipstaff_core::rehearsal::{Judge, Role, Stand};
use tipstaff_core::space::{AddressSet, Packet, Tracking, TrafficSet, Transport, nested_words};
use tipstaff_linux::probe::Met;
use tipstaff_linux::ruleset::Whose;

/// So many disagreements are shown with their packet; all are counted.
const SHOWN: usize = 20;

/// What has been found out so far.
pub(super) struct Tally<'l> {
    pub plan: &'l HostPlan,
    pub live: bool,
    /// Who listens on this machine, if a copy of it is tried.
    pub receivers: Option<Receivers>,
    pub rows: Vec<Row>,
    pub disagreements: u64,
    pub witnesses: Vec<Witness>,
}

impl<'l> Tally<'l> {
    /// A tally in which nothing was met yet.
    pub(super) fn new(loaded: &'l Loaded, receivers: Option<Receivers>) -> Self {
        let (plan, live) = (&loaded.plan, receivers.is_some());
        Self { plan, live, receivers, rows: Vec::new(), disagreements: 0, witnesses: Vec::new() }
    }

    /// Adds what came of one try.
    pub(super) fn add(
        &mut self,
        stand: &Stand,
        whose: &Whose,
        packets: &Ranges,
        tracking: Tracking,
        outcome: &[(Met, Ranges)],
    ) {
        let family = stand.family();
        let mut limited = Vec::new();
        let mut now = packet(self.plan, stand);
        let judge = Judge::between(self.plan, &now);
        let mut heard = 0;
        for (met, ranges) in outcome {
            heard += ranges.count();
            for shot in ranges.shots() {
                load(&mut now, stand.source_port, shot, tracking);
                let owner = self.owner(stand, whose, shot);
                (now.program, now.user) = (owner.program, owner.user);
                let decision = judge.decision(&now);
                let is_limited = matches!(decision.act, Act::AllowWithin(_));
                if is_limited {
                    limited.push(shot);
                }
                let verdict = visible(self.plan, decision.act.verdict(), &now);
                if !fits(verdict, is_limited, *met, self.live) {
                    self.disagreements += 1;
                    if self.witnesses.len() < SHOWN {
                        self.witnesses.push(Witness {
                            packet: PacketWords::of(&now),
                            policy: decision.act.verdict().into(),
                            decided_by: By::of(&decision.id, self.plan),
                            met: (*met).into(),
                        });
                    }
                }
            }
        }
        // A packet of which nothing was heard would be a mistake of ours; it is not passed over.
        self.disagreements += packets.count().abs_diff(heard);
        if stand.role == Role::Member {
            return;
        }
        limited.sort_unstable();
        let limited = Ranges::of(limited).traffic(family);
        let by_met: BTreeMap<Met, TrafficSet> =
            outcome.iter().map(|(met, ranges)| (*met, ranges.traffic(family))).collect();
        let words = |of: &[Met]| {
            let none = TrafficSet::empty();
            let all = of.iter().filter_map(|met| by_met.get(met));
            let all = all.fold(none, |all, some| all.union(some)).difference(&limited);
            traffic_words(&all, family)
        };
        let (open, closed): (&[Met], &[Met]) = match self.live {
            true => (&[Met::Open], &[Met::Closed]),
            false => (&[Met::Open, Met::Closed], &[]),
        };
        self.rows.push(Row {
            from: stand.name.clone(),
            senders: nested_words(&stand.senders.nested(&AddressSet::full())),
            source: stand.source,
            destination: stand.destination,
            interface: stand.interface.clone(),
            source_port: stand.source_port,
            program: whose.program.clone(),
            user: whose.user.clone(),
            version: family.into(),
            packets: packets.count(),
            open: words(open),
            closed: words(closed),
            limited: traffic_words(&limited, family),
            rejected: words(&[Met::Rejected]),
            passed_on: words(&[Met::PassedOn]),
            stopped_early: words(&[Met::Lost, Met::StoppedOddly]),
        });
    }

    /// Whose socket meets something here: the one that waits there, or whose it was said to be.
    fn owner(&self, stand: &Stand, whose: &Whose, shot: Shot) -> Whose {
        match (&self.receivers, shot) {
            (None, _) => whose.clone(),
            (Some(it), Shot::Port(protocol, port)) => {
                it.at(protocol, (stand.destination, port).into())
            }
            (Some(_), Shot::Icmp(_)) => Whose::default(),
        }
    }
}

/// Puts something into a packet.
fn load(packet: &mut Packet, source: u16, shot: Shot, tracking: Tracking) {
    packet.transport = match shot {
        Shot::Port(protocol, destination) => Transport::Ports { protocol, source, destination },
        Shot::Icmp(kind) => Transport::Icmp { kind },
    };
    packet.state = tracking.state_alone(packet.transport, packet.family());
}

/// What a sender sees of a verdict.
fn visible(plan: &HostPlan, verdict: Verdict, packet: &Packet) -> Verdict {
    match verdict {
        Verdict::Reject if !plan.may_answer(packet) => Verdict::Deny,
        verdict => verdict,
    }
}

fn fits(verdict: Verdict, limited: bool, met: Met, live: bool) -> bool {
    match (verdict, met) {
        (Verdict::Allow, Met::Open | Met::Closed)
        | (Verdict::Deny, Met::Denied)
        | (Verdict::Reject, Met::Rejected) => true,
        (Verdict::Allow, Met::Denied) => limited,
        // On a copy, rules of others may stop a packet before ours are asked.
        (Verdict::Deny, Met::Lost) => live,
        _ => false,
    }
}
