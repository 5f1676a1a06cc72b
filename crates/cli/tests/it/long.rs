//! Policies with more rules than people like to have.

use crate::harness::Desk;
use crate::kernel::{stray_chain, stray_rule};
use std::fs;
use tipstaff_core::generate::Generator;
use tipstaff_linux::lab::testing::sealed;

/// So many that `status` does not work out once more what the kernel gives back as it was given.
const RULES: usize = 2_100;

#[test]
fn a_long_policy_is_enforced_and_what_differs_is_seen() {
    sealed("long::a_long_policy_is_enforced_and_what_differs_is_seen", || {
        let text = Generator::new(1).grown_policy(RULES);
        let desk = Desk::with(&text);
        let run = |args: &[&str]| desk.run(["--host", "sluice"].iter().chain(args));
        let first = run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(first.starts_with("enforced sluice: 2100 rules; no rules"), "{first}");
        // What is for anybody comes first; of the rest it is told how many there are.
        assert!(first.contains("(rule-274)"), "{first}");
        assert!(first.contains("more rules allow; `tipstaff show` lists them"), "{first}");
        assert!(first.lines().count() < 200, "{}", first.lines().count());
        let status = run(&["--format", "json", "status"]).exits(0).json();
        assert_eq!((&status["equal"], &status["same_form"]), (&true.into(), &true.into()));

        // One more rule, ahead of all others, is the one change.
        desk.write(with_guest(&text));
        let status = run(&["--format", "json", "status"]).exits(1).json();
        assert_eq!(status["equal"], false);
        let differences = status["differences"].as_array().expect("a list");
        let message = differences[0]["message"].as_str().expect("a text");
        assert!(message.contains("by the policy allow (guest)"), "{message}");
        let second = run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(second.contains("opens") && second.contains("(guest)"), "{second}");
        assert!(second.contains("; new: guest"), "{second}");
        run(&["status"]).exits(0);
        what_is_known_of_before_changes_nothing(&desk, &text);
        let again = run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(again.starts_with("in force already sluice"), "{again}");
    });
}

/// What a policy was worked out to is noted, and saves work; but it is the kernel's rules that are told.
#[test]
fn what_is_noted_of_a_long_policy_hides_nothing() {
    sealed("long::what_is_noted_of_a_long_policy_hides_nothing", || {
        let desk = Desk::with(Generator::new(1).grown_policy(RULES));
        let run = |args: &[&str]| desk.run(["--host", "sluice"].iter().chain(args));
        run(&["enforce", "--keep"]).exits(0);
        let note = desk.kept().join("worked-out.json");
        let noted = fs::read(&note).expect("a note");
        let look = || {
            let status = run(&["--format", "json", "status"]).json();
            let compared = run(&["--format", "json", "compare", "kernel"]).json();
            [&status["equal"], &status["same_form"], &status["differences"], &compared["equal"]]
                .map(Clone::clone)
        };
        let with_notes = |expected: [bool; 3]| {
            let mut damaged = noted.clone();
            damaged[20] ^= 1;
            let told = look();
            assert_eq!([&told[0], &told[1], &told[3]].map(|it| it == true), expected, "{told:?}");
            for other in [None, Some(&b""[..]), Some(&damaged[..]), Some(&noted[..noted.len() / 2])]
            {
                fs::remove_file(&note).expect("removed");
                other.inspect(|it| fs::write(&note, it).expect("written"));
                assert_eq!(look(), told);
                fs::write(&note, &noted).expect("put back");
            }
        };
        with_notes([true, true, true]);
        // Behind the default no packet comes to it.
        stray_rule();
        with_notes([true, false, true]);
        stray_chain();
        with_notes([false, false, true]);
        run(&["enforce", "--keep"]).exits(0);
        with_notes([true, true, true]);
    });
}

fn with_guest(text: &str) -> String {
    let guest = "[[host.sluice.rule]]\nname = \"guest\"\nallow = [\"8443/tcp\"]\n\
                 from = [\"198.51.100.77\"]\n";
    text.replacen("[[host.sluice.rule]]", &format!("{guest}[[host.sluice.rule]]"), 1)
}

/// What an edit does is told alike from the policy that was in force and, where that is not kept any more, from what the
/// kernel holds.
fn what_is_known_of_before_changes_nothing(desk: &Desk, text: &str) {
    desk.write(text);
    let would = || {
        let args = ["--host", "sluice", "--format", "json", "enforce", "--dry-run"];
        let mut would = desk.run(args).exits(0).json();
        let mut told = would["changes"].take();
        for change in told.as_array_mut().expect("a list") {
            // Any packet of the region may stand for it.
            change["witness"].take();
        }
        assert_eq!(
            (&would["changes_known"], &would["gone"]),
            (&true.into(), &["guest"][..].into())
        );
        (told, would["changed"].take())
    };
    let known = would();
    assert_eq!(known.0[0]["kind"], "closes");
    assert_eq!(known.0[0]["before"]["by"]["name"], "guest");
    let kept = desk.kept().join("policies");
    let away = kept.with_extension("away");
    fs::rename(&kept, &away).expect("moved");
    assert_eq!(would(), known);
    fs::rename(&away, &kept).expect("moved back");
    desk.write(with_guest(text));
}
