//! No mend makes it worse.

use crate::given::policy;
use std::collections::BTreeMap;
use tipstaff_core::analysis::{Code, Finding, Mend, compare, ordinary, review};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::edit::{
    Edited, NamedEdit, Place, RuleEdit, Value, edit_named, edit_rule,
};
use tipstaff_core::policy::{Severity, Source, Verdict};
use tipstaff_core::space::{Direction, Packet};

fn likely(direction: Direction) -> Packet {
    Packet {
        direction,
        ..crate::given::packet("203.0.113.9", "192.0.2.10", crate::given::tcp(443))
    }
}

fn found(text: &str) -> Vec<Finding> {
    let policy = policy(text);
    let plan = resolve(&policy, &policy.hosts[0].name, NOW).expect("the host");
    review(&policy, &plan, NOW, &likely)
}

/// The policy after a mend; `None` if that leaves something for the author to choose.
fn mended(text: &str, mend: &Mend) -> Option<String> {
    let sources = [Source::new("policy.toml", text)];
    let policy = policy(text);
    let owner = ("host", policy.hosts[0].name.as_str());
    let rule = |name: &str, edit: &RuleEdit| edit_rule(&sources, &policy, owner, name, edit).ok();
    let edited: Option<Edited> = match mend {
        Mend::Move { rule: id, before } => {
            let place = Place::Before(before.name.clone());
            rule(&id.name, &RuleEdit::Move { place })
        }
        Mend::Remove(id) => rule(&id.name, &RuleEdit::Remove),
        Mend::Change { rule: id, key, value } => {
            let value = match *key {
                "from" => Value::List(vec![value.clone()?]),
                _ => Value::Text(value.clone()?),
            };
            let keys = vec![(*key, Some(value))];
            rule(&id.name, &RuleEdit::Change { keys, items: Vec::new() })
        }
        Mend::RemoveName(what, name) => {
            edit_named(&sources, &policy, (*what, name), &NamedEdit::Remove, None).ok()
        }
        // Who used it is not in the policy; that opens something is what it is for.
        Mend::Tighten(_) | Mend::Allow { .. } | Mend::Deny { .. } | Mend::Follow { .. } => None,
    };
    edited.map(|it| it.text)
}

/// Whether some packet is allowed afterwards that was not, of those that come to the host, leave it or pass it.
fn opens(before: &str, after: &str) -> bool {
    let plan = |text: &str| {
        let policy = policy(text);
        resolve(&policy, &policy.hosts[0].name, NOW).expect("the host")
    };
    let (before, after) = (plan(before), plan(after));
    let changes = compare(&before, &after, likely).changes;
    changes.iter().any(|it| {
        let ordinary = ordinary(&before, it.direction);
        it.after.act.verdict() == Verdict::Allow
            && it.before.act.verdict() != Verdict::Allow
            && (it.rest || it.pieces.iter().any(|it| !it.intersection(&ordinary).is_empty()))
    })
}

/// What is used no more by what is gone may go in turn: that is said next, and is no new mistake.
/// Errors and warnings count more than notes.
fn count(findings: &[Finding]) -> (usize, usize) {
    let counted = || findings.iter().filter(|it| it.code != Code::UnusedName);
    let notes = counted().filter(|it| it.severity == Severity::Note).count();
    (counted().count() - notes, notes)
}

fn words(findings: &[Finding]) -> String {
    let word = |it: &Finding| format!("{} {:?}: {}\n", it.code.as_str(), it.subject, it.message);
    findings.iter().map(word).collect()
}

fn hold(text: &str, tried: &mut BTreeMap<&'static str, usize>) {
    let before = found(text);
    for finding in &before {
        let Some(after) = finding.mend.as_ref().and_then(|mend| mended(text, mend)) else {
            continue;
        };
        *tried.entry(finding.code.as_str()).or_default() += 1;
        let left = found(&after);
        let fewer = match finding.code {
            Code::UnusedName => left.len() < before.len(),
            _ => count(&left) < count(&before),
        };
        assert!(
            fewer && !opens(text, &after),
            "{finding:#?}\n{text}\n---\n{}\nafter it:\n{}",
            words(&before),
            words(&left)
        );
    }
}

/// For generated policies, and for those that people write: every mend that can be made as it is offered.
#[test]
fn every_mend_leaves_fewer_findings_and_opens_nothing() {
    let mut tried = BTreeMap::new();
    hold(include_str!("../../../cli/tests/findings.toml"), &mut tried);
    for seed in 0..16 {
        let mut generator = Generator::new(seed);
        if seed % 3 == 2 {
            generator = generator.crowded();
        }
        hold(&generator.policy(), &mut tried);
    }
    for seed in 0..1 {
        hold(&Generator::new(seed).grown_policy(25), &mut tried);
    }
    for code in ["shadowed", "redundant", "overlap", "same-as-default", "never-here", "unused-name"]
    {
        assert!(tried.get(code).is_some_and(|it| *it > 0), "no mend of `{code}`: {tried:?}");
    }
}

fn rules(list: &[(&str, &str)]) -> String {
    let rules = list
        .iter()
        .map(|(name, keys)| format!("[[host.{HOST_NAME}.rule]]\nname = \"{name}\"\n{keys}\n"));
    format!(
        "edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\"]\n{}",
        rules.collect::<String>()
    )
}

/// It is the wide rule above that is doubted, and not the narrow ones below it.
#[test]
fn a_wide_rule_above_narrow_ones_is_the_mistake() {
    let narrow = [
        ("catalogue", "allow = [\"443/tcp\"]\nfrom = [\"198.51.100.0/27\"]"),
        ("copies", "allow = [\"873/tcp\"]\nfrom = [\"198.51.100.128/28\"]"),
    ];
    let wide = ("for-now", "allow = [\"any\"]\nfrom = [\"198.51.100.0/24\"]");
    let findings = found(&rules(&[wide, narrow[0], narrow[1]]));
    let [one] = &findings[..] else { panic!("{findings:#?}") };
    assert_eq!((one.code, one.others.len()), (Code::WideRuleAbove, 2));
    assert!(one.message.ends_with("because of it, `catalogue` and `copies` decide nothing"));
    assert!(matches!(&one.mend, Some(Mend::Remove(id)) if id.name == "for-now"), "{one:?}");
    // One alone may as well be what is too much; and what says no more is no narrower.
    for list in
        [&[wide, narrow[0]][..], &[narrow[0], ("same", narrow[0].1), ("again", narrow[0].1)]]
    {
        let findings = found(&rules(list));
        assert!(findings.iter().all(|it| it.code != Code::WideRuleAbove), "{findings:#?}");
        assert!(findings.iter().any(|it| it.code == Code::Shadowed), "{findings:#?}");
    }
    // Where only the wide one lets the administrator in, to take it out would be no mend.
    let shell = rules(&[wide, narrow[0], narrow[1]])
        .replace("addresses", "shell = [\"2202/tcp\"]\naddresses");
    let findings = found(&shell);
    let one = findings.iter().find(|it| it.code == Code::WideRuleAbove).expect("it");
    assert!(one.mend.is_none(), "{findings:#?}");
}

/// What allows is not moved above what denies: that would open what somebody shut.
#[test]
fn nothing_is_moved_to_where_it_opens() {
    let findings = found(&rules(&[
        ("nuisance", "deny = [\"any\"]\nfrom = [\"203.0.113.0/24\"]"),
        ("guest", "allow = [\"443/tcp\"]\nfrom = [\"203.0.113.9\"]"),
    ]));
    let guest = findings.iter().find(|it| it.code == Code::Shadowed).expect("it");
    assert!(guest.mend.is_none() && guest.message.contains("some of it is not allowed there"));
}
