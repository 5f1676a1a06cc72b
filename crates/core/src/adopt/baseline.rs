//! Which parts of the baseline do what rules of others did.

use super::flatten::Flat;
use super::judged::{Left, NODES, meaning, pairs, program, without};
use crate::meaning::{Atlas, Fate, Meaning};
use crate::plan::HostPlan;
use crate::policy::Verdict;
use crate::space::{ConnectionState, Direction, StateSet};
use std::fmt::Write;

/// How the baseline is set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Settings {
    /// The switches that are off.
    pub off: Vec<&'static str>,
    /// What is said of echo requests.
    pub ping: String,
    /// Whether those are left out that follow others.
    pub follows: bool,
}

impl Settings {
    /// The baseline as it is if nobody says otherwise, but for pings.
    pub(super) fn usual() -> Self {
        Self { off: Vec::new(), ping: "deny".into(), follows: true }
    }

    /// Those that do as others did.
    pub(super) fn like(lists: &[Vec<Flat<'_>>; 3], usual: &HostPlan, left: Left) -> Self {
        let left = Left { pings: true, ..left };
        let mut atlas = Atlas::within(NODES);
        let theirs = atlas.program(&without(program(lists, false), left));
        let ours = meaning(&mut atlas, usual, left);
        let said = Said::of(&atlas, &ours, &theirs);
        let mut off = Vec::new();
        for name in ["loopback", "invalid", "neighbours", "dhcp"] {
            if !said.alike(name, None) {
                off.push(name);
            }
        }
        let full = StateSet::of(&ConnectionState::ALL);
        let follows = |direction: Direction| {
            let list = &lists[direction as usize];
            list.iter().any(|it| it.asked.states != full) || said.alike("replies", Some(direction))
        };
        let [inbound, outbound, forwarded] = Direction::ALL.map(follows);
        let stateful = |it: &Flat<'_>| it.asked.states != full;
        if !inbound && !lists[1..].iter().flatten().any(stateful) {
            off.push("replies");
        } else {
            off.extend((!outbound).then_some("outbound-replies"));
            off.extend((!forwarded).then_some("forwarded-replies"));
        }
        let (ping, follows) = said.ping();
        Self { off, ping, follows }
    }

    /// What can be on or off.
    pub(super) const SWITCHES: [&str; 7] = [
        "invalid",
        "replies",
        "outbound-replies",
        "forwarded-replies",
        "neighbours",
        "dhcp",
        "loopback",
    ];

    /// Turns a switch.
    pub(super) fn turn(&mut self, switch: &'static str) {
        match self.off.iter().position(|it| *it == switch) {
            Some(at) => {
                self.off.remove(at);
            }
            None => self.off.push(switch),
        }
    }

    /// The section of a policy.
    pub(super) fn text(&self, host: &str) -> String {
        let mut text = format!("\n[host.{host}.baseline]\nping = \"{}\"\n", self.ping);
        for name in &self.off {
            // Writing to a text cannot fail.
            let _ = writeln!(text, "{name} = false");
        }
        text
    }

    /// The states of the packets that come to the rules of a direction.
    pub(super) fn open(&self, direction: Direction) -> StateSet {
        let on = |name: &str| !self.off.contains(&name);
        let replies = match direction {
            Direction::Inbound => on("replies"),
            Direction::Outbound => on("replies") && on("outbound-replies"),
            Direction::Forwarded => on("replies") && on("forwarded-replies"),
        };
        let invalid = direction != Direction::Outbound && on("invalid");
        let mut open = StateSet::of(&ConnectionState::ALL);
        if replies {
            let decided = [ConnectionState::Established, ConnectionState::Related];
            open = open.difference(StateSet::of(&decided));
        }
        if invalid {
            open = open.difference(StateSet::of(&[ConnectionState::Invalid]));
        }
        open
    }
}

/// What others do with the packets of parts of the baseline.
struct Said<'a>(Vec<(Direction, &'a Fate, &'a Fate)>);

impl<'a> Said<'a> {
    fn of(atlas: &'a Atlas, ours: &Meaning, theirs: &Meaning) -> Self {
        Self(pairs(atlas, ours, theirs))
    }

    fn about(&self, name: &str) -> impl Iterator<Item = &(Direction, &'a Fate, &'a Fate)> {
        let id = crate::plan::RuleId::baseline(name);
        self.0.iter().filter(move |it| it.1.by() == Some(&id))
    }

    /// Whether others do with them what the part does, as far as is known.
    fn alike(&self, name: &str, direction: Option<Direction>) -> bool {
        self.about(name)
            .filter(|it| direction.is_none_or(|direction| it.0 == direction))
            .all(|it| *it.2 == Fate::Unknown || it.1.fares_like(it.2))
    }

    /// What a policy says of pings, and whether each that follows another fares like that.
    fn ping(&self) -> (String, bool) {
        let fates: Vec<&Fate> = self.about("ping").map(|it| it.2).collect();
        let verdict =
            |it: &&Fate| matches!(it, Fate::Decided { .. }).then(|| it.verdict()).flatten();
        let all = |verdict_is: Verdict| fates.iter().all(|it| verdict(it) == Some(verdict_is));
        if all(Verdict::Allow) {
            return ("allow".into(), true);
        }
        if all(Verdict::Deny) {
            return ("deny".into(), true);
        }
        if let [Fate::Within { rate, beyond, .. }] = fates[..]
            && beyond.verdict() == Some(Verdict::Deny)
        {
            return (rate.to_string(), false);
        }
        ("by-rules".into(), !fates.iter().any(|it| matches!(it, Fate::Within { .. })))
    }
}
