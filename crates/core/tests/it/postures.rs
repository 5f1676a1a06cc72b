//! Postures: what holds in certain situations.

use crate::given::{policy, udp};
use tipstaff_core::analysis::failing;
use tipstaff_core::generate::{Generator, HOST_NAME, NOW, POSTURE};
use tipstaff_core::plan::{HostPlan, RuleId, resolve};
use tipstaff_core::policy::{Policy, Source, Taken, Time, Verdict, read};
use tipstaff_core::program::{Drift, RuleProgram, compare, lower};
use tipstaff_core::space::{Direction, Packet};

const BENCH: &str = r#"edition = 1
[place.desk]
addresses = ["10.44.8.30"]
[bundle.shell]
[[bundle.shell.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["10.44.8.0/24"]
[host.bench]
addresses = ["10.44.8.20/24", "fd44:8::20/64"]
interfaces = { outside = "eth0", tunnel = "tun0" }
turned-away = ["203.0.113.9"]
at-boot = "sealed"
[host.bench.baseline]
ping = "deny"
dhcp = false
[[host.bench.rule]]
use = "shell"
[[host.bench.rule]]
name = "web"
allow = ["80/tcp"]
[host.bench.posture.sealed]
why = "Only the tunnel"
instead = true
turned-away = ["desk"]
[host.bench.posture.sealed.default]
outbound = "deny"
[host.bench.posture.sealed.baseline]
dhcp = true
[[host.bench.posture.sealed.rule]]
use = "shell"
[[host.bench.posture.sealed.rule]]
name = "tunnel-endpoint"
direction = "outbound"
allow = ["51820/udp"]
to = ["198.51.100.99"]
egress = ["outside"]
[[host.bench.posture.sealed.rule]]
name = "through-tunnel"
direction = "outbound"
allow = ["any"]
egress = ["tunnel"]
[[host.bench.posture.printing.rule]]
name = "printer"
allow = ["9100/tcp"]
[[host.bench.expect]]
traffic = ["443/tcp"]
direction = "outbound"
egress = ["outside"]
verdict = "deny"
posture = "sealed"
[[host.bench.expect]]
traffic = ["443/tcp"]
direction = "outbound"
to = ["192.0.2.1"]
verdict = "allow"
[[host.bench.expect]]
traffic = ["80/tcp"]
from = ["192.0.2.0/24"]
verdict = "allow"
posture = ["none", "printing"]
[[host.bench.expect]]
traffic = ["25/tcp"]
verdict = "deny"
posture = "always"
"#;

fn names(text: &str, posture: &str) -> Vec<String> {
    let policy = policy(text).in_posture("bench", posture).expect("a posture");
    policy.hosts[0].rules.iter().map(|it| it.name.clone()).collect()
}

/// Instead of the host's own rules, or ahead of them; what a posture does not say is as without it.
#[test]
fn a_posture_changes_what_it_says_and_nothing_else() {
    assert_eq!(names(BENCH, "sealed"), ["shell", "tunnel-endpoint", "through-tunnel"]);
    assert_eq!(names(BENCH, "printing"), ["printer", "shell", "web"]);
    let without = policy(BENCH);
    assert_eq!(without.hosts[0].at_boot.as_deref(), Some("sealed"));
    let sealed = without.in_posture("bench", "sealed").expect("a posture");
    let (host, before) = (&sealed.hosts[0], &without.hosts[0]);
    let verdicts = |it: Direction| (before.defaults.of(it).verdict, host.defaults.of(it).verdict);
    assert_eq!(verdicts(Direction::Inbound), (Verdict::Deny, Verdict::Deny));
    assert_eq!(verdicts(Direction::Outbound), (Verdict::Allow, Verdict::Deny));
    assert_eq!(before.baseline.ping, host.baseline.ping);
    assert_eq!(host.baseline.switches.len(), 1);
    assert!(host.baseline.switches.iter().any(|it| (it.0, it.1) == ("dhcp", true)));
    let away = host.turned_away.as_ref().expect("somebody");
    assert_eq!((&away.terms[..], away.own), (&["203.0.113.9".to_owned(), "desk".into()][..], 1));
    assert!(without.in_posture("bench", "selaed").is_none());
    assert!(without.uses.iter().any(|it| it.name == "desk"), "a place used in a posture is used");
}

/// Each is about the postures that it names, about none if it names none, and `always` about all.
#[test]
fn expectations_are_about_the_postures_that_they_name() {
    let failing_in = |posture: Option<&str>, text: &str| -> Vec<(String, Verdict)> {
        let mut policy = policy(text);
        if let Some(posture) = posture {
            policy = policy.in_posture("bench", posture).expect("a posture");
        }
        let plan = resolve(&policy, "bench", NOW).expect("the host");
        let host = &policy.hosts[0];
        assert_eq!(
            host.expected().count(),
            if posture == Some("sealed") { 2 } else { 3 - usize::from(posture.is_some()) }
        );
        failing(&plan, host.expected())
            .iter()
            .map(|it| (it.expectation.traffic_terms.join(" "), it.expectation.verdict))
            .collect()
    };
    for posture in [None, Some("sealed"), Some("printing")] {
        assert_eq!(failing_in(posture, BENCH), [], "{posture:?}");
    }
    let leaky = BENCH.replace("egress = [\"tunnel\"]", "");
    assert_eq!(failing_in(None, &leaky), []);
    assert_eq!(failing_in(Some("sealed"), &leaky), [("443/tcp".to_owned(), Verdict::Deny)]);
}

/// What cannot be meant is told, where it is written.
#[test]
fn mistakes_about_postures_are_told() {
    let problems = |old: &str, new: &str| {
        let text = BENCH.replacen(old, new, 1);
        assert_ne!(text, BENCH);
        let problems = read(&Source::new("policy.toml", &text)).expect_err("a mistake");
        let told = |it: &tipstaff_core::policy::Diagnostic| {
            let label = it.primary.as_ref().map(|it| it.text.clone()).unwrap_or_default();
            format!("{}: {}; {label}", it.code, it.message)
        };
        problems.iter().map(told).collect::<Vec<_>>().join("\n")
    };
    insta::assert_snapshot!(problems("at-boot = \"sealed\"", "at-boot = \"seald\""), @"unknown-posture: the host has no posture `seald`; did you mean `sealed`?");
    insta::assert_snapshot!(problems("posture = \"sealed\"", "posture = \"seald\""), @"unknown-posture: the host has no posture `seald`; did you mean `sealed`?");
    insta::assert_snapshot!(problems("posture.printing.rule", "posture.shut.rule"), @r"
    reserved-name: `shut` is no name for a posture of your own; choose another name
    unknown-posture: the host has no posture `printing`; its postures are: sealed, shut
    ");
    insta::assert_snapshot!(problems("name = \"printer\"", "name = \"web\""), @"duplicate-name: there are two rules named `web` here; choose another name");
    insta::assert_snapshot!(problems("name = \"tunnel-endpoint\"", "name = \"through-tunnel\""), @"duplicate-name: there are two rules named `through-tunnel` here; choose another name");
    insta::assert_snapshot!(problems("instead = true", "instaed = true"), @r"
    unknown-key: a `posture` section has no key `instaed`; did you mean `instead`?
    duplicate-name: there are two rules named `shell` here; choose another name
    ");
    let tight = "[label.tight]\n[[label.tight.expect]]\ntraffic = [\"25/tcp\"]\nverdict = \"deny\"\n\
        posture = [\"always\", \"none\", \"sealed\", \"seald\"]\n[host.bench]\nlabels = [\"tight\"]\n";
    insta::assert_snapshot!(problems("[host.bench]\n", tight), @"unknown-posture: no host with this label has a posture `seald`; did you mean `sealed`?");
    // Of no host it is about nobody.
    policy(&BENCH.replacen("[host.bench]\n", &tight.replace("labels", "names"), 1));
    insta::assert_snapshot!(problems("posture = \"always\"", "posture = []"), @r#"empty-list: `posture` is empty; expected at least one item, such as "sealed""#);
}

const END: Time = Time::from_seconds(1_800_000_600);
const BEFORE: Time = Time::from_seconds(1_800_000_599);

fn taken(until: Option<Time>) -> Taken {
    Taken { name: POSTURE.into(), since: NOW, until, why: String::new(), then: None }
}

/// The plans without and in the posture, at a moment.
fn plans(text: &str, now: Time) -> [HostPlan; 2] {
    let without = policy(text);
    let within = without.in_posture(HOST_NAME, POSTURE).expect("a posture");
    let resolved = |it| resolve(it, HOST_NAME, now).expect("the host");
    let mut within = resolved(&within);
    within.taken = Some(taken(Some(END)));
    [resolved(&without), within]
}

fn agrees(program: &RuleProgram, plan: &HostPlan, packet: &Packet, seed: u64) {
    let (meant, found) = (plan.evaluate(packet), program.evaluate(packet));
    assert_eq!(found.as_ref(), Some(&meant), "seed {seed}, {packet:?}");
}

/// Up to its end a posture is all that counts, and from then on what holds without it, for every packet.
#[test]
fn a_posture_with_an_end_gives_way_to_what_holds_without_it() {
    let (mut lookups, mut told_apart) = (0, 0);
    for seed in 0..150 {
        let mut generator = Generator::new(seed);
        if seed % 3 == 0 {
            generator = generator.crowded();
        }
        let text = generator.policy();
        let [without, within] = plans(&text, NOW);
        let both = lower(&within).until(END, lower(&without));
        lookups += both.chains.iter().filter(|it| it.name.contains("/later/v4")).count();
        let before = both.clone().at(BEFORE);
        let after = both.clone().at(END);
        // In the meantime other rules may have ended.
        let [later, _] = plans(&text, END);
        for _ in 0..300 {
            let packet = generator.packet_for(&within);
            agrees(&before, &within, &packet, seed);
            agrees(&after, &later, &packet, seed);
            told_apart += usize::from(within.evaluate(&packet) != later.evaluate(&packet));
        }
        // Nothing of the posture is left that somebody would have to take for a change.
        let differences: Vec<Drift> = compare(&lower(&without).at(END), &after);
        assert_eq!(differences, [], "seed {seed}");
        assert_eq!(after.taken, None);
        assert_eq!(compare(&both.clone().at(NOW), &both.clone().at(NOW)), []);
        assert_eq!(compare(&lower(&without).at(NOW), &both.at(NOW)).last(), Some(&Drift::Posture));
    }
    assert!(lookups > 20 && told_apart > 1_000, "{lookups} {told_apart}");
}

/// Behind a posture with an end, the one without an end holds in which it was taken.
#[test]
fn a_posture_can_hold_again_behind_another() {
    let without = policy(BENCH);
    let plan = |it: &Policy| resolve(it, "bench", NOW).expect("the host");
    let within = |name: &str| plan(&without.in_posture("bench", name).expect("a posture"));
    let sealed = Taken { name: "sealed".into(), ..taken(None) };
    let mut showing = within("printing");
    let then = Some(Box::new(sealed.clone()));
    showing.taken = Some(Taken { name: "printing".into(), then, ..taken(Some(END)) });
    let mut behind = within("sealed");
    behind.taken = Some(sealed.clone());
    let program = lower(&showing).until(END, lower(&behind));
    assert_eq!(program.clone().at(BEFORE).taken, showing.taken);
    assert_eq!(program.clone().at(END).taken, Some(sealed));
    assert_eq!(compare(&lower(&behind).at(END), &program.clone().at(END)), []);
    let other = lower(&plan(&without));
    assert!(compare(&other, &program.at(END)).contains(&Drift::Posture));
    let taken = showing.taken.expect("it");
    assert_eq!(taken.at(BEFORE).map(|it| it.name.as_str()), Some("printing"));
    assert_eq!(taken.at(END).map(|it| it.name.as_str()), Some("sealed"));
    assert!(!taken.is_as(&Taken { then: None, ..taken.clone() }));
}

/// Decisions of what holds later are known by other names than those of now.
#[test]
fn later_decisions_have_names_of_their_own() {
    for text in ["later/web", "later/baseline/replies", "later/default/inbound", "web"] {
        let id = RuleId::parse(text);
        assert_eq!((id.to_string(), id.later), (text.to_owned(), text != "web"));
    }
    assert_eq!(RuleId::parse("later/baseline/replies").kind, tipstaff_core::plan::Kind::Baseline);
    let policy = policy(BENCH);
    let within = policy.in_posture("bench", "sealed").expect("a posture");
    let plan = |it| resolve(it, "bench", NOW).expect("the host");
    let mut sealed = plan(&within);
    sealed.taken = Some(Taken { name: "sealed".into(), ..taken(Some(END)) });
    let program = lower(&sealed).until(END, lower(&plan(&policy)));
    let mut out = crate::given::packet("10.44.8.20", "192.0.2.1", udp(5000, 53));
    (out.direction, out.out_interface) = (Direction::Outbound, Some("eth0".into()));
    let by = |now: Time| program.clone().at(now).evaluate(&out).expect("decided");
    assert_eq!(
        (by(BEFORE).by.to_string(), by(BEFORE).verdict),
        ("default/outbound".into(), Verdict::Deny)
    );
    assert_eq!(
        (by(END).by.to_string(), by(END).verdict),
        ("default/outbound".into(), Verdict::Allow)
    );
}

/// What is added to the host goes into its own section, not into that of a posture.
#[test]
fn the_host_is_changed_beside_its_postures() {
    use tipstaff_core::policy::Used;
    use tipstaff_core::policy::edit::{NamedEdit, Value, edit_named};
    let text = "edition = 1\n[host.bench]\naddresses = [\"10.44.8.20\"]\n\
        [host.bench.posture.sealed]\ninstead = true\n\
        [[host.bench.posture.sealed.rule]]\nname = \"web\"\nallow = [\"80/tcp\"]\n";
    let sources = [Source::new("policy.toml", text)];
    let keys = vec![("turned-away", Some(Value::List(vec!["203.0.113.9".into()])))];
    let change = NamedEdit::Change(keys, Vec::new());
    let edited = edit_named(&sources, &policy(text), (Used::Host, "bench"), &change, None);
    let text = edited.expect("changed").text;
    let policy = policy(&text);
    let host = &policy.hosts[0];
    assert!(host.turned_away.is_some() && host.postures[0].turned_away.is_none(), "{text}");
}
