//! What is written for other tools.

use crate::harness::{Desk, INHERITED};
use serde_json::Value;

/// One expectation that holds, one that does not, and one in a posture; and a finding that is accepted.
const EXPECTED: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
    [[host.sluice.rule]]\nname = \"web\"\nallow = [\"80/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"web-again\"\nallow = [\"80/tcp\"]\nfrom = [\"198.51.100.7\"]\n\
    accept = { shadowed = \"kept <for> \\\"later\\\"\", redundant = \"kept <for> \\\"later\\\"\" }\n\
    [[host.sluice.expect]]\ntraffic = [\"80/tcp\"]\nverdict = \"allow\"\n\
    [[host.sluice.expect]]\ntraffic = [\"80/tcp\"]\nfrom = [\"203.0.113.0/24\"]\nverdict = \"deny\"\n\
    [[host.sluice.expect]]\ntraffic = [\"any\"]\nverdict = \"deny\"\nposture = \"sealed\"\n\
    besides = [\"dhcp\", \"neighbours\"]\n\
    [host.sluice.posture.sealed]\ninstead = true\n\
    [host.sluice.posture.sealed.baseline]\nping = \"deny\"\n";

#[test]
fn findings_are_told_in_the_form_that_tools_show_beside_the_text() {
    for (text, file) in [(INHERITED, "policy.toml"), (EXPECTED, "a policy.toml")] {
        let desk = Desk::with(text);
        let policy = desk.path().join(file);
        std::fs::write(&policy, text).expect("written");
        let policy = policy.display().to_string();
        let run = |format: &str| {
            let words = ["--policy", &policy, "--host", "sluice", "--format", format, "review"];
            desk.run(words).exits(1).json()
        };
        let (sarif, json) = (run("sarif"), run("json"));
        assert_eq!(sarif["version"], "2.1.0");
        let run = &sarif["runs"][0];
        let results = run["results"].as_array().expect("a list");
        let findings = json["findings"].as_array().expect("a list");
        assert!(!findings.is_empty());
        assert_eq!(results.len(), findings.len());
        let rules = run["tool"]["driver"]["rules"].as_array().expect("a list");
        for (result, finding) in results.iter().zip(findings) {
            let at = usize::try_from(result["ruleIndex"].as_u64().expect("a number"));
            assert_eq!(rules[at.expect("small")]["id"], finding["code"]);
            assert_eq!(
                (&result["ruleId"], &result["level"]),
                (&finding["code"], &finding["severity"])
            );
            let message = result["message"]["text"].as_str().expect("a text");
            assert!(message.ends_with(finding["message"].as_str().expect("a text")), "{message}");
            let location = &result["locations"][0]["physicalLocation"];
            assert_eq!(location["region"]["startLine"], finding["origin"]["line"]);
            let uri = location["artifactLocation"]["uri"].as_str().expect("a reference");
            assert!(
                uri.starts_with("file:///") && uri.ends_with(&file.replace(' ', "%20")),
                "{uri}"
            );
            let suppressed = result["suppressions"].as_array().expect("a list");
            match &finding["accepted"] {
                Value::Null => assert!(suppressed.is_empty()),
                reason => assert_eq!(suppressed[0]["justification"], *reason),
            }
        }
    }
    // A rule of the policy is told by its line; the same finding keeps its mark when that moves.
    let marks = |text: &str| -> Vec<Value> {
        let desk = Desk::with(text);
        let told = desk.run(["--host", "sluice", "--format", "sarif", "review"]).exits(1).json();
        let results = told["runs"][0]["results"].as_array().expect("a list").iter();
        results.map(|it| it["partialFingerprints"].clone()).collect()
    };
    assert_eq!(marks(INHERITED), marks(&format!("# One more line.\n{INHERITED}")));
}

#[test]
fn expectations_are_told_as_tests() {
    let told = Desk::with(EXPECTED).run(["--format", "junit", "review"]).exits(1).stdout;
    let document = roxmltree::Document::parse(&told).unwrap_or_else(|it| panic!("{it}: {told}"));
    let suite = document.descendants().find(|it| it.has_tag_name("testsuite")).expect("a suite");
    let of = |name: &str| suite.attribute(name);
    assert_eq!((of("tests"), of("failures"), of("errors")), (Some("3"), Some("1"), Some("0")));
    assert_eq!((of("hostname"), of("name")), (Some("sluice"), Some("expectations of sluice")));
    let time = of("timestamp").expect("a time");
    assert!(time.len() == 19 && time.contains('T'), "{time}");
    let cases: Vec<_> = document.descendants().filter(|it| it.has_tag_name("testcase")).collect();
    let names: Vec<_> = cases.iter().filter_map(|it| it.attribute("name")).collect();
    assert_eq!(
        names,
        [
            "inbound 80/tcp: allow",
            "inbound 80/tcp from 203.0.113.0/24: deny",
            "inbound any besides dhcp, neighbours in posture sealed: deny"
        ]
    );
    let failure = |at: usize| cases[at].children().find(|it| it.has_tag_name("failure"));
    assert!(failure(0).is_none() && failure(2).is_none(), "{told}");
    let failure = failure(1).expect("it fails");
    assert_eq!(failure.attribute("type"), Some("expectation-failed"));
    assert!(failure.attribute("message").is_some_and(|it| it.contains("web")), "{told}");
    assert!(failure.text().is_some_and(|it| it.contains("policy.toml:")), "{told}");
    let odd = EXPECTED.replace("203.0.113.0/24", "a<&\\\"b").replace(
        "[host.sluice]",
        "[place.\"a<&\\\"b\"]\naddresses = [\"203.0.113.0/24\"]\n[host.sluice]",
    );
    let told = Desk::with(&odd).run(["--format", "junit", "review"]);
    // A place may have no such name; what is refused is no report of tests.
    assert!(told.exits(2).stdout.is_empty());
}
