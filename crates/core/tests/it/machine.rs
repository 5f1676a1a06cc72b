//! What does not go together with the machine that a policy is for.

use std::collections::BTreeMap;
use std::net::IpAddr;
use tipstaff_core::analysis::{
    Code, Contact, Facts, Finding, Listener, Mend, ProgramFile, RoutingMark, Session, Subject,
    review_machine,
};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::{Placed, RuleId, Standing, Whole, resolve};
use tipstaff_core::policy::{Severity, Source, read};
use tipstaff_core::space::PortProtocol;

const HOST: &str = "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\"]\n\
    [place.herbarium]\naddresses = [\"198.51.100.128/28\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n";

fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

fn rule(name: &str, keys: &str) -> String {
    format!("[[host.sluice.rule]]\nname = \"{name}\"\n{keys}\n")
}

fn listener(port: u16, at: &str, program: &str) -> Listener {
    Listener {
        uid: None,
        protocol: PortProtocol::Tcp,
        port,
        address: address(at),
        pid: Some(7),
        program: Some(program.to_owned()),
        known: Some(program.to_owned()),
    }
}

fn found(rules: &str, facts: &Facts) -> Vec<Finding> {
    let text = format!("{HOST}{rules}");
    let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
    let plan = resolve(&policy, "sluice", NOW).expect("the host");
    review_machine(&policy, &plan, facts)
}

/// The findings' kinds, with what they say.
fn told(rules: &str, facts: &Facts) -> Vec<(Code, String)> {
    found(rules, facts).into_iter().map(|it| (it.code, it.message)).collect()
}

fn codes(rules: &str, facts: &Facts) -> Vec<Code> {
    found(rules, facts).into_iter().map(|it| it.code).collect()
}

#[test]
fn a_machine_that_fits_its_policy_is_not_complained_about() {
    let rules = rule("catalogue", "allow = [\"443/tcp\"]");
    let facts =
        Facts { listeners: vec![listener(443, "::", "/usr/sbin/catalogued")], ..Facts::default() };
    assert_eq!(told(&rules, &facts), []);
    assert_eq!(told("", &Facts::default()), []);
}

#[test]
fn rules_without_a_listener_and_listeners_without_a_rule() {
    let rules = rule("catalogue", "allow = [\"443/tcp\"]");
    let nobody = found(&rules, &Facts::default());
    assert_eq!(nobody.len(), 1);
    assert_eq!((nobody[0].code, nobody[0].severity), (Code::NoListener, Severity::Warning));
    assert_eq!(nobody[0].mend, Some(Mend::Remove(RuleId::rule("catalogue"))));
    assert_eq!(nobody[0].message, "allows 443/tcp, but nothing listens there");
    let local = Facts { listeners: vec![listener(443, "127.0.0.1", "/x")], ..Facts::default() };
    assert_eq!(codes(&rules, &local), [Code::LoopbackListener]);
    // It has moved: where to is known by its name.
    let moved = Facts {
        listeners: vec![listener(8443, "0.0.0.0", "/usr/sbin/catalogued")],
        ..Facts::default()
    };
    let findings = found(&rules, &moved);
    assert_eq!(
        findings.iter().map(|it| it.code).collect::<Vec<_>>(),
        [Code::NoListener, Code::UnmentionedListener]
    );
    let (rule, key, value) = (RuleId::rule("catalogue"), "allow", Some("8443/tcp".to_owned()));
    assert_eq!(findings[0].mend, Some(Mend::Change { rule, key, value }));
    assert_eq!(findings[1].severity, Severity::Note, "the default denies");
    // A name tells something from four letters on.
    let at_8443 = |program: &str| Facts {
        listeners: vec![listener(8443, "0.0.0.0", program)],
        ..Facts::default()
    };
    for (name, program, known) in [
        ("seed", "/opt/seedbase", true),
        ("sea", "/opt/seabase", false),
        ("tide-gauge", "/srv/tide", true),
    ] {
        let rules = self::rule(name, "allow = [\"443/tcp\"]");
        let mend = found(&rules, &at_8443(program))[0].mend.clone();
        assert_eq!(matches!(mend, Some(Mend::Change { .. })), known, "{name} {program}: {mend:?}");
    }
    // A rule for more ports than services have is none for a service.
    assert_eq!(codes(&self::rule("many", "allow = [\"1000-1064/tcp\"]"), &Facts::default()), []);
    let some = codes(&self::rule("some", "allow = [\"1000-1063/tcp\"]"), &Facts::default());
    assert_eq!(some, [Code::NoListener]);
}

#[test]
fn open_to_anybody_and_used_from_known_places_only() {
    let rules = rule("catalogue", "allow = [\"443/tcp\"]");
    let contact =
        |peer: &str| Contact { protocol: PortProtocol::Tcp, port: 443, peer: address(peer) };
    let facts = |peers: &[&str]| Facts {
        listeners: vec![listener(443, "0.0.0.0", "/usr/sbin/catalogued")],
        contacts: peers.iter().map(|it| contact(it)).collect(),
        ..Facts::default()
    };
    let one = found(&rules, &facts(&["198.51.100.7"]));
    assert_eq!(one.len(), 1);
    assert_eq!((one[0].code, one[0].severity), (Code::WiderThanUsed, Severity::Note));
    assert_eq!(
        one[0].message,
        "lets anybody reach 443/tcp; the only connection now comes from curators"
    );
    let Some(Mend::Change { value, .. }) = &one[0].mend else { panic!("{one:?}") };
    assert_eq!(value.as_deref(), Some("curators"));
    let two = found(&rules, &facts(&["198.51.100.7", "198.51.100.130"]));
    assert!(two[0].message.ends_with("both connections now come from curators, herbarium"));
    let Some(Mend::Change { value: None, .. }) = &two[0].mend else { panic!("{two:?}") };
    // A stranger among them: then it is used as it is open. What comes from here says nothing.
    assert_eq!(codes(&rules, &facts(&["198.51.100.7", "203.0.113.9"])), []);
    assert_eq!(codes(&rules, &facts(&["127.0.0.1", "192.0.2.10"])), []);
    let narrow = rule("catalogue", "allow = [\"443/tcp\"]\nfrom = [\"curators\"]");
    assert_eq!(codes(&narrow, &facts(&["198.51.100.7"])), []);
}

#[test]
fn programs_at_their_paths_and_others_at_their_ports() {
    let rules = rule("seeds", "allow = [\"5432/tcp\"]\nprogram = \"/usr/sbin/seedbase\"");
    let path = || "/usr/sbin/seedbase".to_owned();
    let at = |file| Facts {
        listeners: vec![listener(5432, "0.0.0.0", "/usr/sbin/seedbase")],
        files: BTreeMap::from([(path(), file)]),
        ..Facts::default()
    };
    let program = |real: &str, names, writable| ProgramFile::Program {
        real: Some(real.to_owned()),
        names,
        writable,
    };
    assert_eq!(codes(&rules, &at(program("/usr/sbin/seedbase", 1, None))), []);
    assert_eq!(codes(&rules, &at(ProgramFile::Missing)), [Code::ProgramMissing]);
    assert_eq!(codes(&rules, &at(ProgramFile::NotExecutable)), [Code::ProgramMissing]);
    // A rule that is not in force asks for no program, and the replies that it narrows say nothing twice.
    let paused = format!("{rules}paused = true\n");
    assert!(!codes(&paused, &at(ProgramFile::Missing)).contains(&Code::ProgramMissing));
    let udp = rule("seeds", "allow = [\"5432/udp\"]\nprogram = \"/usr/sbin/seedbase\"");
    let missing = codes(&udp, &at(ProgramFile::Missing));
    assert_eq!(missing.iter().filter(|it| **it == Code::ProgramMissing).count(), 1, "{missing:?}");
    let script = ProgramFile::Script { interpreter: "/usr/bin/python3".into() };
    assert_eq!(codes(&rules, &at(script)), [Code::ProgramIsScript]);
    assert_eq!(codes(&rules, &at(program("/usr/sbin/seedbase", 2, None))), [Code::ProgramShared]);
    let all =
        told(&rules, &at(program("/usr/bin/python3.13", 1, Some((Some(1000), "/usr/bin".into())))));
    let meant = [Code::ProgramWritable, Code::ProgramIsInterpreter, Code::ProgramShared];
    assert_eq!(all.iter().map(|it| it.0).collect::<Vec<_>>(), meant);
    assert_eq!(all[0].1, "names /usr/sbin/seedbase, and user 1000 can write /usr/bin");
    // Somebody else at the port.
    let other =
        Facts { listeners: vec![listener(5432, "0.0.0.0", "/tmp/intruder")], ..Facts::default() };
    let found = told(&rules, &other);
    assert_eq!(found[0].0, Code::OtherProgram);
    assert_eq!(
        found[0].1,
        "is for /usr/sbin/seedbase, but /tmp/intruder (process 7) listens at 5432/tcp"
    );
    // Others at other ports are none of its business, and who names any traffic means no port.
    let elsewhere =
        Facts { listeners: vec![listener(5433, "0.0.0.0", "/tmp/intruder")], ..Facts::default() };
    assert!(!codes(&rules, &elsewhere).contains(&Code::OtherProgram));
    let any = rule("seeds", "allow = [\"any\"]\nprogram = \"/usr/sbin/seedbase\"");
    assert!(!codes(&any, &other).contains(&Code::OtherProgram));
    let here =
        Facts { listeners: vec![listener(5432, "::1", "/tmp/intruder")], ..Facts::default() };
    assert_eq!(codes(&rules, &here), [Code::LoopbackListener]);
}

#[test]
fn marks_interfaces_and_crowds() {
    let rules = rule("seeds", "allow = [\"5432/tcp\"]\nprogram = \"/usr/sbin/seedbase\"");
    let seeds = || vec![listener(5432, "0.0.0.0", "/usr/sbin/seedbase")];
    let mark = |mask| RoutingMark { mark: mask, mask, v6: false, priority: 100 };
    let with = |routing, marked_by_packets| Facts {
        listeners: seeds(),
        routing,
        marked_by_packets,
        ..Facts::default()
    };
    assert_eq!(codes(&rules, &with(vec![mark(1)], false)), []);
    let clash = told(&rules, &with(vec![mark(u32::MAX)], true));
    assert_eq!(clash.iter().map(|it| it.0).collect::<Vec<_>>(), [Code::MarkClash; 2]);
    // Without rules for programs, marks are others' own affair.
    let plain = rule("seeds", "allow = [\"5432/tcp\"]");
    assert_eq!(codes(&plain, &with(vec![mark(u32::MAX)], true)), []);

    let placed = |standing| Facts {
        listeners: seeds(),
        placed: vec![Placed {
            called: "eth9".into(),
            hardware: None,
            standing,
            rule: RuleId::rule("seeds"),
        }],
        ..Facts::default()
    };
    assert_eq!(codes(&plain, &placed(Standing::There)), []);
    assert_eq!(codes(&plain, &placed(Standing::Missing)), [Code::InterfaceMissing]);
    let whole = Whole { name: "bridge0".into(), is_one_link: false };
    let part = found(&plain, &placed(Standing::PartOf(whole)));
    assert_eq!(part[0].code, Code::InterfaceEnslaved);
    assert_eq!(part[0].subject, Subject::Rule(RuleId::rule("seeds")));
    assert!(part[0].origin.is_some());
    assert!(
        part[0].message.ends_with("rules that deny mean all of bridge0, rules that allow nothing")
    );
    let link = Whole { name: "bond0".into(), is_one_link: true };
    let part = found(&plain, &placed(Standing::PartOf(link)));
    assert!(part[0].message.ends_with("its packets come in by that, and rules mean that"));

    let crowded = |packets| Facts {
        listeners: seeds(),
        crowded: vec![(RuleId::rule("seeds"), packets)],
        ..Facts::default()
    };
    assert_eq!(codes(&plain, &crowded(0)), []);
    assert!(told(&plain, &crowded(1))[0].1.starts_with("a packet came from a sender for which"));
    assert!(told(&plain, &crowded(2))[0].1.starts_with("2 packets came from senders for which"));
    let gone =
        Facts { crowded: vec![(RuleId::rule("gone"), 9)], listeners: seeds(), ..Facts::default() };
    assert_eq!(codes(&plain, &gone), []);
}

#[test]
fn shells_and_sessions_that_are_shut_out() {
    let shell = || vec![listener(2202, "0.0.0.0", "/usr/sbin/sshd")];
    let facts = Facts { listeners: shell(), ..Facts::default() };
    let out = found("", &facts);
    assert_eq!(
        out.iter().map(|it| it.code).collect::<Vec<_>>(),
        [Code::ShellLockout, Code::UnmentionedListener]
    );
    assert_eq!(out[0].severity, Severity::Error);
    let Some(Mend::Allow { name: Some("shell"), traffic, .. }) = &out[0].mend else {
        panic!("{out:?}")
    };
    assert_eq!(traffic[..], ["2202/tcp"]);
    let admitted = rule("shell", "allow = [\"2202/tcp\"]\nfrom = [\"curators\"]");
    assert_eq!(codes(&admitted, &facts), []);
    let session = |client: &str| Facts {
        listeners: shell(),
        session: Some(Session {
            user: None,
            client: (address(client), 40_000),
            server: (address("192.0.2.10"), 2202),
            interface: None,
            program: None,
        }),
        ..Facts::default()
    };
    assert_eq!(codes(&admitted, &session("198.51.100.7")), []);
    let cut = found(&admitted, &session("203.0.113.9"));
    assert_eq!(cut.iter().map(|it| it.code).collect::<Vec<_>>(), [Code::SessionCut]);
    assert!(cut[0].witness.is_some() && cut[0].severity == Severity::Error);
    assert_eq!(cut[0].others, [RuleId::parse("default/inbound")]);
}

#[test]
fn what_is_accepted_says_why() {
    let rules = rule(
        "catalogue",
        "allow = [\"443/tcp\"]\naccept = { no-listener = \"it starts on demand\" }",
    );
    let found = found(&rules, &Facts::default());
    assert_eq!(found[0].accepted.as_deref(), Some("it starts on demand"));
}
