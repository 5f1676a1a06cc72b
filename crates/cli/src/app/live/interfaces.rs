//! The interfaces of this machine, held against the rules that tell packets apart by them.

use super::finding;
use crate::app::Loaded;
use std::collections::BTreeSet;
use tipstaff_core::analysis::{self, Code, Subject};
use tipstaff_core::plan::{Decision, HostPlan};
use tipstaff_core::policy::{Severity, Verdict};
use tipstaff_core::space::Direction;
use tipstaff_linux::{InterfaceStanding, NetlinkSocket, Protocol, interface_standings};

/// A name by which rules tell packets apart, and that is not that of an interface.
pub struct Odd {
    /// The name.
    pub name: String,
    /// How it stands.
    pub standing: InterfaceStanding,
    /// The first rule that names it, a denying one if there is one.
    pub rule: Decision,
}

impl Odd {
    /// In words.
    pub fn words(&self) -> String {
        let name = &self.name;
        match &self.standing {
            InterfaceStanding::Missing | InterfaceStanding::There => {
                format!("names the interface {name}, and there is none of that name here")
            }
            InterfaceStanding::Alternative(known) => format!(
                "names the interface {name}, which is another name of {known}: rules know it by that \
                 alone"
            ),
            InterfaceStanding::PartOf(whole) => format!(
                "names the interface {name}, which is a part of {whole}: its packets come in by that"
            ),
        }
    }
}

/// The names that rules in force use and that are not those of interfaces.
pub fn odd(plan: &HostPlan) -> Vec<Odd> {
    let names: BTreeSet<String> =
        Direction::ALL.into_iter().flat_map(|it| plan.interfaces_told_apart(it)).collect();
    let names: Vec<String> = names.into_iter().collect();
    if names.is_empty() {
        return Vec::new();
    }
    let standings = NetlinkSocket::open(Protocol::Route)
        .and_then(|mut routes| interface_standings(&mut routes, &names));
    // Who may not look says nothing.
    let standings = standings.unwrap_or_default();
    let odd = names.into_iter().zip(standings).filter(|it| it.1 != InterfaceStanding::There);
    odd.filter_map(|(name, standing)| {
        let names_it = |it: &&Decision| {
            let tests = it.conditions.iter().flat_map(|it| [&it.in_interface, &it.out_interface]);
            it.idle.is_none() && tests.filter_map(|test| test.name()).any(|it| it == name)
        };
        let all = || plan.decisions().map(|it| it.1).filter(names_it);
        let denies = |it: &&Decision| it.act.verdict() != Verdict::Allow;
        let rule = all().find(denies).or_else(|| all().next())?.clone();
        Some(Odd { name, standing, rule })
    })
    .collect()
}

/// Findings about them.
pub fn findings(loaded: &Loaded) -> Vec<analysis::Finding> {
    odd(&loaded.plan)
        .into_iter()
        .map(|odd| {
            let code = match odd.standing {
                InterfaceStanding::PartOf(_) => Code::InterfaceEnslaved,
                _ => Code::InterfaceMissing,
            };
            let mut found = finding(code, Severity::Warning, odd.words());
            found.subject = Subject::Rule(odd.rule.id.clone());
            found.origin.clone_from(&odd.rule.origin);
            found
        })
        .collect()
}
