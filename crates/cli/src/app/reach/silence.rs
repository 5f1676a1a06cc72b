//! What became of probes that met silence, by this host's own counters.

use super::probes::Sighting;
use super::verdicts::Word;
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::Direction;
use tipstaff_linux::probe::State;
use tipstaff_linux::ruleset::Tally;

/// Explains silence: a probe that arrived was counted by whoever decides it.
pub fn explain(sightings: &mut [Sighting], before: &[Tally], after: &[Tally]) {
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
        let (counted, probes) = (counted.get(&id).copied().unwrap_or(0), probes[&id]);
        sighting.explained = Some(match (counted, verdict) {
            (0, _) => format!("it never arrived: {id} counted nothing meanwhile"),
            (counted, _) if counted < probes => {
                format!("perhaps it never arrived: {id} counted only {counted} for {probes} probes")
            }
            (counted, Verdict::Deny) => {
                format!("it arrived and was denied by {id}, which counted {counted} meanwhile")
            }
            (counted, Verdict::Allow) => format!(
                "it arrived and was allowed by {id}, which counted {counted} meanwhile; nobody answered"
            ),
            (counted, Verdict::Reject) => format!(
                "it arrived and was rejected by {id}, which counted {counted} meanwhile; the answer \
                 was lost"
            ),
        });
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
fn counted(before: &[Tally], after: &[Tally]) -> HashMap<RuleId, u64> {
    let packets = |tally: &Tally| {
        tally.taken.packets + tally.excess.as_ref().map_or(0, |excess| excess.packets)
    };
    let inbound = |it: &&Tally| it.direction == Direction::Inbound;
    let then: HashMap<&RuleId, u64> =
        before.iter().filter(inbound).map(|it| (&it.id, packets(it))).collect();
    let mut counted = HashMap::new();
    for tally in after.iter().filter(inbound) {
        let before = then.get(&tally.id).copied().unwrap_or(0);
        counted.insert(tally.id.clone(), packets(tally).saturating_sub(before));
    }
    counted
}
