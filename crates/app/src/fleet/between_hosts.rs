//! What each host of a policy says of some traffic, for all pairs of them.

use super::compare::Side;
use crate::threads::Threads;
use crate::{Failure, now};
use std::collections::{BTreeMap, BTreeSet};
use tipstaff_core::analysis::{HostWord, Met, Way, met, ways};
use tipstaff_core::hands::Hands;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Fleet, Source, read_addresses, read_traffic};
use tipstaff_core::space::{AddressSet, TrafficSet};

/// Traffic as somebody asks for it.
pub(super) fn traffic(side: &Side, text: &str) -> Result<TrafficSet, Failure> {
    let source = Source::new("TRAFFIC", text);
    let read = read_traffic(&side.policy, &source);
    read.map_err(|problems| Failure::Input { sources: vec![source], problems })
}

/// The addresses of places, if some are named.
pub(super) fn places(side: &Side, names: &[String]) -> Result<Option<AddressSet>, Failure> {
    let read = |name: &String| {
        let source = Source::new("--within", name);
        let read = read_addresses(&side.policy, &source);
        read.map_err(|problems| Failure::Input { sources: vec![source], problems })
    };
    let sets = names.iter().map(read).collect::<Result<Vec<_>, _>>()?;
    Ok((!sets.is_empty()).then(|| sets.into_iter().collect()))
}

/// What a host of the policy does.
pub(super) fn plan(side: &Side, host: &str) -> Result<HostPlan, Failure> {
    Ok(resolve(&side.policy, host, now())?)
}

/// The hosts of a policy that can be pairs.
pub(super) struct Hosts<'p> {
    fleet: &'p Fleet,
    /// Those whose addresses are listed.
    plans: Vec<HostPlan>,
    /// The others.
    pub without_addresses: Vec<String>,
    all: AddressSet,
}

impl<'p> Hosts<'p> {
    /// Of a policy.
    ///
    /// # Errors
    /// [`Failure`] if a host cannot be worked out.
    pub(super) fn of(side: &'p Side) -> Result<Self, Failure> {
        let names: Vec<&str> = side.policy.hosts.iter().map(|it| it.name.as_str()).collect();
        let plans: Result<Vec<_>, _> = in_two(&names, |it| plan(side, it)).into_iter().collect();
        let (plans, others): (Vec<_>, Vec<_>) =
            plans?.into_iter().partition(|it: &HostPlan| !it.addresses.is_empty());
        let all = plans.iter().flat_map(|it| &it.addresses);
        let all = all.map(|&it| AddressSet::single(it)).collect();
        let without_addresses = others.into_iter().map(|it| it.host).collect();
        Ok(Self { fleet: &side.policy.fleet, plans, without_addresses, all })
    }

    /// What they say of some traffic, among all of their addresses or those `within` a set.
    ///
    /// # Errors
    /// [`Failure`] if that has too many parts.
    pub(super) fn asked(
        &self,
        traffic: &TrafficSet,
        within: Option<&AddressSet>,
    ) -> Result<Asked<'p>, Failure> {
        let all = within.map_or_else(|| self.all.clone(), |it| it.intersection(&self.all));
        let routers: BTreeSet<&str> =
            self.fleet.routes.iter().flat_map(|it| &it.through).map(String::as_str).collect();
        let word =
            |it: &HostPlan| HostWord::of(it, traffic, &all, routers.contains(it.host.as_str()));
        let words: Option<Vec<HostWord>> = in_two(&self.plans, word).into_iter().collect();
        let words = words.ok_or_else(|| {
            Failure::usage("a host's word has too many parts to be read", "ask about less traffic")
        })?;
        let at = words.iter().enumerate().map(|(at, it)| (it.host.clone(), at)).collect();
        Ok(Asked { fleet: self.fleet, words, at })
    }
}

/// What hosts say of some traffic.
pub(super) struct Asked<'p> {
    fleet: &'p Fleet,
    /// In the order of the policy.
    pub words: Vec<HostWord>,
    at: BTreeMap<String, usize>,
}

impl<'p> Asked<'p> {
    /// What one says.
    pub(super) fn word(&self, host: &str) -> Option<&HostWord> {
        self.words.get(*self.at.get(host)?)
    }

    /// By whom packets go from one to another.
    pub(super) fn ways(&self, from: &HostWord, to: &HostWord) -> Vec<Way<'p>> {
        ways(self.fleet, (&from.host, &from.own), (&to.host, &to.own))
    }

    /// What they meet.
    pub(super) fn met(&self, from: &HostWord, to: &HostWord) -> Met {
        met(from, to, &self.ways(from, to), |it| self.word(it))
    }

    /// What those of them meet that go from and to some addresses.
    pub(super) fn met_by(
        &self,
        from: &HostWord,
        to: &HostWord,
        (sends, receives): (&AddressSet, &AddressSet),
    ) -> Met {
        let ways = ways(self.fleet, (&from.host, sends), (&to.host, receives));
        met(from, to, &ways, |it| self.word(it))
    }
}

/// Works something out for each of a list, two at a time.
pub(super) fn in_two<T: Sync, R: Send>(list: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let (one, other) = list.split_at(list.len() / 2);
    let each = |part: &[T]| part.iter().map(&work).collect::<Vec<R>>();
    let (mut one, other) = Threads.both(|| each(one), || each(other));
    one.extend(other);
    one
}
