//! Changes of tables within sections, of expectations and of what uses a bundle.

use tipstaff_core::policy::edit::{
    Edited, Entry, ListEdit, Place, RuleEdit, Target, Value, edit_expectations, edit_rule,
    set_entries,
};
use tipstaff_core::policy::{Source, read};

const SLUICE: Target<'_> = Target::Section(("host", "sluice"));

fn set(text: &str, key: &'static str, entry: (&str, Option<&str>)) -> Result<String, String> {
    let source = [Source::new("policy.toml", text)];
    let value = entry.1.map(|it| Value::Text(it.into()));
    let entries: [Entry; 1] = [(entry.0.into(), value)];
    let edited = set_entries(&source, SLUICE, key, &entries, false);
    edited.map(|Edited { text, .. }| text).map_err(|it| it.to_string())
}

/// Whatever form a table is written in, one entry changes and everything else stays.
#[test]
fn entries_come_change_and_go_in_every_form() {
    let with = |table: &str| {
        format!(
            "edition = 1 # first\n\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n{table}\n# last\n"
        )
    };
    let none = with("");
    let braces = with("interfaces = { outside = \"eth0\", stacks = \"eth1\" } # both");
    let headed = with("\n[host.sluice.interfaces]\noutside = \"eth0\" # up\nstacks = \"eth1\"");
    let dotted = with("interfaces.outside = \"eth0\"\ninterfaces.stacks = \"eth1\"");
    for (text, entry, gone, come) in [
        (&none, ("outside", Some("eth0")), "", "interfaces = { outside = \"eth0\" }\n"),
        (
            &braces,
            ("inside", Some("eth2")),
            "stacks = \"eth1\" }",
            "stacks = \"eth1\", inside = \"eth2\" }",
        ),
        (&braces, ("outside", Some("wan0")), "\"eth0\"", "\"wan0\""),
        (&braces, ("outside", None), "outside = \"eth0\", ", ""),
        (&braces, ("stacks", None), ", stacks = \"eth1\"", ""),
        (&headed, ("inside", Some("eth2")), "", "inside = \"eth2\"\n"),
        (&headed, ("stacks", Some("eth7")), "\"eth1\"", "\"eth7\""),
        (&headed, ("stacks", None), "stacks = \"eth1\"\n", ""),
        (&headed, ("outside", None), "outside = \"eth0\" ", ""),
        (&dotted, ("inside", Some("eth2")), "", "interfaces.inside = \"eth2\"\n"),
        (&dotted, ("stacks", Some("eth7")), "\"eth1\"", "\"eth7\""),
        (&dotted, ("outside", None), "interfaces.outside = \"eth0\"\n", ""),
    ] {
        let edited = set(text, "interfaces", entry).expect("set");
        read(&Source::new("policy.toml", &edited)).unwrap_or_else(|it| panic!("{edited}: {it:?}"));
        if gone.is_empty() {
            assert_eq!(edited.replacen(come, "", 1), **text, "{entry:?}");
        } else {
            assert_eq!(edited, text.replacen(gone, come, 1), "{entry:?}");
        }
    }
    // The last one takes the table along; a comment stays.
    let one = with("interfaces = { outside = \"eth0\" } # why");
    assert_eq!(set(&one, "interfaces", ("outside", None)).expect("gone"), with("# why"));
    let headed = with("\n[host.sluice.interfaces]\noutside = \"eth0\"");
    let left = set(&headed, "interfaces", ("outside", None)).expect("gone");
    assert!(!left.contains("interfaces") && left.starts_with("edition = 1 # first"), "{left}");
    for text in [&none, &braces, &dotted] {
        let problem = set(text, "interfaces", ("outsid", None)).expect_err("not there");
        assert!(problem.contains("there is no interfaces `outsid`"), "{problem}");
    }
}

#[test]
fn what_is_accepted_stands_with_what_it_is_about() {
    let text = "edition = 1\n[host.sluice]\n[[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\"]\n\
                \n[[host.sluice.expect]]\ntraffic = [\"1/tcp\"]\nverdict = \"deny\"\n";
    let source = [Source::new("policy.toml", text)];
    let entries = [("wide-open".to_owned(), Some(Value::Text("meant \"so\"".into())))];
    let owner = ("host", "sluice");
    for (target, behind) in [
        (Target::Rule(owner, "gauge"), "allow = [\"9100/tcp\"]\n"),
        (Target::Expectation(owner, 1), "verdict = \"deny\"\n"),
        (SLUICE, "[host.sluice]\n"),
    ] {
        let edited = set_entries(&source, target, "accept", &entries, false).expect("set").text;
        let line = "accept = { wide-open = \"meant \\\"so\\\"\" }\n";
        assert_eq!(edited, text.replacen(behind, &format!("{behind}{line}"), 1));
    }
    for (target, message) in [
        (Target::Rule(owner, "gauges"), "there is no rule `gauges`; did you mean `gauge`?"),
        (Target::Expectation(owner, 2), "there is no expectation `2`"),
        (Target::Section(("place", "curators")), "there is no place `curators`"),
    ] {
        let problem = set_entries(&source, target, "accept", &entries, false).expect_err("no");
        assert_eq!(problem.to_string(), message);
    }
}

#[test]
fn expectations_come_behind_the_others_and_go_by_number() {
    let text = "edition = 1\r\n[host.sluice]\r\n# One.\r\n[[host.sluice.expect]]\r\ntraffic = [\"1/tcp\"]\r\n\
                verdict = \"deny\"\r\n\r\n# Two.\r\n[[host.sluice.expect]]\r\ntraffic = [\"2/tcp\"]\r\n\
                verdict = \"deny\"\r\n";
    let source = [Source::new("policy.toml", text)];
    let change = |edit| edit_expectations(&source, ("host", "sluice"), &edit);
    let keys = vec![
        ("traffic", Some(Value::List(vec!["3/tcp".into()]))),
        ("verdict", Some(Value::Text("allow".into()))),
    ];
    let added = change(ListEdit::Add(keys)).expect("added").text;
    let new = "\r\n[[host.sluice.expect]]\r\ntraffic = [\"3/tcp\"]\r\nverdict = \"allow\"\r\n";
    assert_eq!(added, format!("{text}{new}"));
    let without = change(ListEdit::Remove(1)).expect("gone").text;
    assert!(!without.contains("1/tcp") && !without.contains("One"), "{without}");
    assert!(
        without.contains("# Two.\r\n[[host.sluice.expect]]\r\ntraffic = [\"2/tcp\"]"),
        "{without}"
    );
    assert!(change(ListEdit::Remove(0)).is_err() && change(ListEdit::Remove(3)).is_err());
}

#[test]
fn a_bundle_is_taken_in_where_it_is_wanted_and_left_again() {
    let text = "edition = 1\n[[bundle.staff.rule]]\nname = \"shell\"\nallow = [\"22/tcp\"]\n\n\
                [host.sluice]\n[[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\"]\n";
    let policy = read(&Source::new("policy.toml", text)).expect("a policy");
    let source = [Source::new("policy.toml", text)];
    let change =
        |source: &[Source], edit| edit_rule(source, &policy, ("host", "sluice"), "staff", &edit);
    let used = |place| change(&source, RuleEdit::Use { place }).expect("used").text;
    let names = |text: &str| -> Vec<String> {
        let policy = read(&Source::new("policy.toml", text)).expect("a policy");
        policy.hosts[0].rules.iter().map(|it| it.name.clone()).collect()
    };
    assert_eq!(names(&used(Place::Last)), ["gauge", "shell"]);
    let first = used(Place::Before("gauge".into()));
    assert_eq!(names(&first), ["shell", "gauge"]);
    let again = [Source::new("policy.toml", &first)];
    let twice = change(&again, RuleEdit::Use { place: Place::Last }).expect_err("taken");
    assert_eq!(twice.to_string(), "there is a use of the bundle `staff` already");
    assert_eq!(change(&again, RuleEdit::Remove).expect("left").text, text);
}
