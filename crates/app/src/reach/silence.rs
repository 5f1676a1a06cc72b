//! What became of probes that met silence, by this host's own counters.

use super::sighting::Sighting;
use super::verdicts::Word;
use crate::led::Led;
use std::collections::HashMap;
use std::net::IpAddr;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;
use tipstaff_linux::probe::State;
use tipstaff_linux::ruleset::Tally;

/// Explains silence: a probe that arrived was counted by whoever decides it.
pub(super) fn explain(
    sightings: &mut [Sighting],
    before: &[Tally],
    after: &[Tally],
    machine: &dyn Machine,
) {
    let link = |it: IpAddr| machine.way_to(it).ok().and_then(|it| it.link);
    let neighbours = |one, other| link(one).is_some_and(|it| link(other) == Some(it));
    let counted = counted(before, after);
    let mut probes: HashMap<Key, u64> = HashMap::new();
    for sighting in sightings.iter() {
        if let Some((key, _)) = decider(sighting) {
            *probes.entry(key).or_default() += 1;
        }
    }
    for sighting in sightings {
        let silent = sighting.outcome.as_ref().is_ok_and(|it| it.state == State::Silent);
        let Some((key, verdict)) = decider(sighting).filter(|_| silent) else { continue };
        let counted = counted.get(&key).copied().unwrap_or_default();
        let probes = probes[&key];
        let id = key.1;
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
            Verdict::Allow => {
                let arrived =
                    format!("it arrived and was allowed by {id}, which counted {all} meanwhile");
                match &sighting.probe.fares.fate.led {
                    Some(Led::To(to, _)) if neighbours(sighting.source, to.ip()) => format!(
                        "{arrived}; {} is on the sender's own link and answers it directly, as somebody whom it \
                         did not ask",
                        to.ip()
                    ),
                    _ => format!("{arrived}; nobody answered"),
                }
            }
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

/// A decision: parts of the baseline have the same name in each direction.
type Key = (Direction, RuleId);

/// Who decides a probe by the kernel's rules, and how.
fn decider(sighting: &Sighting) -> Option<(Key, Verdict)> {
    let fate = &sighting.probe.fares.fate;
    match &fate.kernel {
        Word::Decided(decided) => Some(((fate.direction, decided.by.clone()), decided.verdict)),
        Word::NoRules | Word::Unknown => None,
    }
}

/// What each decision about what comes in, to here or to where it is led, has counted meanwhile.
fn counted(before: &[Tally], after: &[Tally]) -> HashMap<Key, Counted> {
    let comes_in = |it: &&Tally| it.direction != Direction::Outbound;
    let key = |it: &Tally| (it.direction, it.id.clone());
    let then: HashMap<Key, Counted> =
        before.iter().filter(comes_in).map(|it| (key(it), Counted::of(it))).collect();
    let mut counted = HashMap::new();
    for tally in after.iter().filter(comes_in) {
        let before = then.get(&key(tally)).copied().unwrap_or_default();
        let now = Counted::of(tally);
        let since = Counted {
            taken: now.taken.saturating_sub(before.taken),
            excess: now.excess.saturating_sub(before.excess),
        };
        counted.insert(key(tally), since);
    }
    counted
}
