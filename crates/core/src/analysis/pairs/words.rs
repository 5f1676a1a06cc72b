//! What becomes of some traffic between all pairs of many hosts: each host is asked once.

use super::between::{Fared, Leg, between};
use super::ways::{Way, own};
use crate::plan::HostPlan;
use crate::policy::Verdict;
use crate::space::{AddressSet, Direction, Piece, TrafficSet};

/// Packets by what becomes of them: those let through, denied, and rejected; disjoint only within one host's knowledge of
/// them, see [`Fared::pieces`].
type Parts = [Vec<Piece>; 3];

/// What a host says of some traffic.
#[derive(Clone, Debug)]
pub struct HostWord {
    /// The host.
    pub host: String,
    /// Its own addresses, as far as it is asked about them.
    pub own: AddressSet,
    sends: Parts,
    takes: Parts,
    passes: Option<Parts>,
}

/// What some packets from one host to another meet: for each verdict, an example of those that meet it.
#[derive(Clone, Debug, Default)]
pub struct Met([Option<Piece>; 3]);

impl Met {
    /// Packets that meet it; `None` if none do.
    #[must_use]
    pub fn of(&self, verdict: Verdict) -> Option<&Piece> {
        self.0[at(verdict)].as_ref()
    }

    /// Whether there are packets, and all meet it.
    #[must_use]
    pub fn all(&self, verdict: Verdict) -> bool {
        Verdict::ALL.iter().all(|&it| self.of(it).is_some() == (it == verdict))
    }

    /// Whether there is no packet at all.
    #[must_use]
    pub fn nothing(&self) -> bool {
        self.0.iter().all(Option::is_none)
    }

    fn note(&mut self, verdict: Verdict, piece: &Piece) {
        self.0[at(verdict)].get_or_insert_with(|| piece.clone());
    }
}

fn at(verdict: Verdict) -> usize {
    match verdict {
        Verdict::Allow => 0,
        Verdict::Deny => 1,
        Verdict::Reject => 2,
    }
}

impl HostWord {
    /// What a host says of traffic among addresses, as sender, as receiver, and, if it `passes` packets on, between;
    /// `None` if that has too many parts.
    #[must_use]
    pub fn of(
        plan: &HostPlan,
        traffic: &TrafficSet,
        all: &AddressSet,
        passes: bool,
    ) -> Option<Self> {
        let own = own(plan).intersection(all);
        let ends = |source: &AddressSet, destination: &AddressSet| Piece {
            traffic: traffic.clone(),
            source: source.clone(),
            destination: destination.clone(),
            ..Piece::full()
        };
        let sends = parts(plan, Direction::Outbound, &ends(&own, all))?;
        let takes = parts(plan, Direction::Inbound, &ends(all, &own))?;
        let passes = match passes {
            true => Some(parts(plan, Direction::Forwarded, &ends(all, all))?),
            false => None,
        };
        Some(Self { host: plan.host.clone(), own, sends, takes, passes })
    }
}

fn parts(plan: &HostPlan, direction: Direction, region: &Piece) -> Option<Parts> {
    let told = between(&[Leg { plan, direction }], region)?;
    let mut parts = Parts::default();
    for fared in told {
        let verdict = fared.by.last().map_or(Verdict::Deny, |it| it.act.verdict());
        let Fared { pieces, .. } = fared;
        parts[at(verdict)].extend(pieces);
    }
    Some(parts)
}

/// What becomes of the packets of all ways from one host to another. `word` finds the words of those between them, which
/// must have been asked as hosts that pass packets on.
#[must_use]
pub fn met<'w>(
    from: &'w HostWord,
    to: &'w HostWord,
    ways: &[Way<'_>],
    word: impl Fn(&str) -> Option<&'w HostWord>,
) -> Met {
    let mut met = Met::default();
    for way in ways {
        let between = way.through.iter().filter_map(|it| word(it)?.passes.as_ref());
        let legs = std::iter::once(&from.sends).chain(between).chain([&to.takes]);
        let mut here = vec![way.ends.clone()];
        for parts in legs {
            let [passing, denied, rejected] = parts.each_ref().map(|part| common(&here, part));
            for (verdict, pieces) in [(Verdict::Deny, denied), (Verdict::Reject, rejected)] {
                if let Some(piece) = pieces.first() {
                    met.note(verdict, piece);
                }
            }
            here = passing;
        }
        if let Some(piece) = here.first() {
            met.note(Verdict::Allow, piece);
        }
    }
    met
}

fn common(some: &[Piece], others: &[Piece]) -> Vec<Piece> {
    let pairs = some.iter().flat_map(|one| others.iter().map(move |other| one.intersection(other)));
    pairs.filter(|it| !it.is_empty()).collect()
}
