//! No command without an example that works, and a word on where its output is seen.

use crate::harness::{Desk, MENDED};
use std::collections::BTreeSet;
use std::path::Path;

/// The picture on which a command's output is seen; why there is none, for those that print a line or two.
const PICTURES: [(&str, Result<&str, &str>); 43] = [
    ("draft", Err("a policy, as docs/LANGUAGE.md shows them")),
    ("adopt", Err("a policy, as docs/LANGUAGE.md shows them")),
    ("export", Err("a document for other programs")),
    ("rule", Ok("edit")),
    ("place", Err("as for a rule")),
    ("service", Err("as for a rule")),
    ("defaults", Err("as for a rule")),
    ("host", Err("as for a rule")),
    ("bundle", Err("as for a rule")),
    ("label", Err("as for a rule")),
    ("interface", Err("as for a rule")),
    ("expect", Err("as for a rule, and a short list")),
    ("finding", Err("as for a rule")),
    ("fleet", Ok("fleet")),
    ("baseline", Err("as for a rule")),
    ("undo", Err("as for a rule")),
    ("show", Ok("show")),
    ("review", Ok("review")),
    ("ask", Ok("ask")),
    ("compare", Ok("compare")),
    ("enforce", Ok("enforce")),
    ("confirm", Err("a line")),
    ("revert", Err("as for enforcing")),
    ("release", Err("a line")),
    ("cut", Err("a line for each connection")),
    ("turn-away", Err("as for a rule, and for enforcing")),
    ("shut", Err("a few lines")),
    ("posture", Err("a few lines")),
    ("attend", Err("a line for each thing that happens")),
    ("newcomers", Err("a few lines for each")),
    ("docket", Ok("docket")),
    ("status", Ok("status")),
    ("facts", Err("a line for each question")),
    ("callers", Ok("callers")),
    ("watch", Ok("watch")),
    ("programs", Ok("programs")),
    ("reach", Ok("reach")),
    ("report", Ok("report")),
    ("vantage", Err("it speaks to programs")),
    ("rehearse", Ok("rehearse")),
    ("demo", Ok("demo-start")),
    ("--policy with mistakes", Ok("mistakes")),
    ("ask --who", Ok("ask-who")),
];

/// What does nothing without a kernel to change, another machine, or a while.
const NOT_RUN: [&str; 32] = [
    "fleet seal",
    "fleet verify",
    "fleet probe",
    "fleet roll-out",
    "fleet hold",
    "fleet undo",
    "fleet status",
    "fleet take",
    "adopt",
    "facts",
    "draft",
    "enforce",
    "confirm",
    "revert",
    "release",
    "cut",
    "turn-away",
    "shut",
    "posture",
    "attend",
    "newcomers",
    "place refresh",
    "docket",
    "status",
    "callers",
    "programs",
    "reach",
    "vantage",
    "rehearse",
    "demo",
    "rule tighten",
    "watch",
];

fn leaves(command: &clap::Command, before: &str, found: &mut Vec<String>) {
    let parts = command.get_subcommands().filter(|it| !it.is_hide_set() && it.get_name() != "help");
    for part in parts {
        let name = format!("{before}{}", part.get_name());
        if !part.is_subcommand_required_set() {
            found.push(name.clone());
        }
        leaves(part, &format!("{name} "), found);
    }
}

/// The words of a line, those in quotes together.
fn words(line: &str) -> Vec<&str> {
    let parts = line.split('"').enumerate();
    parts
        .flat_map(|(at, part)| match at % 2 {
            0 => part.split_ascii_whitespace().collect(),
            _ => vec![part],
        })
        .collect()
}

#[test]
fn every_command_has_an_example_that_works_on_the_demos_data() {
    let mut names = Vec::new();
    leaves(&tipstaff_cli::command(), "", &mut names);
    assert!(names.len() >= 38, "{names:?}");
    let desk = Desk::with(MENDED);
    std::fs::create_dir(desk.folder.path().join("demo")).expect("made");
    let inherited = include_str!("../../../../demo/inherited.toml");
    std::fs::write(desk.folder.path().join("demo/inherited.toml"), inherited).expect("written");
    let fleet = include_str!("../../../../demo/fleet.toml");
    std::fs::write(desk.folder.path().join("demo/fleet.toml"), fleet).expect("written");
    for name in names {
        let examples = tipstaff_cli::examples(&name);
        assert!(!examples.is_empty(), "`{name}` has no example");
        for example in examples {
            let words = words(example);
            assert_eq!(words[0], "tipstaff");
            let parsed = tipstaff_cli::command().try_get_matches_from(&words);
            let mut matches = &parsed.unwrap_or_else(|error| panic!("{example}: {error}"));
            let mut path = Vec::new();
            while let Some((part, inner)) = matches.subcommand() {
                path.push(part);
                matches = inner;
            }
            assert_eq!(path.join(" "), name, "{example}");
            if NOT_RUN.contains(&path[0])
                || NOT_RUN.contains(&name.as_str())
                || example.contains("committed")
                || example.contains("newest")
            {
                continue;
            }
            let host = if words.contains(&"--host") { &[][..] } else { &["--host", "sluice"] };
            let outcome = desk.run(words[1..].iter().chain(host));
            assert!(outcome.code <= 1, "{example}: {outcome:?}");
            assert!(!outcome.stdout.is_empty(), "{example}");
        }
    }
}

#[test]
fn it_is_said_of_every_command_where_its_output_is_seen() {
    let known: BTreeSet<&str> = PICTURES.iter().map(|it| it.0).collect();
    let command = tipstaff_cli::command();
    for part in command.get_subcommands().filter(|it| !it.is_hide_set()) {
        assert!(known.contains(part.get_name()), "no picture is named for `{}`", part.get_name());
    }
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/screenshots"));
    let make = std::fs::read_to_string(folder.join("make")).expect("the script is there");
    for (name, picture) in PICTURES {
        match picture {
            Ok(picture) => {
                assert!(folder.join(format!("{picture}.png")).is_file(), "{name}: {picture}");
                let made = [
                    format!("typed {picture} "),
                    format!("part {picture} "),
                    format!("page {picture} "),
                    format!("picture {picture} "),
                    format!("taken {picture}\n"),
                ];
                assert!(
                    made.iter().any(|it| make.contains(it)),
                    "{picture} is not made by the script"
                );
            }
            Err(why) => assert!(!why.is_empty(), "{name}"),
        }
    }
}
