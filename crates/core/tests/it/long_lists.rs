//! What is found in lists so long that an index finds who meets whom, and that several hands read.

use crate::analysis::{given, likely};
use std::cell::Cell;
use std::collections::BTreeSet;
use tipstaff_core::analysis::{Subject, review, share_of};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::hands::Hands;
use tipstaff_core::plan::{Kind, resolve, resolve_by};
use tipstaff_core::policy::{Code, Source, read_all, read_by};
use tipstaff_core::space::{Direction, Piece};

#[test]
fn rules_that_never_decide_are_those_of_which_nothing_is_left() {
    let (mut dead, mut alive) = (0, 0);
    for seed in 0..3 {
        let (policy, plan) = given(&Generator::new(seed).grown_policy(700));
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
