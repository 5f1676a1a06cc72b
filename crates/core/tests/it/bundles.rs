//! Bundles, taken in where hosts use them.

use crate::given::{address, policy};
use tipstaff_core::policy::{Source, read};

const BUNDLED: &str = "edition = 1
[place.curators]
addresses = [\"198.51.100.0/27\"]
[service.catalogue]
ports = [\"80/tcp\", \"443/tcp+udp\"]
[bundle.inner]
[[bundle.inner.rule]]
name = \"metrics\"
allow = [\"9100/tcp\"]
from = [\"this-host\"]
[bundle.staff]
[[bundle.staff.rule]]
name = \"shell\"
allow = [\"2202/tcp\"]
from = [\"curators\"]
[[bundle.staff.rule]]
use = \"inner\"
[host.sluice]
addresses = [\"192.0.2.10\"]
[[host.sluice.rule]]
name = \"catalogue\"
allow = [\"catalogue\"]
[[host.sluice.rule]]
use = \"staff\"
paused = true
[[host.sluice.rule]]
name = \"last\"
deny = [\"any\"]
[host.granary]
addresses = [\"10.44.8.20\"]
labels = [\"store\"]
[[host.granary.rule]]
use = \"staff\"
";

#[test]
fn bundles_are_unfolded_where_they_are_used() {
    let policy = policy(BUNDLED);
    let names = |host: &str| -> Vec<String> {
        let host = policy.host(host).expect("there");
        host.rules.iter().map(|rule| format!("{} {}", rule.name, rule.origin.line)).collect()
    };
    assert_eq!(names("sluice"), ["catalogue 21", "shell 13", "metrics 8", "last 27"]);
    assert_eq!(names("granary"), ["shell 13", "metrics 8"]);
    let sluice = policy.host("sluice").expect("there");
    let paused: Vec<bool> = sluice.rules.iter().map(|rule| rule.paused).collect();
    assert_eq!(paused, [false, true, true, false]);
    // A bundle's `this-host` is the host that uses it.
    assert_eq!(sluice.rules[2].from.addresses().to_string(), "192.0.2.10");
    assert_eq!(
        policy.host("granary").expect("it").rules[1].from.addresses().to_string(),
        "10.44.8.20"
    );
    assert_eq!(sluice.rules[0].traffic.to_string(), "80/tcp, 443/tcp+udp");
    assert_eq!(policy.host("granary").expect("it").labels, ["store"]);
}

#[test]
fn a_bundles_mistakes_are_told_once_and_what_does_not_fit_where_it_is_used() {
    let codes = |text: &str| -> Vec<(&'static str, usize)> {
        let problems = read(&Source::new("policy.toml", text)).expect_err("a mistake");
        let line = |it: &tipstaff_core::policy::Diagnostic| {
            it.primary.as_ref().map_or(0, |label| label.origin.line)
        };
        problems.iter().map(|problem| (problem.code, line(problem))).collect()
    };
    let wrong = BUNDLED.replace("2202/tcp", "2202");
    assert_eq!(codes(&wrong), [("no-protocol", 14)]);
    let twice = BUNDLED.replace("name = \"last\"", "name = \"shell\"");
    assert_eq!(codes(&twice), [("duplicate-name", 27)]);
    let cycle = BUNDLED.replace(
        "name = \"metrics\"\nallow = [\"9100/tcp\"]\nfrom = [\"this-host\"]",
        "use = \"staff\"",
    );
    assert!(codes(&cycle).iter().all(|it| it.0 == "bundle-cycle"), "{:?}", codes(&cycle));
    let unknown = BUNDLED.replace("use = \"inner\"", "use = \"iner\"");
    assert_eq!(codes(&unknown), [("unknown-bundle", 17)]);
    let elsewhere = BUNDLED.replace("from = [\"this-host\"]", "at = [\"192.0.2.10\"]");
    assert_eq!(codes(&elsewhere), [("misfit", 33)]);
    let more = BUNDLED.replace("use = \"inner\"", "use = \"inner\"\nfrom = [\"curators\"]");
    assert_eq!(codes(&more), [("use-and-more", 18)]);
}

#[test]
fn bundles_that_multiply_are_a_mistake_with_a_line() {
    let mut text =
        String::from("edition = 1\n[[bundle.b0.rule]]\nname = \"r\"\nallow = [\"1/tcp\"]\n");
    for level in 1..=30 {
        for _ in 0..2 {
            text += &format!("[[bundle.b{level}.rule]]\nuse = \"b{}\"\n", level - 1);
        }
    }
    text += "[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\nuse = \"b30\"\n";
    let problems = read(&Source::new("policy.toml", &text)).expect_err("too many");
    let many: Vec<_> = problems.iter().filter(|it| it.code == "too-many-rules").collect();
    let last = many.iter().find(|it| it.message.contains("`b30`")).expect("the host's");
    assert!(last.message.contains("1073741824 rules"), "{}", last.message);
    let origin = &last.primary.as_ref().expect("a place").origin;
    assert!(origin.to_string().starts_with("policy.toml:"), "{origin}");
    assert!(problems.len() < 30_000, "{} problems", problems.len());
}

/// In a bundle, nobody knows yet who `this-host` is; leaving it out is no mistake there.
#[test]
fn a_bundle_can_leave_out_the_host_and_its_networks() {
    let text = "edition = 1\n[[bundle.watch.rule]]\nname = \"far\"\nallow = [\"9100/tcp\"]\n\
                from = [\"!this-host\", \"!on-link\"]\n[host.sluice]\n\
                addresses = [\"192.0.2.10/24\"]\n[[host.sluice.rule]]\nuse = \"watch\"\n";
    let policy = policy(text);
    let from = &policy.hosts[0].rules[0].from;
    assert!(
        !from.addresses().contains(address("192.0.2.77"))
            && from.addresses().contains(address("203.0.113.9"))
    );
    // What leaves nobody whatever the host is, is one.
    let nobody = text.replace("\"!this-host\", \"!on-link\"", "\"10.44.8.1\", \"!10.44.8.1\"");
    let problems = read(&Source::new("policy.toml", &nobody)).expect_err("nobody is left");
    assert_eq!(problems[0].code, "nobody-left");
}
