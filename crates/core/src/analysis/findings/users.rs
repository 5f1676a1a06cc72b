//! Users whom rules name, and whose sockets wait in their stead.

use super::facts::{Listener, Machine};
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use crate::plan::{Decision, Kind};
use crate::policy::{Code, Severity, Verdict};
use crate::space::Direction;
use std::collections::{BTreeMap, BTreeSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::UserMissing,
            severity: Severity::Warning,
            meaning: "This machine's own list of users (`/etc/passwd`) has no user of that name, so the rule \
             matches nothing here. Often the name is mistyped, or the service that makes the user is not \
             installed yet: enforce the policy again when it is. Users of a directory on the network go by \
             their numbers.",
        },
        FindingKind {
            code: Code::OtherUser,
            severity: Severity::Warning,
            meaning: "A rule lets others reach the sockets of a certain user at a port, and a socket of \
             another user waits there: what comes in meets some other rule or the default. A service that \
             opens its port as root, and goes on as another user, has a socket of root's.",
        },
        FindingKind {
            code: Code::UserShared,
            severity: Severity::Warning,
            meaning: "Rules name one user in two ways, by name and by number or by two names with the same \
             number. A socket has one owner: the kernel takes each way for that owner, and questions about \
             packets tell them apart. Name the user in one way.",
        },
    ],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let rules = machine.plan.decisions();
    let rules = rules.filter(|it| it.1.id.kind == Kind::Rule && it.1.idle.is_none());
    let mut names: BTreeMap<u32, &String> = BTreeMap::new();
    let mut found = Vec::new();
    for (direction, decision) in rules {
        found.extend(of_rule(machine, direction, decision));
        for user in decision.conditions.iter().flat_map(|it| &it.users) {
            let Some(Some(number)) = machine.facts.users.get(user) else { continue };
            let known = *names.entry(*number).or_insert(user);
            if known != user {
                let message = format!("names the user {user}, whom rules also name {known}");
                let finding =
                    Finding::about(Code::UserShared, Severity::Warning, decision, message);
                if !found.contains(&finding) {
                    found.push(finding);
                }
            }
        }
    }
    found
}

fn of_rule(machine: &Machine<'_>, direction: Direction, decision: &Decision) -> Vec<Finding> {
    let named: BTreeSet<&String> = decision.conditions.iter().flat_map(|it| &it.users).collect();
    let number = |name: &String| machine.facts.users.get(name).copied();
    let warn = |code, message| Finding::about(code, Severity::Warning, decision, message);
    let missing = named.iter().filter(|it| number(it) == Some(None));
    let mut found: Vec<Finding> = missing
        .map(|it| warn(Code::UserMissing, format!("names the user {it}, who is not known here")))
        .collect();
    let numbers: BTreeSet<u32> = named.iter().filter_map(|it| number(it).flatten()).collect();
    if direction != Direction::Inbound
        || decision.act.verdict() != Verdict::Allow
        || numbers.is_empty()
    {
        return found;
    }
    let mut others: BTreeMap<u32, BTreeSet<String>> = BTreeMap::new();
    let hears = |it: &&Listener| {
        let about = decision.conditions.iter().map(|it| &it.traffic);
        about.into_iter().any(|traffic| !traffic.is_any() && it.hears(traffic))
    };
    for listener in machine.facts.listeners.iter().filter(|it| it.for_others()).filter(hears) {
        if let Some(uid) = listener.uid.filter(|it| !numbers.contains(it)) {
            let port = format!("{}/{}", listener.port, listener.protocol);
            others.entry(uid).or_default().insert(port);
        }
    }
    let wanted: Vec<&str> = named.iter().map(|it| it.as_str()).collect();
    found.extend(others.into_iter().map(|(uid, ports)| {
        let ports: Vec<String> = ports.into_iter().collect();
        let (wanted, ports) = (wanted.join(" or "), ports.join(", "));
        let message = format!("is for sockets of {wanted}, but user {uid}'s waits at {ports}");
        warn(Code::OtherUser, message)
    }));
    found
}
