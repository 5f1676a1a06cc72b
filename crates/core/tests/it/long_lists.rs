//! What is found in lists so long that an index finds who meets whom, and that several hands read.

use crate::analysis::{given, likely};
use std::cell::Cell;
use std::collections::BTreeSet;
use tipstaff_core::analysis::{
    Change, First, Subject, compare, compare_by, review, review_by, share_of,
};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::hands::Hands;
use tipstaff_core::plan::{Act, Kind, resolve, resolve_by};
use tipstaff_core::policy::{Code, Source, Verdict, read_all, read_by};
use tipstaff_core::space::{Direction, Piece};

#[test]
fn rules_that_never_decide_are_those_of_which_nothing_is_left() {
    let (mut dead, mut alive) = (0, 0);
    // The longest is looked at by several rules at a time.
    for (seed, rules) in [(0, 700), (1, 700), (2, 1_100)] {
        let (policy, plan) = given(&Generator::new(seed).grown_policy(rules));
        let mut found = BTreeSet::new();
        for finding in review(&policy, &plan, NOW, &likely) {
            match (finding.code, finding.subject) {
                (Code::Shadowed, Subject::Rule(id)) => found.extend([id.name]),
                // Several that one takes everything from are told of there.
                (Code::WideRuleAbove, _) => {
                    found.extend(finding.others.into_iter().map(|it| it.name));
                }
                _ => {}
            }
        }
        for direction in Direction::ALL {
            let rules =
                plan.chain(direction).decisions.iter().filter(|it| it.id.kind == Kind::Rule);
            for id in rules.map(|it| &it.id) {
                let left = share_of(&plan, direction, id, &Piece::full()).expect("few parts");
                assert_eq!(left.is_empty(), found.contains(&id.name), "{id} of seed {seed}");
                *(if left.is_empty() { &mut dead } else { &mut alive }) += 1;
            }
        }
    }
    assert!(dead > 300 && alive > 300, "{dead} dead, {alive} alive");
}

#[test]
fn many_hands_find_what_one_does() {
    let hands = Backwards(Cell::new(0));
    let text = Generator::new(3).grown_policy(1_300);
    let (policy, plan) = given(&text);
    let found = review_by(&hands, &policy, &plan, NOW, &likely);
    assert!(found.len() > 300 && found == review(&policy, &plan, NOW, &likely));
    // Every other rule of what it is held against is another one's.
    let other = given(&Generator::new(4).grown_policy(1_300)).1;
    let mut mixed = plan.clone();
    let list = &mut mixed.chains[Direction::Inbound as usize].decisions;
    for (rule, by) in list.iter_mut().zip(&other.chain(Direction::Inbound).decisions) {
        if rule.id.kind == Kind::Rule && rule.id.name.ends_with(['1', '3', '5', '7', '9']) {
            rule.conditions.clone_from(&by.conditions);
        }
    }
    let plans = [&plan, &mixed];
    let (one, many) =
        (compare(&plan, &mixed, likely), compare_by(&hands, plans, First::ALL, likely));
    assert!(one.changes.len() > 500 && one == many);
    // The first are the same, wherever the others are left out.
    let closing = |_: Act, after: Act| usize::from(after.verdict() == Verdict::Allow);
    let few = compare_by(&hands, plans, First { rank: closing, most: 40 }, likely);
    let mut all = one.changes;
    all.sort_by_key(|it| closing(it.before.act, it.after.act));
    assert_eq!(few.changes, all[..40]);
    let acts = |it: &Change| (it.before.act, it.after.act);
    assert_eq!(few.others, all[40..].iter().map(acts).collect::<Vec<_>>());
    assert!(hands.0.get() > 20, "{}", hands.0.get());
}

/// Two hands of which the second is always done first.
struct Backwards(Cell<usize>);

impl Hands for Backwards {
    fn both<A: Send, B: Send>(
        &self,
        first: impl FnOnce() -> A + Send,
        second: impl FnOnce() -> B + Send,
    ) -> (A, B) {
        self.0.set(self.0.get() + 1);
        let second = second();
        (first(), second)
    }
}

#[test]
fn many_hands_read_what_one_does() {
    let hands = Backwards(Cell::new(0));
    let long = Generator::new(5).grown_policy(1_300);
    let bundle = "\n[[bundle.ours.rule]]\nname = \"shared\"\nallow = [\"22/tcp\"]\n";
    let used = format!("\n[[host.{HOST_NAME}.rule]]\nuse = \"ours\"\n");
    let rule = |name: &str, rest: &str| {
        format!("\n[[host.{HOST_NAME}.rule]]\nname = \"{name}\"\n{rest}\n")
    };
    let mut wrong = 0;
    for (more, mistakes) in [
        (String::new(), 0),
        (format!("{used}{bundle}"), 0),
        (rule("rule-7", "allow = [\"22/tcp\"]"), 1),
        (rule("odd", "allow = [\"22/tpc\"]\nfrom = [\"nowhere\"]"), 2),
        (format!("{used}{used}{bundle}"), 1),
        (rule("empty", "deny = []\nfrom = [7]") + &rule("empty", "deny = [\"22/tcp\"]"), 2),
    ] {
        // In the middle: what stands behind has hands of its own.
        let middle = long.match_indices("\n[[").nth(650).expect("many rules").0;
        let text = format!("{}{more}{}", &long[..middle], &long[middle..]);
        let sources = [Source::new("policy.toml", text.as_str())];
        match (read_by(&hands, &sources), read_all(&sources)) {
            (Ok(policy), Ok(same)) => {
                assert_eq!(mistakes, 0, "{more}");
                assert_eq!(policy, same);
                let plan = resolve_by(&hands, &policy, HOST_NAME, NOW).expect("the host");
                assert_eq!(plan, resolve(&policy, HOST_NAME, NOW).expect("the host"));
            }
            (one, other) => {
                let problems = one.expect_err("mistakes");
                assert_eq!(problems, other.expect_err("the same mistakes"));
                assert!(problems.len() >= mistakes && mistakes > 0, "{more}: {problems:?}");
                wrong += 1;
            }
        }
    }
    assert_eq!((wrong, hands.0.get() > 6), (4, true));
}
