//! What was met, held against what the policy says.

use super::order::{Ranges, Shot};
use super::traffic::traffic_words;
use super::tries::packet;
use super::words::{Row, Witness};
use crate::led::{Led, Ways};
use crate::receivers::Receivers;
use crate::{Loaded, PacketWords};
use std::collections::{BTreeMap, HashMap};
use tipstaff_core::plan::{Act, HostPlan};
use tipstaff_core::policy::Verdict;
use tipstaff_core::rehearsal::{Judge, Role, Stand};
use tipstaff_core::space::{
    AddressSet, Direction, Packet, Tracking, TrafficSet, Transport, nested_words,
};
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
    /// Of how many packets it cannot be told where others lead them.
    pub not_known: u64,
    ways: Ways<'l>,
}

impl<'l> Tally<'l> {
    /// A tally in which nothing was met yet.
    pub(super) fn new(loaded: &'l Loaded, receivers: Option<Receivers>, ways: Ways<'l>) -> Self {
        Self {
            plan: &loaded.plan,
            live: receivers.is_some(),
            receivers,
            rows: Vec::new(),
            disagreements: 0,
            witnesses: Vec::new(),
            not_known: 0,
            ways,
        }
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
        let mut limited = Vec::new();
        let mut now = packet(self.plan, stand);
        let judge = Judge::between(self.plan, &now);
        let mut leads = Leads::default();
        let mut heard = 0;
        for (met, ranges) in outcome {
            heard += ranges.count();
            for shot in ranges.shots() {
                load(&mut now, stand.source_port, shot, tracking);
                let owner = self.owner(stand, whose, shot);
                (now.program, now.user) = (owner.program, owner.user);
                let there = match leads.arrive(&self.ways, &now) {
                    Some((_, Led::NotKnown(..))) => {
                        self.not_known += 1;
                        continue;
                    }
                    Some((there, Led::To(to, _))) => {
                        let mut there = self.plan.related(there);
                        if there.direction == Direction::Inbound {
                            let owner = match (&self.receivers, there.transport) {
                                (Some(it), Transport::Ports { protocol, .. }) => {
                                    it.at(protocol, to)
                                }
                                _ => Whose::default(),
                            };
                            (there.program, there.user) = (owner.program, owner.user);
                        }
                        Some(there)
                    }
                    None => None,
                };
                let decision = match &there {
                    Some(there) => self.plan.decision(there),
                    None => judge.decision(&now),
                };
                let away = there.as_ref().is_some_and(|it| it.direction == Direction::Forwarded);
                let now = there.as_ref().unwrap_or(&now);
                let is_limited = matches!(decision.act, Act::AllowWithin(_));
                if is_limited {
                    limited.push(shot);
                }
                let verdict = visible(self.plan, decision.act.verdict(), now);
                let passed = away && verdict == Verdict::Allow && *met == Met::PassedOn;
                if !passed && !fits(verdict, is_limited, *met, self.live) {
                    self.disagreements += 1;
                    if self.witnesses.len() < SHOWN {
                        self.witnesses.push(Witness {
                            packet: PacketWords::of(now),
                            policy: decision.act.verdict().into(),
                            decided_by: decision.into(),
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
        let row = self.row(stand, whose, packets, &Ranges::of(limited), outcome);
        self.rows.push(row);
    }

    /// What was met by one stand, in words.
    fn row(
        &self,
        stand: &Stand,
        whose: &Whose,
        packets: &Ranges,
        limited: &Ranges,
        outcome: &[(Met, Ranges)],
    ) -> Row {
        let family = stand.family();
        let limited = limited.traffic(family);
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
        Row {
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
        }
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

/// What is known of where ports of one stand lead.
#[derive(Default)]
struct Leads {
    /// Ports that nothing tells apart are led alike: for the first of them, whether they are led.
    known: HashMap<(u8, u16), bool>,
    starts: Option<Vec<u16>>,
}

impl Leads {
    /// The packet as it is where it ends up, if others lead it elsewhere.
    fn arrive(&mut self, ways: &Ways<'_>, packet: &Packet) -> Option<(Packet, Led)> {
        if !ways.lead() {
            return None;
        }
        let led = |packet: &Packet| {
            let (there, led) = ways.arrive(packet);
            led.map(|led| (there, led))
        };
        let Transport::Ports { protocol, source, destination } = packet.transport else {
            return led(packet);
        };
        let starts =
            self.starts.get_or_insert_with(|| ways.decider().ports().into_iter().collect());
        let first = starts[..starts.partition_point(|it| *it <= destination)].last();
        let first = first.copied().unwrap_or(destination);
        let any = *self.known.entry((protocol.number(), first)).or_insert_with(|| {
            let transport = Transport::Ports { protocol, source, destination: first.max(1) };
            led(&Packet { transport, ..packet.clone() }).is_some()
        });
        if any { led(packet) } else { None }
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
