//! Changes of a policy's text: what is not meant to change stays, letter for letter.

use crate::given::policy;
use std::collections::BTreeSet;
use tipstaff_core::generate::Generator;
use tipstaff_core::policy::edit::{
    EditError, Edited, NamedEdit, Place, RuleEdit, Target, Value, edit_named, edit_rule,
    set_entries,
};
use tipstaff_core::policy::{Source, Used};

/// How many random sequences of changes are tried.
const SEQUENCES: usize = 1_000;

/// Odd spacing, comments everywhere, one rule in the middle of nothing.
const ODD: &str = "\
# the file\r
edition   =   1 # one\r
\r
# about curators\r
[place.curators]   # heading\r
addresses = [ \"198.51.100.0/27\" ,\r
   # an inner remark\r
   \"2001:db8:51::/64\" ]\r
\r
# free 1\r
\r
\t[host.sluice]\r
addresses = [\"192.0.2.10\"]   # own\r
\r
\r
[host.sluice.default]\r
inbound = 'deny'\r
\r
# free 2\r
\r
# about shell\r
# more about shell\r
[[host.sluice.rule]]\r
name  = \"shell\"   # its name\r
allow = [\"22/tcp\"]\r
from  = [\"curators\"]\r
# below shell\r
\r
# free 3\r
\r
[[ host . \"sluice\" . rule ]]\r
  name = 'catalogue'\r
  allow = [\r
    \"80/tcp\", # web\r
    \"443/tcp\",\r
  ]\r
  [host.sluice.rule.accept]\r
  overlap = \"known\"\r
\r
# about last\r
[[host.sluice.rule]]\r
name = \"last\"\r
deny = [\"any\"]\r
# free 4";

const OWNER: (&str, &str) = ("host", "sluice");

fn change(text: &str, name: &str, edit: &RuleEdit) -> Result<String, EditError> {
    let source = Source::new("policy.toml", text);
    edit_rule(&[source], &policy(text), OWNER, name, edit).map(|edited| edited.text)
}

fn text(value: &str) -> Option<Value> {
    Some(Value::Text(value.into()))
}

fn list(values: &[&str]) -> Option<Value> {
    Some(Value::List(values.iter().map(ToString::to_string).collect()))
}

/// The lines that are only in the one text, and only in the other.
fn difference(old: &str, new: &str) -> (Vec<String>, Vec<String>) {
    let (mut gone, mut come) = (Vec::new(), Vec::new());
    let (old, new): (Vec<&str>, Vec<&str>) =
        (old.split_inclusive('\n').collect(), new.split_inclusive('\n').collect());
    let same_start = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let (old, new) = (&old[same_start..], &new[same_start..]);
    let same_end = old.iter().rev().zip(new.iter().rev()).take_while(|(a, b)| a == b).count();
    gone.extend(old[..old.len() - same_end].iter().map(ToString::to_string));
    come.extend(new[..new.len() - same_end].iter().map(ToString::to_string));
    (gone, come)
}

#[test]
fn each_change_is_all_that_changes() {
    let keys = vec![("deny", list(&["any"])), ("from", list(&["203.0.113.64/28"]))];
    let added = change(ODD, "nuisance", &RuleEdit::Add { place: Place::First, keys });
    let (gone, come) = difference(ODD, &added.expect("added"));
    assert_eq!(gone, Vec::<String>::new());
    assert_eq!(
        come.concat(),
        "[[host.sluice.rule]]\r\nname = \"nuisance\"\r\ndeny = [\"any\"]\r\n\
         from = [\"203.0.113.64/28\"]\r\n\r\n# about shell\r\n# more about shell\r\n"
            .replace("# about shell\r\n# more about shell\r\n", "")
    );

    let keys = vec![("from", None), ("allow", list(&["2202/tcp"])), ("why", text("moved"))];
    let changed =
        change(ODD, "shell", &RuleEdit::Change { keys, items: Vec::new() }).expect("changed");
    let (gone, come) = difference(ODD, &changed);
    assert_eq!(gone.concat(), "allow = [\"22/tcp\"]\r\nfrom  = [\"curators\"]\r\n");
    assert_eq!(come.concat(), "allow = [\"2202/tcp\"]\r\nwhy = \"moved\"\r\n");

    // A key goes, the comment behind it stays; a verdict takes the place of another.
    let commented = ODD.replace("from  = [\"curators\"]", "from  = [\"curators\"] # only they");
    let keys = vec![("from", None), ("deny", list(&["22/tcp"]))];
    let changed = change(&commented, "shell", &RuleEdit::Change { keys, items: Vec::new() })
        .expect("changed");
    let (_, come) = difference(&commented, &changed);
    assert_eq!(come.concat(), "deny = [\"22/tcp\"]\r\n# only they\r\n");

    let moved = change(ODD, "catalogue", &RuleEdit::Move { place: Place::Before("shell".into()) });
    let moved = moved.expect("moved");
    let order: Vec<String> =
        policy(&moved).host("sluice").expect("it").rules.iter().map(|it| it.name.clone()).collect();
    assert_eq!(order, ["catalogue", "shell", "last"]);
    assert!(moved.contains("\"80/tcp\", # web\r\n") && moved.contains("overlap = \"known\"\r\n"));

    let removed = change(ODD, "shell", &RuleEdit::Remove).expect("removed");
    let (gone, come) = difference(ODD, &removed);
    assert!(come.is_empty(), "{come:?}");
    assert!(gone.concat().starts_with("# about shell\r\n# more about shell\r\n[[host"));
    assert!(gone.concat().ends_with("# below shell\r\n\r\n"));
}

#[test]
fn what_cannot_be_changed_is_said() {
    let unknown = change(ODD, "catalouge", &RuleEdit::Remove).expect_err("unknown");
    assert_eq!(unknown.to_string(), "there is no rule `catalouge`; did you mean `catalogue`?");
    let keys = vec![("allow", list(&["1/tcp"]))];
    let taken = change(ODD, "shell", &RuleEdit::Add { place: Place::Last, keys });
    assert_eq!(taken.expect_err("taken").to_string(), "there is a rule `shell` already");
    let source = [Source::new("policy.toml", ODD)];
    let removed =
        edit_named(&source, &policy(ODD), (Used::Place, "curators"), &NamedEdit::Remove, None);
    let message = removed.expect_err("in use").to_string();
    assert_eq!(message, "the place `curators` is in use: policy.toml:26");
    let braces = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                  rule = [{ name = \"shell\", allow = [\"22/tcp\"] }]\n";
    let form = change(braces, "shell", &RuleEdit::Remove).expect_err("form");
    let expected = "`host.sluice.rule` in policy.toml is written in one line with others";
    assert_eq!(form.to_string(), expected);
}

#[test]
fn defaults_and_places_are_written_where_they_belong() {
    let source = [Source::new("policy.toml", ODD)];
    let keys = [("inbound".into(), text("reject")), ("outbound".into(), text("deny"))];
    let target = Target::Section(("host", "sluice"));
    let Edited { text: edited, .. } =
        set_entries(&source, target, "default", &keys, true).expect("set");
    let (gone, come) = difference(ODD, &edited);
    assert_eq!(
        (gone.concat().as_str(), come.concat().as_str()),
        ("inbound = 'deny'\r\n", "inbound = \"reject\"\r\noutbound = \"deny\"\r\n")
    );
    let keys = vec![("addresses", list(&["198.51.100.128/28"]))];
    let added =
        edit_named(&source, &policy(ODD), (Used::Place, "herbarium"), &NamedEdit::Add(keys), None);
    let (gone, come) = difference(ODD, &added.expect("added").text);
    assert!(gone.is_empty());
    let expected = "[place.herbarium]\r\naddresses = [\"198.51.100.128/28\"]\r\n\r\n";
    assert_eq!(come.concat(), expected);
}

/// A policy whose every rule has comments that name it.
fn commented(rules: usize, line_end: &str) -> String {
    let mut text = String::from("edition = 1\n\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
    for number in 0..rules {
        text.push_str(&format!(
            "\n# free {number}\n\n# about r{number}\n[[host.sluice.rule]]\nname = \"r{number}\" \
             # name of r{number}\nallow = [\"{}/tcp\"]\n# in r{number}\nwhy = \"r{number}\"\n",
            number + 1
        ));
    }
    text.replace('\n', line_end)
}

fn random_place(dice: &mut Generator, names: &[String]) -> Place {
    let name = names[dice.below(names.len())].clone();
    [Place::First, Place::Last, Place::Before(name.clone()), Place::After(name)][dice.below(4)]
        .clone()
}

/// Where a rule comes to stand.
fn position(names: &[String], place: &Place) -> usize {
    let at = |name: &String| names.iter().position(|it| it == name).expect("it is there");
    match place {
        Place::First => 0,
        Place::Last => names.len(),
        Place::Before(name) => at(name),
        Place::After(name) => at(name) + 1,
    }
}

#[test]
fn random_sequences_of_changes_lose_no_comment_and_no_rule() {
    let mut dice = Generator::new(4);
    for round in 0..SEQUENCES {
        let line_end = if round % 2 == 0 { "\n" } else { "\r\n" };
        let rules = 2 + dice.below(5);
        let mut now = commented(rules, line_end);
        let mut names: Vec<String> = (0..rules).map(|it| format!("r{it}")).collect();
        let mut removed = BTreeSet::new();
        for step in 0..1 + dice.below(8) {
            let name = names[dice.below(names.len())].clone();
            let place = random_place(&mut dice, &names);
            match dice.below(4) {
                0 => {
                    let new = format!("n{step}");
                    let at = position(&names, &place);
                    let keys = vec![("deny", list(&["9/udp"]))];
                    let edit = RuleEdit::Add { place, keys };
                    now = change(&now, &new, &edit).expect("added");
                    names.insert(at, new);
                }
                1 => {
                    let keys = [
                        ("allow", list(&["8/tcp"])),
                        ("reject", list(&["9/tcp", "10/udp"])),
                        ("paused", Some(Value::Switch(true))),
                        ("why", None),
                        ("why", text("because \"x\" \\ y")),
                    ];
                    let key = keys[dice.below(keys.len())].clone();
                    now = change(
                        &now,
                        &name,
                        &RuleEdit::Change { keys: vec![key], items: Vec::new() },
                    )
                    .expect("it");
                }
                2 => {
                    if matches!(&place, Place::Before(it) | Place::After(it) if *it == name) {
                        continue;
                    }
                    now = change(&now, &name, &RuleEdit::Move { place: place.clone() })
                        .expect("moved");
                    names.retain(|it| *it != name);
                    names.insert(position(&names, &place), name);
                }
                _ if names.len() > 1 => {
                    now = change(&now, &name, &RuleEdit::Remove).expect("removed");
                    names.retain(|it| *it != name);
                    removed.insert(name);
                }
                _ => {}
            }
        }
        let found: Vec<String> = policy(&now)
            .host("sluice")
            .expect("the host")
            .rules
            .iter()
            .map(|rule| rule.name.clone())
            .collect();
        assert_eq!(found, names, "{now}");
        let lines: Vec<&str> = now.split(line_end).collect();
        assert!(!now.replace(line_end, "").contains(['\r', '\n']), "line ends are kept: {now:?}");
        for number in 0..rules {
            assert!(lines.contains(&format!("# free {number}").as_str()), "{now}");
            let name = format!("r{number}");
            if removed.contains(&name) {
                continue;
            }
            // The rule's own comments are still right above it and in it.
            let about = lines.iter().position(|it| *it == format!("# about {name}"));
            let about = about.expect("a comment");
            assert_eq!(lines[about + 1], "[[host.sluice.rule]]", "{now}");
            assert_eq!(lines[about + 2], format!("name = \"{name}\" # name of {name}"), "{now}");
            assert!(lines[about..about + 6].contains(&format!("# in {name}").as_str()), "{now}");
        }
    }
}
