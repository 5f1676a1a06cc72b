//! What became of probes that met silence, by this host's own counters.

use super::sighting::Sighting;
use super::verdicts::Word;
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::Direction;
use tipstaff_linux::probe::State;
use tipstaff_linux::ruleset::Tally;

/// Explains silence: a probe that arrived was counted by whoever decides it.
pub(super) fn explain(sightings: &mut [Sighting], before: &[Tally], after: &[Tally]) {
    let counted = counted(before, after);
    let mut probes: HashMap<RuleId, u64> = HashMap::new();
    for sighting in sightings.iter() {
        if let Some((id, _)) = decider(sighting) {
            *probes.entry(id).or_default() += 1;
        }
    }
    for sighting in sightings {
        let silent = sighting.outcome.as_ref().is_ok_and(|it| it.state == State::Silent);
        let Some((id, verdict)) = decider(sighting).filter(|_| silent) else { continue };
        let counted = counted.get(&id).copied().unwrap_or_default();
        let probes = probes[&id];
        sighting.arrived = match counted.all() {
            0 => Some(false),
            all if all < probes => None,
            _ => Some(true),
        };
        let all = counted.all();
        sighting.explained = Some(match verdict {
            _ if all == 0 => format!("it never arrived: {id} counted nothing meanwhile"),
            _ if all < probes => {
                format!("perhaps it never arrived: {id} counted only {all} for {probes} probes")
            }
            Verdict::Allow if counted.excess > 0 => format!(
                "it arrived, and was denied as beyond the rate of {id}, which counted {} such meanwhile",
                counted.excess
            ),
            Verdict::Deny => {
                format!("it arrived and was denied by {id}, which counted {all} meanwhile")
            }
            Verdict::Allow => format!(
                "it arrived and was allowed by {id}, which counted {all} meanwhile; nobody answered"
            ),
            Verdict::Reject => format!(
                "it arrived and was rejected by {id}, which counted {all} meanwhile; the answer was lost"
            ),
        });
    }
}

/// Packets that a decision counted.
#[derive(Clone, Copy, Default)]
struct Counted {
    taken: u64,
    /// Those beyond its rate.
    excess: u64,
}

impl Counted {
    fn of(tally: &Tally) -> Self {
        let excess = tally.excess.as_ref().map_or(0, |excess| excess.packets);
        Self { taken: tally.taken.packets, excess }
    }

    fn all(self) -> u64 {
        self.taken + self.excess
    }
}

/// Who decides a probe by the kernel's rules, and how.
fn decider(sighting: &Sighting) -> Option<(RuleId, Verdict)> {
    match &sighting.probe.fares.fate.kernel {
        Word::Decided(decided) => Some((decided.by.clone(), decided.verdict)),
        Word::NoRules | Word::Unknown => None,
    }
}

/// What each decision about inbound traffic has counted meanwhile.
fn counted(before: &[Tally], after: &[Tally]) -> HashMap<RuleId, Counted> {
    let inbound = |it: &&Tally| it.direction == Direction::Inbound;
    let then: HashMap<&RuleId, Counted> =
        before.iter().filter(inbound).map(|it| (&it.id, Counted::of(it))).collect();
    let mut counted = HashMap::new();
    for tally in after.iter().filter(inbound) {
        let before = then.get(&tally.id).copied().unwrap_or_default();
        let now = Counted::of(tally);
        let since = Counted {
            taken: now.taken.saturating_sub(before.taken),
            excess: now.excess.saturating_sub(before.excess),
        };
        counted.insert(tally.id.clone(), since);
    }
    counted
}
