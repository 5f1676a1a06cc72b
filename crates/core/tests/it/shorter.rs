//! Shorter ways to an answer give what the longer ones do.

use crate::analysis::{given, holds, likely};
use tipstaff_core::analysis::{Finding, admitted, ordinary, review, review_errors, shares};
use tipstaff_core::generate::{Generator, NOW};
use tipstaff_core::plan::Act;
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
            let found = admitted(&plan, direction, &region);
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
