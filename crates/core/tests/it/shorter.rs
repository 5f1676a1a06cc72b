//! Shorter ways to an answer give what the longer ones do.

use crate::analysis::{given, holds, likely};
use std::collections::BTreeSet;
use tipstaff_core::analysis::{
    Finding, admitted, compare, compare_decisions, ordinary, review, review_errors, shares,
};
use tipstaff_core::generate::{Generator, NOW};
use tipstaff_core::hands::OneByOne;
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{Act, HostPlan, Kind, RuleId};
use tipstaff_core::policy::{Severity, Verdict};
use tipstaff_core::space::Direction;

/// Generated policies of all sizes.
fn texts() -> impl Iterator<Item = String> {
    let small = (0..60).map(|seed| Generator::new(seed).policy());
    let crowded = (0..4).map(|seed| Generator::new(seed).crowded().policy());
    small.chain(crowded).chain([Generator::new(1).grown_policy(120)])
}

#[test]
fn errors_alone_are_those_of_a_whole_review() {
    let mut errors = 0;
    let told = |all: &[Finding]| -> Vec<String> {
        let of = |it: &Finding| format!("{:?} {:?} {:?}", it.code, it.message, it.accepted);
        all.iter().filter(|it| it.severity == Severity::Error).map(of).collect()
    };
    for text in texts() {
        let (policy, plan) = given(&text);
        let whole = told(&review(&policy, &plan, NOW, &likely));
        let alone = review_errors(&policy, &plan, NOW, &likely);
        assert_eq!(alone.len(), whole.len(), "{text}");
        assert_eq!(told(&alone), whole, "{text}");
        errors += whole.len();
    }
    // Broken statements, besides what is made up.
    for text in texts().take(25) {
        let broken = "[[host.sluice.expect]]\ntraffic = [\"1-65535/udp\"]\nverdict = \"reject\"\n";
        let (policy, plan) = given(&format!("{text}\n{broken}"));
        let whole = told(&review(&policy, &plan, NOW, &likely));
        assert_eq!(told(&review_errors(&policy, &plan, NOW, &likely)), whole, "{text}");
        errors += whole.len();
    }
    assert!(errors > 20, "{errors}");
}

#[test]
fn what_is_admitted_is_what_shares_admit() {
    let (mut decisions, mut everything) = (0, 0);
    for text in texts() {
        let plan = given(&text).1;
        for direction in Direction::ALL {
            let region = ordinary(&plan, direction);
            let whole = shares(&plan, direction, vec![region.clone()]).expect("few parts");
            let passes = |act: Act| act.verdict() == Verdict::Allow;
            let meant: Vec<_> = whole.iter().filter(|it| passes(it.decision.act)).collect();
            let found = admitted(&plan, direction, &region, |_| true);
            let all = whole.iter().all(|it| it.decision.act == Act::Decide(Verdict::Allow));
            assert_eq!(found.everything, all, "{direction}\n{text}");
            let shares = found.shares.expect("few parts");
            assert_eq!(shares.len(), meant.len(), "{direction}\n{text}");
            let mut dice = Generator::new(7);
            for (one, other) in shares.iter().zip(&meant) {
                assert_eq!(one.decision.id, other.decision.id, "{direction}\n{text}");
                for _ in 0..20 {
                    let packet = dice.packet_for(&plan);
                    assert_eq!(holds(&one.pieces, &packet), holds(&other.pieces, &packet));
                }
                // Every piece has packets of the other's.
                for piece in one.pieces.iter().take(20) {
                    let packet = piece.example(&likely(direction), direction).expect("not empty");
                    assert!(holds(&other.pieces, &packet), "{packet:?}\n{text}");
                }
            }
            decisions += shares.len();
            everything += usize::from(all);
        }
    }
    assert!(decisions > 500 && everything > 15, "{decisions} {everything}");
}

/// The plan with its list in a direction edited in one of several ways.
fn edited(plan: &HostPlan, direction: Direction, dice: &mut Generator) -> HostPlan {
    let mut other = plan.clone();
    let list = &mut other.chains[direction as usize].decisions;
    let rules: Vec<usize> = (0..list.len()).filter(|&at| list[at].id.kind == Kind::Rule).collect();
    let last = list.len() - 1;
    let [Some(&one), Some(&two)] = [0; 2].map(|_| rules.get(dice.below(rules.len().max(1)))) else {
        // Nothing is written in this direction.
        list[last].act = Act::Decide(Verdict::Reject);
        return other;
    };
    match dice.below(6) {
        0 => drop(list.remove(one)),
        1 => list.swap(one, two),
        2 => {
            let (a, b) = (list[one].id.clone(), list[two].id.clone());
            (list[one].id, list[two].id) = (b, a);
        }
        3 => list[one].conditions = list[two].conditions.clone(),
        4 => list[one].act = Act::Decide(Verdict::Reject),
        _ => list[last].act = Act::Decide(Verdict::Reject),
    }
    other
}

#[test]
fn decisions_notice_by_lines_what_they_do_by_diagrams() {
    let mut noticed = 0;
    for (seed, text) in (1..).zip(texts()) {
        let plan = given(&text).1;
        let mut dice = Generator::new(seed);
        for direction in Direction::ALL.into_iter().cycle().take(12) {
            let other = edited(&plan, direction, &mut dice);
            let found = compare_decisions(&OneByOne, [&plan, &other], likely).expect("few lines");
            assert_eq!(found.changes, compare(&plan, &other, likely).changes, "{text}");
            let mut atlas = Atlas::new();
            let (old, new) = (atlas.plan(&plan), atlas.plan(&other));
            let mut meant: BTreeSet<RuleId> = BTreeSet::new();
            for (_, first, second) in atlas.fate_pairs(&old, &new) {
                let same = first.by() == second.by();
                let both = first.by().into_iter().chain(second.by());
                meant.extend(both.filter(|id| same || id.kind != Kind::Default).cloned());
            }
            assert_eq!(found.decisions, meant, "{direction}\n{text}");
            noticed += meant.len();
        }
    }
    assert!(noticed > 500, "{noticed}");
}

#[test]
fn two_plans_mean_apart_what_they_do_one_after_the_other() {
    let mut pairs = 0;
    for (seed, text) in (1..).zip(texts()) {
        let plan = given(&text).1;
        let mut dice = Generator::new(seed);
        let other = edited(&plan, Direction::Inbound, &mut dice);
        let other = edited(&other, Direction::Outbound, &mut dice);
        let mut after = Atlas::new();
        let (old, new) = (after.plan(&plan), after.plan(&other));
        let mut apart = Atlas::new();
        let [was, is] = apart.plans(&OneByOne, [&plan, &other]);
        let one = after.fate_pairs(&old, &new);
        assert_eq!(one, apart.fate_pairs(&was, &is), "{text}");
        let (first, second) = (after.differing(&old, &new), apart.differing(&was, &is));
        for at in 0..first.pairs().count() {
            let (direction, ..) = first.pairs().nth(at).expect("a pair");
            let packet = first.packet(at, &likely(direction)).expect("of a pair");
            assert_eq!(Some(&packet), second.packet(at, &likely(direction)).as_ref(), "{text}");
            assert_ne!(after.fate(&old, &packet), after.fate(&new, &packet), "{packet:?}\n{text}");
        }
        assert!(first.packet(one.len(), &likely(Direction::Inbound)).is_none());
        pairs += one.len();
    }
    assert!(pairs > 100, "{pairs}");
}
