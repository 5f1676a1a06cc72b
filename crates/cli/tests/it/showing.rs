//! `show`.

use crate::harness::{Desk, INHERITED, MENDED};
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};

#[test]
fn the_decision_list_has_baseline_rules_and_default_in_order() {
    let outcome = Desk::with(MENDED).run(["show", "--host", "sluice"]).exits(0);
    insta::assert_snapshot!(outcome.stdout);
}

#[test]
fn narrow_screens_lose_nothing() {
    let desk = Desk::with(MENDED);
    let mut command = desk.command(["show", "--host", "sluice"]);
    command.env("COLUMNS", "60");
    let outcome = crate::harness::finish(command).exits(0);
    assert!(outcome.stdout.lines().all(|line| line.chars().count() <= 60), "{}", outcome.stdout);
    for word in ["catalogue", "443/tcp+udp", "baseline/false-loopback", "policy.toml:"] {
        assert!(outcome.stdout.contains(word), "{word} is gone:\n{}", outcome.stdout);
    }
}

#[test]
fn programs_get_stable_keys() {
    let json =
        Desk::with(MENDED).run(["--format", "json", "show", "--host", "sluice"]).exits(0).json();
    let decisions = json["directions"][0]["decisions"].as_array().expect("a list");
    let nuisance = decisions.iter().find(|it| it["name"] == "nuisance").expect("there");
    insta::assert_json_snapshot!(nuisance, @r#"
    {
      "kind": "rule",
      "name": "nuisance",
      "traffic": "any",
      "meanings": [],
      "from": "nuisance",
      "to": "anywhere",
      "verdict": "deny",
      "rate": null,
      "paused": false,
      "ended": false,
      "until": null,
      "log": null,
      "why": "Ahead of everything that it could slip through",
      "origin": {
        "file": "policy.toml",
        "line": 33
      }
    }
    "#);
    assert_eq!(json["directions"][2]["direction"], "forwarded");
}

#[test]
fn a_paused_rule_is_shown_and_decides_nothing() {
    let paused = MENDED.replace("name = \"nuisance\"\n", "name = \"nuisance\"\npaused = true\n");
    let desk = Desk::with(paused);
    let shown = desk.run(["show", "--host", "sluice"]).exits(0).stdout;
    assert!(shown.contains("paused (deny)"), "{shown}");
    let asked = ["ask", "--host", "sluice", "--from", "203.0.113.66", "--traffic", "443/tcp"];
    let answer = desk.run(asked).exits(0).stdout;
    assert!(answer.contains("allow  by catalogue"), "{answer}");
    assert!(answer.contains("paused"), "{answer}");
}

#[test]
fn programs_times_and_logs_are_shown_and_asked_about() {
    let with = |keys: &str| {
        let rule = format!("name = \"catalogue\"\n{keys}");
        Desk::with(MENDED.replace("name = \"catalogue\"", &rule))
    };
    let show = |desk: &Desk| desk.run(["show", "--host", "sluice"]).exits(0).stdout;
    let asked = |desk: &Desk, more: &[&str]| {
        let args = ["ask", "--host", "sluice", "--from", "203.0.113.9", "--traffic", "443/tcp"];
        desk.run(args.iter().chain(more)).exits(0).stdout
    };
    let desk = with("program = \"/usr/sbin/catalogued\"\nlog = \"10/minute\"");
    let text = show(&desk);
    assert!(text.contains("/usr/sbin/catalogued"), "{text}");
    assert!(text.contains("logged 10/minute"), "{text}");
    let answer = asked(&desk, &["--program", "/usr/sbin/catalogued"]);
    assert!(answer.contains("allow  by catalogue"), "{answer}");
    let answer = asked(&desk, &["--program", "/usr/bin/other"]);
    assert!(answer.contains("deny") && answer.contains("other program"), "{answer}");

    let desk = with("until = 2001-02-03T04:05:06Z");
    assert!(show(&desk).contains("ended (allow)"));
    assert!(asked(&desk, &[]).contains("ended"));
    let desk = with("until = \"2500-02-03T04:05:06+01:00\"");
    assert!(show(&desk).contains("2500-02-03T03:05:06Z"));
    assert!(asked(&desk, &[]).contains("allow  by catalogue"));
}

const NARROWED: &str = "edition = 1\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\nlabels = [\"edge\"]\n\
    interfaces = { outside = \"eth0\", stacks = \"eth1\" }\n\
    [[label.edge.rule]]\nname = \"staff-shell\"\nallow = [\"2202/tcp\"]\nfrom = [\"198.51.100.0/27\"]\n\
    # read by the gauge's keepers\n\
    [[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\"]\ningress = [\"stacks\"]\n\
    at = [\"192.0.2.10\"]\nsource-ports = [\"1024-65535\"]\nprogram = \"/srv/tidegauge\"\n\
    rate = \"6/minute per source\"\nlog = \"10/minute\"\nuntil = 2126-12-24T18:00:00Z\n\
    why = \"The harbour reads it\"\n\
    [[host.sluice.rule]]\nname = \"out\"\ndeny = [\"25/tcp\"]\ndirection = \"outbound\"\n\
    egress = [\"outside\"]\npaused = true\nlog = true\n";

/// Whatever narrows a rule is in the list, in columns that are there only where they are used.
#[test]
fn lists_of_rules_show_all_that_narrows_them() {
    let desk = Desk::with(NARROWED);
    let list = |width: &str| {
        let mut command = desk.command(["--host", "sluice", "rule", "list"]);
        command.env("COLUMNS", width);
        crate::harness::finish(command).exits(0).stdout
    };
    insta::assert_snapshot!(format!("{}{}{}", list("120"), list("80"), list("50")));
    let plain = Desk::with(INHERITED);
    let list = plain.run(["--host", "granary", "rule", "list"]).exits(0).stdout;
    let titles = list.lines().nth(1).expect("titles");
    assert!(
        !["by", "program", "limits", "direction"].iter().any(|it| titles.contains(it)),
        "{titles}"
    );
    let json = desk.run(["--host", "sluice", "--format", "json", "rule", "list"]).exits(0).json();
    let gauge = &json["rules"][1];
    let other = &json["rules"][2];
    assert_eq!(json["rules"][0]["label"], "edge");
    assert_eq!(gauge["ingress"], serde_json::json!(["eth1"]));
    assert_eq!(gauge["at"], serde_json::json!(["192.0.2.10"]));
    assert_eq!(gauge["source_ports"], "1024-65535");
    assert_eq!(gauge["programs"], serde_json::json!(["/srv/tidegauge"]));
    assert_eq!(
        (&gauge["rate"], &gauge["log"]),
        (&"6/minute per source".into(), &"10/minute".into())
    );
    assert_eq!(gauge["until"], "2126-12-24T18:00:00Z");
    assert_eq!((&other["log"], &other["paused"]), (&"all".into(), &true.into()));
}

/// One rule with its comments, what it decides, and what it has taken.
#[test]
fn a_rule_is_shown_in_full() {
    let desk = Desk::with(NARROWED);
    let show = |name: &str| desk.run(["--host", "sluice", "rule", "show", name]);
    let gauge = show("gauge").exits(0).stdout;
    for part in
        ["# read by the gauge's keepers", "why = \"The harbour reads it\"", "what `gauge` decides"]
    {
        assert!(gauge.contains(part), "{part}: {gauge}");
    }
    let shell = show("staff-shell").exits(0).stdout;
    assert!(
        shell.contains("by the label edge") && shell.contains("[[label.edge.rule]]"),
        "{shell}"
    );
    let paused = show("out").exits(0).stdout;
    assert!(
        paused.contains("out, paused") && paused.contains("nothing: it takes no packet"),
        "{paused}"
    );
    let near = show("gage").exits(2).stderr;
    assert!(near.contains("did you mean `gauge`?"), "{near}");
    let built_in = show("baseline/replies").exits(2).stderr;
    assert!(built_in.contains("is no rule that is written"), "{built_in}");
}

/// Of many rules, those that are meant, in an order that helps.
#[test]
fn rules_are_picked_and_sorted() {
    let desk = Desk::with(NARROWED);
    let names = |words: &[&str]| -> Vec<String> {
        let all = ["--host", "sluice", "--format", "json", "rule", "list"].iter().chain(words);
        let json = desk.run(all).exits(0).json();
        let rules = json["rules"].as_array().expect("a list").iter();
        rules.map(|it| it["name"].as_str().expect("a name").to_owned()).collect()
    };
    for (words, expected) in [
        (&["--where", "verdict=deny"][..], &["out"][..]),
        (&["--where", "paused=false"], &["staff-shell", "gauge"]),
        (&["--where", "paused"], &["out"]),
        (&["--where", "port=9100"], &["gauge"]),
        (&["--where", "port=9101"], &[]),
        (&["--where", "program=/srv/tidegauge", "direction=inbound"], &["gauge"]),
        (&["--where", "direction=outbound verdict=allow"], &[]),
        (&["--where", "name=shell"], &["staff-shell"]),
        (&["--sort", "name"], &["gauge", "out", "staff-shell"]),
        (&["--sort", "port"], &["out", "staff-shell", "gauge"]),
        (&["--sort", "verdict"], &["staff-shell", "gauge", "out"]),
        (&["--sort", "order"], &["staff-shell", "gauge", "out"]),
    ] {
        assert_eq!(names(words), expected, "{words:?}");
    }
    let places = Desk::with(INHERITED);
    let of = |words: &str| places.run(["--host", "sluice", "rule", "list", "--where", words]);
    let nuisance = of("place=nuisance").exits(0).stdout;
    assert!(nuisance.contains("nuisance") && !nuisance.contains("shell"), "{nuisance}");
    assert!(of("port=7 verdict=reject").exits(0).stdout.contains("no such rules"));
    for (words, help) in [
        ("place=nuisanse", "did you mean the place `nuisance`?"),
        ("verdict=block", "expected `allow`, `deny` or `reject`"),
        ("prot=22", "did you mean `port`?"),
        ("port", "expected a value, such as `port=5432`"),
        ("port=70000", "expected a number up to 65535"),
        ("zzz", "expected one of: verdict, direction"),
    ] {
        let refused = of(words).exits(2).stderr;
        assert!(refused.contains(help), "{words}: {refused}");
    }
}

/// What rules in force have taken is shown, and sorts them.
#[test]
fn rules_are_sorted_by_what_they_have_taken() {
    sealed("showing::rules_are_sorted_by_what_they_have_taken", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let rule = |name: &str, port: u16| {
            format!("[[host.sluice.rule]]\nname = \"{name}\"\nallow = [\"{port}/tcp\"]\n")
        };
        let desk = Desk::with(format!(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n{}{}",
            rule("shell", 2202),
            rule("seeds", 5432)
        ));
        let run =
            |words: &str| desk.on(sluice, ["--host", "sluice"].into_iter().chain(words.split(' ')));
        let none = run("rule list --sort hits").exits(1).stderr;
        assert!(none.contains("no rules are in force"), "{none}");
        let before = run("rule show seeds").exits(0).stdout;
        assert!(before.contains("No rule of that name is in force here."), "{before}");
        run("enforce --keep").exits(0);
        let to = "192.0.2.10:5432".parse().expect("an address");
        let from = "192.0.2.1:0".parse().expect("an address");
        // Nobody listens there: the kernel answers, and the rule has taken the packet.
        let met = street.run(|| connect_from(from, to)).expect("run");
        assert!(met.is_err());
        let json = run("--format json rule list --sort hits").exits(0).json();
        let told =
            |at: usize| (json["rules"][at]["name"].clone(), json["rules"][at]["packets"].clone());
        assert_eq!(told(0), ("seeds".into(), 1.into()));
        assert_eq!(told(1), ("shell".into(), 0.into()));
        let shown = run("rule show seeds").exits(0).stdout;
        assert!(shown.contains("In force, it has taken 1 packet, 60 bytes."), "{shown}");
        let text = run("rule list --sort hits").exits(0).stdout;
        assert!(text.lines().nth(1).expect("titles").contains("packets"), "{text}");
    });
}

/// Of a long list, the beginning and how much more there is; programs get the whole.
#[test]
fn places_with_many_addresses_are_told_by_how_many_they_are() {
    let many: Vec<String> =
        (0..2_000).map(|it| format!("\"10.{}.{}.1\"", it / 250, it % 250)).collect();
    let text = |addresses: &[String]| {
        format!(
            "edition = 1\n[place.strangers]\naddresses = [{}]\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n",
            addresses.join(", ")
        )
    };
    let desk = Desk::with(text(&many));
    let list = desk.run(["place", "list"]).exits(0).stdout;
    assert!(list.contains("and 1,994 more") && list.len() < 1_000, "{list}");
    let json = desk.run(["--format", "json", "place", "list"]).exits(0).json();
    assert_eq!(json["names"][0]["holds"].as_str().expect("a text").split(", ").count(), 2_000);
    let few = Desk::with(text(&many[..8])).run(["place", "list"]).exits(0).stdout;
    assert!(!few.contains("more"), "{few}");
}
