//! A plan on a machine: which of its interfaces are meant by what the policy calls them.

use super::condition::{Condition, InterfaceTest, LOOPBACK};
use super::model::{Decision, HostPlan, RuleId};
use crate::policy::{Interface, Verdict};
use crate::space::HardwareAddress;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// An interface as the machine's kernel tells of it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LinkSeen {
    /// Its name, under which rules see its packets.
    pub name: String,
    /// Other names of it.
    pub alternatives: Vec<String>,
    /// The hardware address that it uses.
    pub hardware: Option<HardwareAddress>,
    /// The hardware address that it was made with.
    pub permanent: Option<HardwareAddress>,
    /// Whether it stands upon others, whose hardware address it may have: a bridge, a bond, a VLAN.
    pub is_derived: bool,
    /// What it is a part of.
    pub part_of: Option<Whole>,
}

/// What an interface is a part of, under whose name its packets are seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Whole {
    /// The name that the machine has for it.
    pub name: String,
    /// Whether all its parts are one link to the same neighbours, as those of a bond are.
    pub is_one_link: bool,
}

/// How what a policy calls an interface stands on a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It is the name of an interface.
    There,
    /// The machine has no such interface.
    Missing,
    /// It is the interface that goes by this name.
    Known(String),
    /// All these have that hardware address.
    Several(Vec<String>),
    /// It is a part of this one.
    PartOf(Whole),
}

/// What a policy calls an interface, and how that stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Placed {
    /// The role, if it is known by its hardware address; else its name.
    pub called: String,
    /// The hardware address by which a rule names it.
    pub hardware: Option<HardwareAddress>,
    /// What the machine has in its place.
    pub standing: Standing,
    /// The first rule that tells packets apart by it, a denying one if there is one.
    pub rule: RuleId,
}

impl HostPlan {
    /// Puts the plan on a machine with these interfaces: what the policy calls by another name or by
    /// a hardware address goes by the name that the kernel knows from here on, and what is a part of
    /// something by the name of the whole. A rule that lets nobody in by mistake is the aim:
    /// - where several interfaces have that hardware address, rules that deny mean all of them, and
    ///   rules that allow none;
    /// - where the whole has other parts too, as a bridge has, only rules that deny mean the whole.
    ///
    /// Gives how everything stands that active rules name.
    pub fn place(&mut self, links: &[LinkSeen]) -> Vec<Placed> {
        let known: BTreeMap<&str, Option<HardwareAddress>> =
            self.interfaces.iter().map(|it| (it.name.as_str(), it.hardware)).collect();
        let mut names: BTreeMap<String, Placed> = BTreeMap::new();
        let decisions = || self.chains.iter().flat_map(|it| &it.decisions);
        for of_denials in [true, false] {
            let active = decisions().filter(|it| it.idle.is_none() && denies(it) == of_denials);
            for (decision, condition) in
                active.flat_map(|it| it.conditions.iter().map(move |c| (it, c)))
            {
                for name in named(condition) {
                    names.entry(name.to_owned()).or_insert_with(|| {
                        let hardware = known.get(name).copied().flatten();
                        let standing = standing(name, hardware, links);
                        Placed {
                            called: name.into(),
                            hardware,
                            standing,
                            rule: decision.id.clone(),
                        }
                    });
                }
            }
        }
        for decision in self.chains.iter_mut().flat_map(|it| &mut it.decisions) {
            rename(decision, &names);
        }
        for Interface { name, hardware, .. } in &mut self.interfaces {
            if let Standing::Known(known) = standing(name, *hardware, links) {
                *name = known;
            }
        }
        names.into_values().collect()
    }
}

/// The interfaces that a condition asks for.
fn named(condition: &Condition) -> impl Iterator<Item = &str> {
    [&condition.in_interface, &condition.out_interface].into_iter().filter_map(asked)
}

fn asked(test: &InterfaceTest) -> Option<&str> {
    test.name().filter(|it| *it != LOOPBACK)
}

fn denies(decision: &Decision) -> bool {
    decision.act.verdict() != Verdict::Allow
}

fn rename(decision: &mut Decision, names: &BTreeMap<String, Placed>) {
    let denies = denies(decision);
    let other = |test: &InterfaceTest| -> Option<Vec<InterfaceTest>> {
        let placed = names.get(asked(test)?)?;
        match test {
            InterfaceTest::IsNot(_) => placed.all_but(denies),
            _ => Some(placed.goes_by(denies)?.into_iter().map(InterfaceTest::Is).collect()),
        }
    };
    let told = |it: &Condition| other(&it.in_interface).or(other(&it.out_interface)).is_some();
    if !decision.conditions.iter().any(told) {
        return;
    }
    let tests = |test: &InterfaceTest| match other(test) {
        None => vec![test.clone()],
        Some(tests) => tests,
    };
    let mut placed = Vec::new();
    for condition in &decision.conditions {
        for in_interface in tests(&condition.in_interface) {
            for out_interface in tests(&condition.out_interface) {
                let in_interface = in_interface.clone();
                let condition = Condition { in_interface, out_interface, ..condition.clone() };
                // Two parts of one bond.
                if !placed.contains(&condition) {
                    placed.push(condition);
                }
            }
        }
    }
    decision.conditions = placed;
}

impl Placed {
    /// The names that stand for it in a plan, where they depend on the machine's interfaces.
    #[must_use]
    pub fn names(&self) -> Vec<String> {
        [true, false].into_iter().filter_map(|denies| self.goes_by(denies)).flatten().collect()
    }

    /// What a rule for all other interfaces has to ask; `None`: as it is called. Again a rule that denies means rather
    /// more, and one that allows rather less.
    fn all_but(&self, denies: bool) -> Option<Vec<InterfaceTest>> {
        let all_but = |name: &str| Some(vec![InterfaceTest::IsNot(name.to_owned())]);
        match &self.standing {
            Standing::Known(name) => all_but(name),
            // Which of them it is not, no single test tells.
            Standing::Several(_) if !denies => Some(Vec::new()),
            Standing::PartOf(whole) if !denies || whole.is_one_link => all_but(&whole.name),
            _ if self.hardware.is_some() => all_but(&nobody(&self.called)),
            _ => None,
        }
    }

    /// The names by which a rule has to ask for it; `None`: as it is called.
    fn goes_by(&self, denies: bool) -> Option<Vec<String>> {
        match &self.standing {
            Standing::Known(name) => Some(vec![name.clone()]),
            Standing::Several(names) if denies => Some(names.clone()),
            Standing::PartOf(whole) if denies || whole.is_one_link => {
                Some(vec![whole.name.clone()])
            }
            // The role may be the name of some other interface.
            _ if self.hardware.is_some() => Some(vec![nobody(&self.called)]),
            _ => None,
        }
    }
}

/// A name that no interface can have, as long as names may be: it has a slash.
fn nobody(role: &str) -> String {
    format!("{}/", role.chars().take(14).collect::<String>())
}

fn standing(called: &str, hardware: Option<HardwareAddress>, links: &[LinkSeen]) -> Standing {
    let found = match hardware {
        Some(hardware) => with(hardware, links),
        None => {
            let named = links.iter().find(|it| it.name == called);
            let other = || links.iter().find(|it| it.alternatives.iter().any(|it| it == called));
            named.or_else(other).into_iter().collect()
        }
    };
    match &found[..] {
        [] => Standing::Missing,
        [LinkSeen { part_of: Some(whole), .. }] => Standing::PartOf(whole.clone()),
        [one] if one.name == called && hardware.is_none() => Standing::There,
        [one] => Standing::Known(one.name.clone()),
        several => Standing::Several(several.iter().map(|it| it.name.clone()).collect()),
    }
}

/// The interfaces that were made with a hardware address; else those that use it, and of those the
/// ones that do not stand upon others.
fn with(hardware: HardwareAddress, links: &[LinkSeen]) -> Vec<&LinkSeen> {
    let all = |holds: &dyn Fn(&LinkSeen) -> bool| links.iter().filter(|it| holds(it)).collect();
    let made: Vec<&LinkSeen> = all(&|it| it.permanent == Some(hardware));
    if !made.is_empty() {
        return made;
    }
    let uses = |it: &LinkSeen| it.permanent.is_none() && it.hardware == Some(hardware);
    let own: Vec<&LinkSeen> = all(&|it| uses(it) && !it.is_derived);
    if own.is_empty() { all(&uses) } else { own }
}
