//! Sets of ports to which others gave names, as services of a policy.

use super::rules::{Names, Rule, list};
use super::terms::terms;
use crate::policy::{KNOWN_SERVICES, TRAFFIC_WORDS};
use crate::space::{PortProtocol, RangeSet};
use std::collections::BTreeSet;
use std::fmt::Write;

/// The services that there may be: of each its name, and the terms that it stands for.
pub(super) struct Services(Vec<(String, Vec<String>)>);

impl Services {
    /// For each set of several ports one a protocol: what it is used for, the set does not tell.
    pub(super) fn of(sets: &[(String, RangeSet<u16>)]) -> Self {
        let mut names = Names::default();
        for taken in TRAFFIC_WORDS.into_iter().chain(KNOWN_SERVICES.iter().map(|it| it.name)) {
            names.free(taken);
        }
        let mut all = Vec::new();
        for (set, ports) in sets.iter().filter(|it| !it.1.contains(0)) {
            for protocol in PortProtocol::ALL {
                let terms = terms(ports.ranges(), protocol);
                if terms.len() > 1 {
                    let name = match protocol {
                        PortProtocol::Tcp => set.clone(),
                        other => format!("{set} {other}"),
                    };
                    all.push((names.free(&name), terms));
                }
            }
        }
        // Of several that fit, the one that says most.
        all.sort_by_key(|it| std::cmp::Reverse(it.1.len()));
        Self(all)
    }

    /// The rule, with the names of services in place of their ports.
    pub(super) fn named(&self, rule: &Rule) -> Rule {
        let mut rule = rule.clone();
        for (name, terms) in &self.0 {
            if !terms.iter().all(|it| rule.traffic.contains(it)) {
                continue;
            }
            let at = rule.traffic.iter().position(|it| terms.contains(it)).unwrap_or(0);
            rule.traffic.insert(at, name.clone());
            rule.traffic.retain(|it| !terms.contains(it));
        }
        rule
    }

    /// The sections of those that are among terms of rules.
    pub(super) fn write(&self, used: &BTreeSet<String>, text: &mut String) {
        for (name, terms) in &self.0 {
            if used.contains(name) {
                // Writing to a text cannot fail.
                let _ = writeln!(text, "\n[service.{name}]\nports = {}", list(terms));
            }
        }
    }
}
