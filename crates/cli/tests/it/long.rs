//! Policies with more rules than people like to have.

use crate::harness::Desk;
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
        assert!(first.contains("(rule-274)"), "{first}");
        let status = run(&["--format", "json", "status"]).exits(0).json();
        assert_eq!((&status["equal"], &status["same_form"]), (&true.into(), &true.into()));

        // One more rule, ahead of all others, is the one change.
        let guest = "[[host.sluice.rule]]\nname = \"guest\"\nallow = [\"8443/tcp\"]\n\
                     from = [\"198.51.100.77\"]\n";
        desk.write(text.replacen(
            "[[host.sluice.rule]]",
            &format!("{guest}[[host.sluice.rule]]"),
            1,
        ));
        let status = run(&["--format", "json", "status"]).exits(1).json();
        assert_eq!(status["equal"], false);
        let differences = status["differences"].as_array().expect("a list");
        let message = differences[0]["message"].as_str().expect("a text");
        assert!(message.contains("by the policy allow (guest)"), "{message}");
        let second = run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(second.contains("opens") && second.contains("(guest)"), "{second}");
        assert!(second.contains("; new: guest"), "{second}");
        run(&["status"]).exits(0);
        let again = run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(again.starts_with("in force already sluice"), "{again}");
    });
}
