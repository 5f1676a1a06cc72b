//! What the order of rules makes of them: shadowed, redundant, same as the default, overlapping.
//!
//! The terms are those of E. Al-Shaer and H. Hamed, "Discovery of Policy Anomalies in Distributed
//! Firewalls", 2004 (shadowing, redundancy, correlation, generalisation), and of M. Gouda and
//! A. Liu, "Complete Redundancy Detection", 2005: a rule counts as shadowed or redundant also when
//! only several others together make it so. A deliberate exception above a wider rule, there
//! called generalisation, is no mistake and is not reported.

use super::super::budget::{Budget, Spent};
use super::super::lines::{Line, Lines, Outcome, find};
use super::super::parts::Parts;
use super::finder::{Finder, Look};
use super::finding::{Finding, Mend, listed};
use super::order_kinds::KINDS;
use super::subjects::Subjects;
use super::wide::doubt_the_wide;
use crate::meaning::Atlas;
use crate::plan::{Act, Decision, HostPlan, Kind, RuleId};
use crate::policy::{Code, Severity, Verdict};
use crate::space::{Direction, Family, Packet, Piece};

/// What is found here.
pub(crate) const FINDER: Finder = Finder { kinds: &KINDS, looks: &[Look::Rules(findings)] };

/// A rule is not taken into more parts than this to say who decides in its place.
const MOST_PARTS: usize = 2_000;

/// A rule among the lines that some of its packets may meet.
struct Rule<'l, 'p> {
    at: usize,
    decision: &'p Decision,
    own: &'l [Line<'p>],
    /// Those above it, and then those below it.
    met: Vec<&'l Line<'p>>,
    /// How many of them are above it.
    above: usize,
    lines: &'l Lines<'p>,
    likely: &'l Packet,
}

/// Findings about the rules of one direction.
fn findings(subjects: &Subjects<'_>, lines: &Lines<'_>) -> Vec<Finding> {
    let likely = (subjects.likely)(lines.direction);
    let mut findings = Vec::new();
    for (at, decision) in subjects.rules(lines.direction) {
        let own = lines.of_decision(at);
        let mut met: Vec<&Line<'_>> = own
            .iter()
            .flat_map(|line| lines.meeting(&line.piece))
            .filter(|it| it.decision != at)
            .collect();
        if own.len() > 1 {
            met.sort_by_key(|it| std::ptr::from_ref(*it));
            met.dedup_by_key(|it| std::ptr::from_ref(*it));
        }
        let above = met.partition_point(|it| it.decision < at);
        let rule = Rule { at, decision, own, met, above, lines, likely: &likely };
        findings.extend(rule.findings(subjects));
    }
    doubt_the_wide(findings, lines)
}

impl<'l, 'p> Rule<'l, 'p> {
    fn findings(&self, subjects: &Subjects<'_>) -> Vec<Finding> {
        let direction = self.lines.direction;
        match self.effective() {
            Ok(None) => return vec![self.shadowed()],
            Ok(Some(_)) => {}
            Err(Spent) => {
                if self.can_be_idle() && idle_by_diagrams(subjects.plan, direction, self.at) {
                    return vec![self.idle()];
                }
            }
        }
        let mut findings = Vec::new();
        let idle = self.is_idle().unwrap_or_else(|Spent| {
            self.can_be_idle() && idle_by_diagrams(subjects.plan, direction, self.at)
        });
        let overlap = self.overlap();
        if idle {
            let idle = self.idle();
            // A denial that is overruled in part has its place to be mended first: only there does
            // it do more than the default.
            let overruled = overlap.as_ref().is_some_and(|it| it.severity == Severity::Warning);
            findings.extend((idle.code == Code::Redundant || !overruled).then_some(idle));
        }
        findings.extend(overlap);
        findings
    }

    fn outcome(&self) -> Outcome {
        Outcome(self.decision.act)
    }

    fn above(&self) -> &[&'l Line<'p>] {
        &self.met[..self.above]
    }

    fn below(&self) -> &[&'l Line<'p>] {
        &self.met[self.above..]
    }

    /// The lines before those of another decision.
    fn before(&self, decision: usize) -> &[&'l Line<'p>] {
        &self.met[..self.met.partition_point(|it| it.decision < decision)]
    }

    fn find(&self, piece: &Piece, covers: &[&Line<'p>]) -> Result<Option<Packet>, Spent> {
        let found = find(piece, covers, Some(self.likely), self.lines.direction, &mut budget())?;
        Ok(found.map(|packet| self.nearer(packet, piece, covers)))
    }

    /// The packet with the host's own address at the host's end, if it is as good an example then.
    fn nearer(&self, packet: Packet, piece: &Piece, covers: &[&Line<'p>]) -> Packet {
        let likely = self.likely;
        let other = match self.lines.direction {
            Direction::Inbound => Packet {
                destination: likely.destination,
                destination_is: likely.destination_is,
                ..packet.clone()
            },
            Direction::Outbound => {
                Packet { source: likely.source, source_is: likely.source_is, ..packet.clone() }
            }
            Direction::Forwarded => return packet,
        };
        let one_version = Family::of(other.source) == Family::of(other.destination);
        let as_good = one_version
            && piece.contains(&other)
            && !covers.iter().any(|line| line.piece.contains(&other));
        if as_good { other } else { packet }
    }

    /// A packet that the rule decides.
    fn effective(&self) -> Result<Option<Packet>, Spent> {
        for line in self.own {
            if let Some(packet) = self.find(&line.piece, self.above())? {
                return Ok(Some(packet));
            }
        }
        Ok(None)
    }

    /// Whether the rule does no more than give a verdict: reports and limits would be missed.
    fn can_be_idle(&self) -> bool {
        self.decision.log.is_none() && matches!(self.decision.act, Act::Decide(_))
    }

    /// Whether no packet would fare differently without the rule.
    fn is_idle(&self) -> Result<bool, Spent> {
        if !self.can_be_idle() {
            return Ok(false);
        }
        // The default takes most of what a rule leaves, so it comes first; of the others, the nearest.
        let differs = |line: &&&Line<'p>| !Outcome(line.of.act).same_as(self.outcome());
        let (last, others) =
            self.below().split_last().map_or((None, &[][..]), |it| (Some(it.0), it.1));
        for next in last.into_iter().chain(others).filter(differs) {
            let covers = self.before(next.decision);
            for own in self.own {
                let both = own.piece.intersection(&next.piece);
                if self.find(&both, covers)?.is_some() {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    fn shadowed(&self) -> Finding {
        let mut deciders: Vec<&Decision> = Vec::new();
        let mut left = Parts::of(self.own.iter().map(|line| line.piece.clone()));
        // How far it is taken apart is bounded below.
        let mut budget = Budget::new(usize::MAX);
        for line in self.above() {
            // Who has decided so far is enough to say where it gets too detailed.
            if left.is_empty() || left.len() > MOST_PARTS {
                break;
            }
            let took = left.take(line.what(), &mut budget).is_ok_and(|it| !it.is_empty());
            if took && !deciders.iter().any(|it| it.id == line.of.id) {
                deciders.push(line.of);
            }
        }
        let witness =
            self.own.first().and_then(|line| line.piece.example(self.likely, self.lines.direction));
        let ids: Vec<RuleId> = deciders.iter().map(|it| it.id.clone()).collect();
        let opposed: Vec<&Decision> = deciders
            .iter()
            .copied()
            .filter(|it| Outcome(it.act).opposes(self.outcome()) && it.id.kind == Kind::Rule)
            .collect();
        let name = &self.decision.id;
        let verb = self.decision.act.verdict().as_str();
        let opposite = match (opposed.is_empty(), self.decision.act.verdict()) {
            (true, _) => "",
            (_, Verdict::Allow) => "; some of it is not allowed there",
            (_, _) => "; some of it is allowed there",
        };
        // The baseline always takes a little; it is named only where nothing else is to be.
        let written: Vec<RuleId> = ids.iter().filter(|id| id.kind == Kind::Rule).cloned().collect();
        let named = if written.is_empty() { &ids } else { &written };
        let together = if named.len() > 1 { " together" } else { "" };
        let message = match named.is_empty() {
            true => "never decides anything: there is no packet such as it names".to_owned(),
            false => format!(
                "never decides anything: all that it would {verb} is decided above by \
                 {}{together}{opposite}",
                listed(named)
            ),
        };
        let finding = Finding::about(Code::Shadowed, Severity::Warning, self.decision, message)
            .others(named.iter().cloned())
            .witness(witness);
        match opposed.first() {
            Some(first) => {
                finding.mend(Mend::Move { rule: name.clone(), before: first.id.clone() })
            }
            None => finding.mend(Mend::Remove(name.clone())),
        }
    }

    /// What is said of a rule without which nothing would change.
    fn idle(&self) -> Finding {
        let name = &self.decision.id;
        let verb = self.decision.act.verdict().as_str();
        let own: Vec<Piece> = self.own.iter().map(|line| line.piece.clone()).collect();
        let heirs = self.heirs(own);
        let only_default =
            heirs.as_ref().is_some_and(|ids| ids.iter().all(|id| id.kind == Kind::Default));
        let witness = self.effective().ok().flatten();
        let (code, severity, message) = if only_default {
            let message = format!("does what the default does anyway: {verb}");
            (Code::SameAsDefault, Severity::Note, message)
        } else {
            let by = heirs.as_ref().map_or_else(String::new, |ids| format!(", by {}", listed(ids)));
            let message = format!(
                "could go: without it, every packet would fare the same, since what it takes is \
                 decided alike below{by}"
            );
            (Code::Redundant, Severity::Warning, message)
        };
        Finding::about(code, severity, self.decision, message)
            .others(heirs.unwrap_or_default())
            .witness(witness)
            .mend(Mend::Remove(name.clone()))
    }

    /// Who would decide what the rule decides; `None` if that is too entangled to be told.
    fn heirs(&self, own: Vec<Piece>) -> Option<Vec<RuleId>> {
        let mut budget = budget();
        let mut left = Parts::of(self.lines.left_to(self.at, own, &mut budget).ok()?);
        let mut ids: Vec<RuleId> = Vec::new();
        for line in self.below() {
            if left.is_empty() {
                break;
            }
            let took = !left.take(line.what(), &mut budget).ok()?.is_empty();
            if took && ids.last() != Some(&line.of.id) {
                ids.push(line.of.id.clone());
            }
        }
        Some(ids)
    }

    /// Earlier rules that decide the opposite for a part of what this one matches.
    fn overlap(&self) -> Option<Finding> {
        /// More are not looked for: these are enough to see what is going on.
        const MOST: usize = 12;
        let mut found: Vec<(&Decision, Packet)> = Vec::new();
        for line in self.above() {
            let opposed = line.of.id.kind == Kind::Rule
                && Outcome(line.of.act).opposes(self.outcome())
                && !found.iter().any(|it| it.0.id == line.of.id);
            if !opposed || found.len() == MOST {
                continue;
            }
            if !self.is_exception(line.decision)
                && let Some(packet) = self.overruled_by(line)
            {
                found.push((line.of, packet));
            }
        }
        let (_, witness) = found.first()?.clone();
        let ids: Vec<RuleId> = found.iter().map(|it| it.0.id.clone()).collect();
        let name = &self.decision.id;
        // A list of those who may not comes first as a rule; what is to be kept out and gets in
        // all the same is another matter.
        let (severity, what) = match self.decision.act.verdict() {
            Verdict::Allow => (Severity::Note, "not allowed"),
            Verdict::Deny | Verdict::Reject => (Severity::Warning, "allowed"),
        };
        let verb = self.decision.act.verdict().as_str();
        let message = format!(
            "a part of what it would {verb} is {what} all the same: {} above it decides that part",
            listed(&ids)
        );
        let finding = Finding::about(Code::Overlap, severity, self.decision, message);
        let first = ids.first()?.clone();
        let finding = finding.others(ids).witness(Some(witness));
        Some(if severity == Severity::Warning {
            finding.mend(Mend::Move { rule: name.clone(), before: first })
        } else {
            finding
        })
    }

    /// A packet that this rule matches and the line of an earlier one decides.
    fn overruled_by(&self, line: &Line<'p>) -> Option<Packet> {
        let over = self.before(line.decision);
        self.own.iter().find_map(|own| {
            let both = own.piece.intersection(&line.piece);
            self.find(&both, over).ok().flatten()
        })
    }

    /// Whether all that an earlier decision matches is matched by this rule too: then it is an
    /// exception to it.
    fn is_exception(&self, earlier: usize) -> bool {
        let own: Vec<&Line<'p>> = self.own.iter().collect();
        let lines = self.lines.of_decision(earlier);
        lines.iter().all(|line| matches!(self.find(&line.piece, &own), Ok(None)))
    }
}

/// Steps for one question about one rule.
fn budget() -> Budget {
    Budget::new(400_000)
}

/// Whether every packet fares alike without one of the rules: by the diagrams of everything, for
/// rules that are too entangled with others to be looked at by themselves.
fn idle_by_diagrams(plan: &HostPlan, direction: Direction, decision: usize) -> bool {
    let mut other = plan.clone();
    other.chains[direction as usize].decisions.remove(decision);
    let mut atlas = Atlas::new();
    let (whole, without) = (atlas.plan(plan), atlas.plan(&other));
    atlas.differences(&whole, &without, 1).is_empty()
}
