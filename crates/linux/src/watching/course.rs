//! The way of each packet through our rules, step by step.

use super::headers::{self, Headers};
use super::known::Known;
use crate::ruleset::{TABLE, Wanted};
use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};
use tipstaff_core::plan::{Kind, RuleId};
use tipstaff_core::policy;
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_wire::nf_tables::{Met, Trace, Verdict};

/// A decision that was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// The direction of the packet.
    pub direction: Direction,
    /// What decided it; `None` if that cannot be told.
    pub decision: Option<RuleId>,
    /// What became of it here.
    pub verdict: policy::Verdict,
    /// Where it comes from.
    pub source: IpAddr,
    /// Where it goes.
    pub destination: IpAddr,
    /// What it wants.
    pub wanted: Wanted,
    /// The port that it comes from, where it has ports.
    pub source_port: Option<u16>,
    /// The name of the link by which it came in.
    pub in_interface: Option<String>,
    /// The name of the link by which it goes out.
    pub out_interface: Option<String>,
}

/// A packet on its way.
struct Course {
    since: Instant,
    direction: Direction,
    headers: Headers,
    links: (Option<u32>, Option<u32>),
    decision: Option<RuleId>,
    /// Whether the last decision of ours that it met looked up what decides.
    looked_up: bool,
    rejected: bool,
    /// Whether it came to a rule of ours.
    met: bool,
}

/// So long after steps were lost, nothing is left that waited then.
const LONG: Duration = Duration::from_secs(10);

/// The packets on their way.
pub(super) struct Courses {
    /// The name of the table by which they are watched.
    table: String,
    under_way: HashMap<u32, Course>,
    ended: u64,
    elsewhere: u64,
    looked: Option<Instant>,
}

impl Courses {
    pub(super) fn new(table: String) -> Self {
        Self { table, under_way: HashMap::new(), ended: 0, elsewhere: 0, looked: None }
    }

    /// How many packets have been seen, to their end or so far.
    pub(super) fn seen(&self) -> u64 {
        self.ended + self.elsewhere + u64::try_from(self.under_way.len()).unwrap_or_default()
    }

    /// How many of them came to no rule of ours: others had turned them away, or ours are gone.
    pub(super) fn elsewhere(&self) -> u64 {
        self.elsewhere
    }

    /// Takes one step; gives the decision if it was the last. If steps were `lost` since, less can be told of those that
    /// came to no end.
    pub(super) fn step(
        &mut self,
        trace: &Trace<'_>,
        known: &Known,
        lost: Option<Instant>,
    ) -> Option<Seen> {
        if trace.table == self.table {
            self.begin(trace, lost);
            return None;
        }
        if trace.table != TABLE {
            return None;
        }
        let course = self.under_way.get_mut(&trace.id)?;
        course.met = true;
        if let Met::Rule(handle) = trace.met
            && let Some(line) = known.line(handle)
        {
            if let Some(id) = &line.id {
                course.decision = Some(id.clone());
                course.looked_up = false;
            }
            course.looked_up |= line.looks_up;
            course.rejected |= line.rejects;
        }
        let admitted = match (trace.met, &trace.verdict) {
            (Met::Rule(_) | Met::End, Some(Verdict::Accept)) => true,
            (Met::Rule(_) | Met::End, Some(Verdict::Drop)) => false,
            _ => return None,
        };
        let course = self.under_way.remove(&trace.id)?;
        self.ended += 1;
        Some(course.end(admitted, known))
    }

    fn begin(&mut self, trace: &Trace<'_>, lost: Option<Instant>) {
        let Met::Rule(_) = trace.met else { return };
        let Some(direction) = Direction::parse(trace.chain) else { return };
        let Some(headers) = headers::read(trace.network, trace.transport) else { return };
        let course = Course {
            since: Instant::now(),
            direction,
            headers,
            links: (trace.in_link, trace.out_link),
            decision: None,
            looked_up: false,
            rejected: false,
            met: false,
        };
        // The kernel makes its numbers of a packet's flow and place in memory, so that the next of a flow often has the
        // one that the packet before it had: that one has gone its way.
        if let Some(before) = self.under_way.insert(trace.id, course) {
            self.elsewhere += u64::from(before.ended_elsewhere(lost));
        }
    }

    /// Gives up those that have not come to an end for so long: a step of theirs was lost, or they ended elsewhere. If
    /// steps were `lost` since, that cannot be told.
    pub(super) fn give_up(&mut self, patience: Duration, lost: Option<Instant>) {
        if self.looked.is_some_and(|it| it.elapsed() < patience) {
            return;
        }
        self.looked = Some(Instant::now());
        let mut elsewhere = 0;
        self.under_way.retain(|_, it| {
            let stays = it.since.elapsed() < patience;
            elsewhere += u64::from(!stays && it.ended_elsewhere(lost));
            stays
        });
        self.elsewhere += elsewhere;
    }

    /// Gives up all.
    pub(super) fn end(&mut self, lost: Option<Instant>) {
        self.looked = None;
        self.give_up(Duration::ZERO, lost);
    }
}

impl Course {
    /// Whether it ended without coming to a rule of ours, as far as what is `lost` lets that be told.
    fn ended_elsewhere(&self, lost: Option<Instant>) -> bool {
        // What was lost is told ahead of what waited then.
        !self.met && lost.is_none_or(|lost| lost + LONG < self.since)
    }

    fn end(self, admitted: bool, known: &Known) -> Seen {
        let verdict = match (admitted, self.rejected) {
            (true, _) => policy::Verdict::Allow,
            (false, true) => policy::Verdict::Reject,
            (false, false) => policy::Verdict::Deny,
        };
        let links = [self.links.0, self.links.1].map(|it| it.and_then(|it| known.link(it)));
        let mut seen = Seen::of(self.headers, self.direction, verdict, self.decision, links);
        if self.looked_up {
            seen.decision = seen.looked_up(known);
        }
        seen
    }
}

impl Seen {
    /// With the names of the links that the packet came from and goes to.
    pub(super) fn of(
        headers: Headers,
        direction: Direction,
        verdict: policy::Verdict,
        decision: Option<RuleId>,
        [in_interface, out_interface]: [Option<String>; 2],
    ) -> Self {
        let Headers { source, destination, wanted, source_port } = headers;
        Self {
            direction,
            decision,
            verdict,
            source,
            destination,
            wanted,
            source_port,
            in_interface,
            out_interface,
        }
    }

    /// Whether the record would remember it, too: all that is turned away, and what begins.
    #[must_use]
    pub fn matters(&self) -> bool {
        let baseline = |it: &RuleId| it.kind == Kind::Baseline && it.name != "ping";
        self.verdict != policy::Verdict::Allow || !self.decision.as_ref().is_some_and(baseline)
    }

    /// The packet, as far as it is known.
    #[must_use]
    pub fn packet(&self) -> Packet {
        let transport = match self.wanted {
            Wanted::Port(number, port) => match PortProtocol::of_number(number) {
                Some(protocol) => Transport::Ports {
                    protocol,
                    source: self.source_port.unwrap_or_default(),
                    destination: port,
                },
                None => Transport::Other { protocol: number },
            },
            Wanted::Icmp(_, kind, _) => Transport::Icmp { kind },
            Wanted::Protocol(protocol) => Transport::Other { protocol },
            Wanted::Several => Transport::Other { protocol: 0 },
        };
        Packet {
            direction: self.direction,
            in_interface: self.in_interface.clone(),
            out_interface: self.out_interface.clone(),
            source: self.source,
            destination: self.destination,
            transport,
            state: ConnectionState::New,
            program: None,
            user: None,
            asked: None,
            source_is: Relation::default(),
            destination_is: Relation::default(),
        }
    }

    /// Which entry of a lookup it was, by asking the rules: `None` if those say something else than happened.
    fn looked_up(&self, known: &Known) -> Option<RuleId> {
        let packet = Packet {
            source_is: known.relation(self.source),
            destination_is: known.relation(self.destination),
            ..self.packet()
        };
        let decided = known.program.evaluate(&packet)?;
        let admits = |it: policy::Verdict| it == policy::Verdict::Allow;
        // What is beyond a rate is turned away by the rule that allows the rest.
        let so = decided.limited || admits(decided.verdict) == admits(self.verdict);
        so.then_some(decided.by)
    }
}
