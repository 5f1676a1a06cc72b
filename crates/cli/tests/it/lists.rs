//! Access control lists: written so that others read them, and read, whoever wrote them.

use crate::harness::{Desk, MENDED};
use crate::servers::find;
use std::fs;
use std::path::Path;
use std::process::Command;
use tipstaff_core::generate::{Generator, HOST_NAME};

/// The modules of the IETF, as published (RFC 8519, RFC 8343, RFC 7224, RFC 6991), under the Simplified BSD License.
const MODULES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/yang");

/// Whether a validator of others takes a document; `None`, with a word about it, if there is none.
fn is_valid(document: &Path) -> Option<Result<(), String>> {
    let Some(yanglint) = find("yanglint") else {
        println!("NOT RUN: yanglint is missing");
        assert!(std::env::var_os("CI").is_none(), "under CI it must be there");
        return None;
    };
    let module = |name: &str| format!("{MODULES}/{name}.yang");
    let mut command = Command::new(yanglint);
    command.args(["-p", MODULES, "-F", "ietf-access-control-list:*", "-t", "config"]);
    command.args([module("iana-if-type"), module("ietf-access-control-list")]).arg(document);
    let told = command.output().expect("it starts");
    let words = String::from_utf8_lossy(&told.stderr).into_owned();
    Some(if told.status.success() { Ok(()) } else { Err(words) })
}

#[test]
fn a_validator_of_others_takes_what_is_written() {
    let policies = if std::env::var_os("TIPSTAFF_LONG").is_some() { 1_000 } else { 30 };
    let (mut entries, mut named, mut refused) = (0, 0, 0);
    for seed in 0..policies {
        let desk = Desk::with(Generator::new(seed).policy());
        let told = desk.run(["--host", HOST_NAME, "--format", "json", "export", "--to", "acl"]);
        if told.stderr.contains("more than 200,000 entries") {
            refused += 1;
            continue;
        }
        let told = told.json();
        let text = told["document"].to_string();
        named += usize::from(text.contains("ress-interface"));
        entries += told["entries"].as_u64().expect("a number");
        let file = desk.path().join("lists.json");
        fs::write(&file, &text).expect("written");
        let Some(valid) = is_valid(&file) else { return };
        assert_eq!(valid, Ok(()), "seed {seed}: {text}");
        // It can be wrong.
        if seed == 0 {
            fs::write(&file, text.replace("\"accept\"", "\"let-in\"")).expect("written");
            assert!(is_valid(&file).is_some_and(|it| it.is_err()));
        }
    }
    println!("{entries} entries of {policies} policies, {refused} of which were too many");
    assert!(entries > 1_000 && named > 3 && refused * 20 < policies, "{named}, {refused}");
}

#[test]
fn a_policy_goes_out_and_in_again() {
    // What lists cannot say is taken out first.
    let policy = MENDED.replace("published = [\"8088/tcp\"]\n", "");
    let desk = Desk::with(&policy);
    let out = desk.run(["--host", "sluice", "export", "--to", "acl"]).exits(0);
    assert!(out.stderr.contains("has to let replies pass"), "{}", out.stderr);
    let lists = desk.path().join("lists.json");
    fs::write(&lists, &out.stdout).expect("written");
    let lists = lists.display().to_string();
    let back = desk.run(["--host", "sluice", "adopt", "--from", "acl", &lists]).exits(0);
    let same =
        desk.run(["--host", "sluice", "compare", &lists, "--format", "json"]).exits(0).json();
    assert_eq!(same["first"], format!("the lists of {lists}"));
    assert_eq!(back.stderr, "");
    insta::assert_snapshot!(back.stdout);
    let file = desk.path().join("back.toml");
    fs::write(&file, &back.stdout).expect("written");
    let file = file.display().to_string();
    desk.run(["--host", "sluice", "compare", &file]).exits(0);

    // The same in XML.
    let xml = desk.run(["--host", "sluice", "export", "--to", "acl-xml"]).exits(0).stdout;
    let file = desk.path().join("lists.xml").display().to_string();
    fs::write(&file, &xml).expect("written");
    let again = desk.run(["--host", "sluice", "adopt", "--from", "acl", &file]).exits(0);
    assert_eq!(again.stdout, back.stdout);
    desk.run(["--host", "sluice", "compare", &file]).exits(0);
    // A validator takes what is in it.
    let (first, last) = (xml.find("<acls").expect("lists"), xml.find("</config>").expect("an end"));
    fs::write(&file, &xml[first..last]).expect("written");
    if let Some(valid) = is_valid(Path::new(&file)) {
        assert_eq!(valid, Ok(()), "{xml}");
    }
    for text in ["<acls/>", "<?xml version=\"1.0\"?><config>\u{1b}</config>", "<!DOCTYPE a>"] {
        fs::write(&file, text).expect("written");
        let refused = desk.run(["adopt", "--from", "acl", &file]).exits(2);
        assert!(refused.stderr.contains("no access control lists"), "{}", refused.stderr);
        assert!(!refused.stderr.contains('\u{1b}'), "{}", refused.stderr);
    }
}

#[test]
fn what_lists_cannot_say_is_named() {
    let desk = Desk::with(MENDED);
    let out = desk.run(["--host", "sluice", "export", "--to", "acl"]).exits(1);
    let said = "reading-room (forwarded) is left out: lists cannot say published ports";
    assert!(out.stderr.contains(said), "{}", out.stderr);
    assert!(!out.stdout.contains("reading-room"));
    let json = desk.run(["--host", "sluice", "--format", "json", "export", "--to", "acl"]).json();
    assert_eq!(json["losses"][0]["left_out"], true);
}

#[test]
fn what_is_no_list_is_refused_and_nothing_writes_on_a_terminal() {
    let desk = Desk::with(MENDED);
    let file = desk.path().join("lists.json");
    let adopt = |bytes: &[u8]| {
        fs::write(&file, bytes).expect("written");
        desk.run(["adopt", "--from", "acl", &file.display().to_string()])
    };
    for bytes in [&b""[..], b"{", b"[]", b"{}", b"\xff\xfe", b"null", b"edition = 1\n"] {
        let told = adopt(bytes).exits(2);
        assert!(told.stdout.is_empty() && told.stderr.contains("lists.json"), "{}", told.stderr);
    }
    let none = adopt(b"{\"ietf-access-control-list:acls\": {\"acl\": []}}").exits(2);
    assert!(none.stderr.contains("there are no entries in it"), "{}", none.stderr);
    let missing = desk.run(["adopt", "--from", "acl", "/nowhere/\u{1b}[31m.json"]).exits(2);
    assert!(missing.stderr.contains("cannot read") && !missing.stderr.contains('\u{1b}'));
    // Names of others come into the policy as names, and into the notes as text.
    let odd = r#"{"acls": {"acl": [{"name": "a\u001b[31m\nb", "aces": {"ace": [
        {"name": "x\"]\nallow = [\"any\"]", "matches": {"tcp": {"destination-port": {"port": 22}}},
         "actions": {"forwarding": "accept"}},
        {"name": "\u001b]0;y", "matches": {"l2\u001b": {}}, "actions": {"forwarding": "drop"}},
        {"name": "via", "matches": {"ingress-interface": "eth0\"]\ndeny = [\"any"},
         "actions": {"forwarding": "accept"}},
        {"name": "not", "matches": {"ingress-interface": "!eth0"}, "actions": {"forwarding": "accept"}}
    ]}}]}}"#;
    let told = adopt(odd.as_bytes()).exits(1);
    assert!(!format!("{}{}", told.stdout, told.stderr).contains('\u{1b}'), "{}", told.stderr);
    assert!(told.stderr.contains("without it, the policy may let in more"), "{}", told.stderr);
    assert!(told.stderr.contains("does not say what becomes of everything else"));
    assert!(
        told.stdout.contains("name = \"x-allow-any\"\nallow = [\"22/tcp\"]"),
        "{}",
        told.stdout
    );
    assert!(!told.stdout.contains("\nallow = [\"any\"]\n\nfrom"), "{}", told.stdout);
    // What a policy would take for all but one is not taken for that.
    let said = told.stderr.replace('\n', " ");
    assert_eq!(said.matches("cannot be the name of an interface").count(), 2, "{said}");
    assert!(!told.stdout.contains("eth0"), "{}", told.stdout);
    let policy = desk.path().join("adopted.toml");
    fs::write(&policy, &told.stdout).expect("written");
    desk.run(["--policy", &policy.display().to_string(), "show"]).exits(0);
}

/// Of two policies that differ all over the first differences are listed, those that open something before others, and how
/// many more there are; if all are asked for, all.
#[test]
fn of_many_differences_the_first_are_listed() {
    let text = |rules| {
        let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
        for at in 0..rules {
            let (what, port) = (if at < 600 { "reject" } else { "allow" }, 2 * at + 1);
            text +=
                &format!("[[host.sluice.rule]]\nname = \"rule-{at}\"\n{what} = [\"{port}/udp\"]\n");
        }
        text
    };
    let desk = Desk::with(text(620));
    let other = Desk::with(text(0));
    let before = other.path().display().to_string();
    let told = desk.run(["compare", &before]).exits(1).stdout;
    assert!(told.contains("and 120 more; --all tells them\n"), "{told}");
    let first = desk.run(["--format", "json", "compare", &before]).exits(1).json();
    assert_eq!(first["changes"].as_array().map(Vec::len), Some(500));
    let kind = |at: usize| first["changes"][at]["kind"].as_str();
    assert_eq!([19, 20].map(kind), [Some("opens"), Some("answers")]);
    assert_eq!(first["more_changes"], 120);
    let all = desk.run(["--format", "json", "compare", &before, "--all"]).exits(1).json();
    assert_eq!(all["changes"].as_array().map(Vec::len), Some(620));
    assert_eq!(all["more_changes"], 0);
}
