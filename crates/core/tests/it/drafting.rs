//! A first policy from facts: it reads, keeps who is connected, and opens nothing else.

use std::net::IpAddr;
use tipstaff_core::analysis::{ordinary, review, shares};
use tipstaff_core::draft::{Contact, Facts, Link, Listener, draft};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Policy, Severity, Source, Verdict, read};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Packet, PortProtocol, Relation, Transport,
};

fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

fn protocol(tcp: bool) -> PortProtocol {
    if tcp { PortProtocol::Tcp } else { PortProtocol::Udp }
}

fn listener(port: u16, tcp: bool, at: &str, program: &str) -> Listener {
    let program = (!program.is_empty()).then(|| program.to_owned());
    Listener { protocol: protocol(tcp), port, address: address(at), program }
}

fn contact(port: u16, tcp: bool, peer: &str) -> Contact {
    Contact { protocol: protocol(tcp), port, peer: address(peer) }
}

fn sluice() -> Facts {
    let link = |name: &str, list: &[(&str, u8)]| Link {
        name: name.into(),
        addresses: list.iter().map(|it| (address(it.0), it.1)).collect(),
        lent: false,
    };
    Facts {
        by_program: false,
        host: "Sluice".into(),
        links: vec![
            link("eth0", &[("192.0.2.10", 24), ("2001:db8:2::10", 64), ("fe80::1", 64)]),
            link("eth1", &[("10.44.8.10", 24), ("fd44:8::10", 64)]),
        ],
        forwards: true,
        listeners: vec![
            listener(80, true, "::", "/usr/sbin/catalogued"),
            listener(443, true, "::", "/usr/sbin/catalogued"),
            listener(443, false, "::", "/usr/sbin/catalogued"),
            listener(2202, true, "0.0.0.0", "/usr/sbin/sshd"),
            listener(9100, true, "::", ""),
            listener(5432, true, "127.0.0.1", "/usr/sbin/seedbase"),
            listener(68, false, "0.0.0.0", "/sbin/dhcp-client"),
        ],
        contacts: vec![
            contact(443, true, "203.0.113.9"),
            contact(443, true, "::ffff:203.0.113.9"),
            contact(443, false, "2001:db8:bad::9"),
            contact(2202, true, "198.51.100.7"),
            contact(9100, true, "127.0.0.1"),
            contact(9100, true, "10.44.8.10"),
        ],
        remembered: None,
        nobody_there: Vec::new(),
        session: Some((address("2001:db8:51::7"), 2202)),
        tunnel: None,
        unseen: vec!["some programs".into()],
    }
}

fn read_back(text: &str, host: &str) -> (Policy, HostPlan) {
    let policy = read(&Source::new("draft.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    let plan = resolve(&policy, host, NOW).expect("the host");
    (policy, plan)
}

fn verdict(plan: &HostPlan, peer: IpAddr, port: u16, protocol: PortProtocol) -> Verdict {
    let own = plan.addresses.iter().find(|it| it.is_ipv4() == peer.is_ipv4()).expect("one");
    let (source, destination) = (40_000, port);
    plan.evaluate(&Packet {
        user: None,
        direction: Direction::Inbound,
        in_interface: None,
        out_interface: None,
        source: peer,
        destination: *own,
        transport: Transport::Ports { protocol, source, destination },
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    })
    .verdict
}

#[test]
fn a_draft_reads_like_this() {
    insta::assert_snapshot!(draft(&sluice()));
}

#[test]
fn who_is_connected_stays_admitted_and_nothing_else_opens() {
    let facts = sluice();
    let (policy, plan) = read_back(&draft(&facts), "sluice");
    for contact in &facts.contacts {
        let peer = contact.peer.to_canonical();
        if !peer.is_loopback() && !plan.addresses.contains(&peer) {
            assert_eq!(
                verdict(&plan, peer, contact.port, contact.protocol),
                Verdict::Allow,
                "{contact:?}"
            );
        }
    }
    assert_eq!(
        verdict(&plan, address("2001:db8:51::7"), 2202, PortProtocol::Tcp),
        Verdict::Allow,
        "the session"
    );
    // All that is allowed by rules comes from somebody who is connected, and goes to that port.
    let known: AddressSet = facts
        .contacts
        .iter()
        .map(|it| AddressSet::single(it.peer.to_canonical()))
        .chain([AddressSet::single(address("2001:db8:51::7"))])
        .collect();
    let rules = shares(&plan, Direction::Inbound, vec![ordinary(&plan, Direction::Inbound)])
        .expect("few parts");
    let mut opened = 0;
    for share in rules.iter().filter(|it| it.decision.id.kind == tipstaff_core::plan::Kind::Rule) {
        for piece in &share.pieces {
            assert!(piece.source.difference(&known).is_empty(), "{:?}", share.decision.id);
            opened += 1;
        }
    }
    assert!(opened >= 3, "{opened}");
    let likely = |direction| Packet {
        user: None,
        direction,
        in_interface: None,
        out_interface: None,
        source: address("203.0.113.9"),
        destination: address("192.0.2.10"),
        transport: Transport::Ports {
            protocol: PortProtocol::Tcp,
            source: 40_000,
            destination: 443,
        },
        state: ConnectionState::New,
        program: None,
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    };
    let found = review(&policy, &plan, NOW, &likely);
    let wrong: Vec<_> = found.iter().filter(|it| it.severity != Severity::Note).collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
    // Its forwarded traffic is not cut.
    assert_eq!(
        plan.chain(Direction::Forwarded).decisions.last().expect("one").act.verdict(),
        Verdict::Allow
    );
}

#[test]
fn hostile_and_empty_facts_still_make_a_policy() {
    let odd = Facts {
        host: "..".into(),
        links: vec![Link { name: "br-α\"x".into(), addresses: Vec::new(), lent: false }],
        listeners: vec![
            listener(80, true, "0.0.0.0", "/tmp/a\nedition = 2 # \"\u{1b}[31m"),
            listener(81, true, "0.0.0.0", "/tmp/üüü"),
            listener(82, true, "0.0.0.0", "/opt/üüü"),
            listener(83, true, "0.0.0.0", "/opt/busy"),
            listener(22, true, "0.0.0.0", "/usr/sbin/sshd"),
            listener(2222, true, "0.0.0.0", "/opt/sshd"),
        ],
        contacts: (0..400)
            .map(|it| contact(81, true, &format!("203.0.113.{}", it % 256)))
            .chain((0..99).map(|it| contact(81, true, &format!("198.51.100.{it}"))))
            .chain((0..300).map(|it| contact(83, true, &format!("2001:db8:{it}::1"))))
            .collect(),
        tunnel: None,
        unseen: vec!["a\n[host.x]".into()],
        ..Facts::default()
    };
    let text = draft(&odd);
    assert!(!text.contains('\u{1b}') && !text.contains("\n[host.x]"), "{text}");
    let (_, plan) = read_back(&text, "this-host");
    assert!(plan.moving && plan.addresses.is_empty());
    // A shell that nobody uses stays open to the networks that the machine is on.
    assert!(text.contains("from = [\"on-link\"]"), "{text}");
    assert!(text.contains("from = [\"198.51.100.0/24\", \"203.0.113.0/24\"]"), "{text}");
    assert!(text.contains("all of their networks"), "{text}");
    assert!(text.contains("so it is open to anybody"), "{text}");
    let (_, nothing) = read_back(&draft(&Facts::default()), "this-host");
    assert_eq!(nothing.host, "this-host");
}

#[test]
fn rules_can_be_for_the_programs_that_listen_and_never_the_shells() {
    let facts = Facts { by_program: true, ..sluice() };
    let text = draft(&facts);
    let program = |line: &&str| line.starts_with("program = ");
    let named: Vec<&str> = text.lines().filter(program).collect();
    assert!(!named.is_empty(), "{text}");
    assert!(named.iter().all(|it| !it.contains("sshd")), "{text}");
    let policy = read(&Source::new("draft.toml", &text)).expect("a policy");
    let rules = &policy.hosts[0].rules;
    assert_eq!(rules.iter().filter(|it| !it.programs.is_empty()).count(), named.len());
    let mut other = facts.clone();
    for listener in &mut other.listeners {
        listener.program = Some("/usr/bin/python3.11".into());
    }
    assert!(!draft(&other).contains("program = "), "it runs what others wrote");
}

#[test]
fn an_sctp_service_is_let_in_whoever_listens() {
    let mut facts = sluice();
    facts.listeners.push(Listener {
        protocol: PortProtocol::Sctp,
        address: "::".parse().expect("an address"),
        port: 3868,
        program: Some("/usr/sbin/catalogued".into()),
    });
    facts.contacts.push(Contact {
        protocol: PortProtocol::Sctp,
        port: 3868,
        peer: address("10.44.8.20"),
    });
    let text = draft(&facts);
    let (_, plan) = read_back(&text, "sluice");
    // The kernel cannot tell whose an SCTP packet is, so a rule that asked would never match.
    assert_eq!(
        verdict(&plan, address("10.44.8.20"), 3868, PortProtocol::Sctp),
        Verdict::Allow,
        "{text}"
    );
    assert_eq!(verdict(&plan, address("10.44.8.20"), 3868, PortProtocol::Udp), Verdict::Deny);
}
