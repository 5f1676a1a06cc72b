//! How much a rule program may take.
//!
//! A lookup by one field leads to lists for each of its values, which may be looked up by another field,
//! and so on: where rules overlap in many fields, that multiplies. So lookups are given a bounded room,
//! and a list that finds none in it is walked.

use super::clauses::kinds;
use crate::plan::{Condition, InterfaceTest};

/// The bytes that an entry of a lookup takes in the kernel's messages.
pub(super) const ENTRY: usize = 72;
/// Those of a rule without the sets that it looks into.
pub(super) const RULE: usize = 320;
/// Those of a range in a set.
const RANGE: usize = 56;
/// Lookups may make a program so many times as large as it is when walked...
const TIMES: usize = 3;
/// ... or this large, whichever is more; ...
const LEAST: usize = 900 * 1024;
/// ... and so many times as large, as long as it is no larger than this: to load a larger one takes the kernel many
/// seconds.
const MOST_TIMES: usize = 12;
const AMPLE: usize = 32 * 1024 * 1024;

/// The bytes that lookups may still take.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Room(usize);

impl Room {
    /// What a list may take that is `plain` bytes when walked, of a program that is `all`.
    pub(super) fn share(plain: usize, all: usize) -> Self {
        let ample = (MOST_TIMES * all).min(AMPLE);
        Self((TIMES * all).max(LEAST).max(ample)).part(plain, all)
    }

    /// The part of it for something that weighs so much of all that it is for.
    pub(super) fn part(self, weight: usize, all: usize) -> Self {
        let wide = |it: usize| u128::try_from(it).unwrap_or(0);
        let part = wide(self.0) * wide(weight) / wide(all.max(1));
        Self(usize::try_from(part).unwrap_or(usize::MAX))
    }

    /// Takes so many bytes, if there are that many.
    pub(super) fn take(&mut self, bytes: usize) -> bool {
        let left = self.0.checked_sub(bytes);
        self.0 = left.unwrap_or(self.0);
        left.is_some()
    }
}

/// About how many bytes the rules for a condition take.
pub(super) fn weight(condition: &Condition) -> usize {
    let traffic = &condition.traffic;
    let groups = kinds(&traffic.ports)
        + usize::from(!traffic.icmp.is_empty() && !traffic.icmp.is_full())
        + usize::from(!traffic.icmpv6.is_empty() && !traffic.icmpv6.is_full())
        + usize::from(!traffic.others.is_empty() && !traffic.others.is_full());
    let groups = if traffic.is_any() { 1 } else { groups.max(1) };
    let ends = [&condition.source, &condition.destination];
    let ranges: usize = ends
        .into_iter()
        .map(|it| it.v4.ranges().len() + it.v6.ranges().len())
        .chain([
            traffic.pieces(),
            condition.source_ports.ranges().len(),
            condition.published.ranges().len(),
        ])
        // One or two ranges are compared in the rule itself.
        .map(|ranges| if ranges > 2 { ranges * RANGE } else { 0 })
        .sum();
    let interfaces = [&condition.in_interface, &condition.out_interface];
    let interfaces = interfaces.into_iter().filter(|it| **it != InterfaceTest::Any).count();
    groups * (RULE + interfaces * 100) + ranges
}

/// Whether a condition that occurs in many lists takes less if its rules stand in a chain of their own.
pub(super) fn is_heavy(condition: &Condition) -> bool {
    weight(condition) >= 3 * RULE
}

#[cfg(test)]
mod tests {
    use super::{AMPLE, LEAST, MOST_TIMES, RANGE, RULE, Room, TIMES, weight};
    use crate::plan::resolve;
    use crate::policy::{Source, Time, read};
    use crate::space::Direction;

    /// What a rule with these keys weighs.
    fn of(keys: &str) -> usize {
        let text = format!(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
             interfaces = {{ outside = \"eth0\" }}\n[[host.sluice.rule]]\nname = \"it\"\n{keys}\n"
        );
        let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
        let plan = resolve(&policy, "sluice", Time::from_seconds(0)).expect("the host");
        let decisions = &plan.chain(Direction::Inbound).decisions;
        let rule = decisions.iter().find(|it| it.id.to_string() == "it").expect("the rule");
        rule.conditions.iter().map(weight).sum()
    }

    #[test]
    fn a_rule_weighs_what_it_takes_to_tell_its_packets() {
        for (keys, rules, ranges, interfaces) in [
            ("allow = [\"22/tcp\"]", 1, 0, 0),
            ("allow = [\"22/tcp+udp\"]", 1, 0, 0),
            ("allow = [\"22/tcp\", \"53/udp\"]", 2, 0, 0),
            ("allow = [\"22/tcp\", \"icmp:echo-request\"]", 3, 3, 0),
            ("allow = [\"icmp:echo-request\"]", 2, 0, 0),
            ("allow = [\"22/tcp\", \"proto:47\"]", 2, 0, 0),
            // More than it takes: its parts are not told apart.
            ("allow = [\"any\"]", 1, 6, 0),
            ("allow = [\"22/tcp\"]\ningress = [\"outside\"]", 1, 0, 1),
            ("allow = [\"22/tcp\"]\nfrom = [\"198.51.100.1\", \"198.51.100.3\"]", 1, 0, 0),
            (
                "allow = [\"22/tcp\"]\nfrom = [\"198.51.100.1\", \"198.51.100.3\", \"198.51.100.5\"]",
                1,
                3,
                0,
            ),
        ] {
            assert_eq!(of(keys), rules * (RULE + interfaces * 100) + ranges * RANGE, "{keys}");
        }
    }

    #[test]
    fn room_is_shared_by_weight_and_runs_out() {
        let mut room = Room::share(LEAST, LEAST);
        assert!(room.take(MOST_TIMES * LEAST) && !room.take(1), "all of it is one list's");
        let mut room = Room::share(AMPLE / 4, AMPLE / 4);
        assert!(room.take(AMPLE) && !room.take(1), "more is only for larger ones");
        let mut room = Room::share(AMPLE, AMPLE);
        assert!(room.take(TIMES * AMPLE) && !room.take(1));
        let mut room = Room::share(10, 40);
        assert!(!room.take(LEAST / 4 + 1), "a quarter of the least");
        assert!(room.take(LEAST / 4) && room.take(0) && !room.take(1));
        // What is refused takes nothing.
        let mut room = Room::share(LEAST, LEAST);
        assert!(!room.take(usize::MAX) && room.take(MOST_TIMES * LEAST));
        assert!(!Room::share(0, 0).take(1));
    }
}
