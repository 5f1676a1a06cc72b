//! Regions and findings against brute force: in a small world every kind of packet there is can be
//! looked at one by one.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::net::IpAddr;
use tipstaff_core::analysis::{
    self, Code, Subject, compare, explain, kinds, ordinary, review, share_of, shares,
};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{Act, Decision, HostPlan, Kind, resolve};
use tipstaff_core::policy::{Policy, Source, Verdict, read};
use tipstaff_core::space::{
    ConnectionState, Direction, Packet, Piece, PortProtocol, Relation, Transport,
};

/// How many policies are held against brute force, unless `TIPSTAFF_REVIEW_POLICIES` says.
const POLICIES: u64 = 2_000;

fn policies() -> u64 {
    match std::env::var("TIPSTAFF_REVIEW_POLICIES") {
        Ok(number) => number.parse().expect("a number"),
        Err(_) => POLICIES,
    }
}

// Rules compare fields with unions of these cells, so that one value of each speaks for it.
const SENDERS: [(&str, &str); 5] = [
    ("0.0.0.0-9.255.255.255", "9.1.1.1"),
    ("10.0.0.0/8", "10.44.8.20"),
    ("11.0.0.0-255.255.255.255", "198.51.100.7"),
    ("::-fcff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "2001:db8:51::7"),
    ("fd00::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "fd44:8::20"),
];
const RECEIVERS: [(&str, &str); 4] = [
    ("192.0.2.10", "192.0.2.10"),
    ("10.44.8.10", "10.44.8.10"),
    ("2001:db8:2::10", "2001:db8:2::10"),
    ("fd44:8::10", "fd44:8::10"),
];
/// Receivers that no rule names.
const ELSEWHERE: [&str; 2] = ["192.0.2.11", "2001:db8:2::11"];
const TRAFFIC: [(&str, Option<(u8, u16)>); 7] = [
    ("1-79/tcp", Some((6, 22))),
    ("80-442/tcp", Some((6, 80))),
    ("443-65535/tcp", Some((6, 443))),
    ("1-1000/udp", Some((17, 53))),
    ("1001-65535/udp", Some((17, 5353))),
    ("icmp:destination-unreachable", None),
    ("proto:47", Some((47, 0))),
];

/// A policy of some rules over the cells. Rules from one IP version to the other are refused by the
/// reader; policies with such are thrown away.
fn policy(dice: &mut Generator) -> String {
    loop {
        let text = draft(dice);
        if read(&Source::new("small.toml", &text)).is_ok() {
            return text;
        }
        assert!(text.contains("\nto = "), "only that is wrong: {text}");
    }
}

fn draft(dice: &mut Generator) -> String {
    let mut text = format!(
        "edition = 1\n[host.{HOST_NAME}]\n\
         addresses = [\"192.0.2.10\", \"10.44.8.10\", \"2001:db8:2::10\", \"fd44:8::10\"]\n\
         [host.{HOST_NAME}.baseline]\nping = \"allow\"\nloopback = false\nfalse-loopback = false\n\
         invalid = false\nreplies = {}\nneighbours = false\ndhcp = false\n\
         [host.{HOST_NAME}.default]\ninbound = \"{}\"\n",
        dice.one_in(2),
        ["allow", "deny", "reject"][dice.below(3)],
    );
    for number in 0..2 + dice.below(7) {
        let verdict = ["allow", "allow", "deny", "reject"][dice.below(4)];
        let _ = write!(text, "[[host.{HOST_NAME}.rule]]\nname = \"r{number}\"\n");
        let traffic = some(dice, &TRAFFIC.map(|it| it.0), 3);
        let _ = writeln!(text, "{verdict} = {traffic}");
        if !dice.one_in(3) {
            let _ = writeln!(text, "from = {}", some(dice, &SENDERS.map(|it| it.0), 3));
        }
        if dice.one_in(4) {
            let _ = writeln!(text, "to = {}", some(dice, &RECEIVERS.map(|it| it.0), 2));
        }
        if dice.one_in(6) {
            text.push_str("ingress = [\"eth0\"]\n");
        }
        if dice.one_in(8) {
            text.push_str("program = \"/usr/sbin/catalogued\"\n");
        }
        if dice.one_in(10) && ["tcp", "udp"].iter().any(|it| traffic.contains(it)) {
            text.push_str("source-ports = [\"1-1023\"]\n");
        }
        if dice.one_in(8) && ["tcp", "udp"].iter().any(|it| traffic.contains(it)) {
            let ports = ["8088/tcp+udp", "1-8000/tcp+udp"][dice.below(2)];
            let _ = writeln!(text, "published = [\"{ports}\"]");
        }
        if dice.one_in(10) && verdict == "allow" {
            text.push_str("rate = \"5/second per source\"\n");
        }
        if dice.one_in(12) {
            text.push_str("log = true\n");
        }
        if dice.one_in(12) {
            text.push_str("paused = true\n");
        }
    }
    text
}

fn some(dice: &mut Generator, from: &[&str], most: usize) -> String {
    let picked: BTreeSet<&str> =
        (0..=dice.below(most)).map(|_| from[dice.below(from.len())]).collect();
    let quoted: Vec<String> = picked.iter().map(|it| format!("\"{it}\"")).collect();
    if dice.one_in(12) && from.len() == TRAFFIC.len() {
        return "[\"any\"]".into();
    }
    format!("[{}]", quoted.join(", "))
}

/// One inbound packet of every kind that such policies can tell apart.
fn universe() -> Vec<Packet> {
    let address = |text: &str| text.parse::<IpAddr>().expect("an address");
    let mut packets = Vec::new();
    for (_, source) in SENDERS {
        for destination in RECEIVERS.map(|it| it.1).into_iter().chain(ELSEWHERE) {
            let (source, destination) = (address(source), address(destination));
            if source.is_ipv4() != destination.is_ipv4() {
                continue;
            }
            let mut transports = Vec::new();
            for (_, kind) in TRAFFIC {
                for from in [500, 50_000] {
                    let ports = |protocol, destination| Transport::Ports {
                        protocol,
                        source: from,
                        destination,
                    };
                    transports.push(match kind {
                        Some((6, port)) => ports(PortProtocol::Tcp, port),
                        Some((17, port)) => ports(PortProtocol::Udp, port),
                        Some((protocol, _)) => Transport::Other { protocol },
                        None => Transport::Icmp { kind: if source.is_ipv4() { 3 } else { 1 } },
                    });
                }
            }
            let echo = if source.is_ipv4() { 8 } else { 128 };
            transports.push(Transport::Icmp { kind: echo });
            transports.push(Transport::Icmp { kind: 200 });
            transports.push(Transport::Other { protocol: 253 });
            transports.dedup();
            for transport in transports {
                for interface in [None, Some("eth0")] {
                    for program in [None, Some("/usr/sbin/catalogued")] {
                        for state in [ConnectionState::New, ConnectionState::Established] {
                            let packet = Packet {
                                user: None,
                                direction: Direction::Inbound,
                                in_interface: interface.map(str::to_owned),
                                out_interface: None,
                                source,
                                destination,
                                transport,
                                state,
                                program: program.map(str::to_owned),
                                asked: None,
                                source_is: Relation::default(),
                                destination_is: Relation::default(),
                            };
                            let led =
                                [80, 8_088].map(|it| Packet { asked: Some(it), ..packet.clone() });
                            packets.extend(led.into_iter().filter(|it| it.ports().is_some()));
                            packets.push(packet);
                        }
                    }
                }
            }
        }
    }
    packets
}

pub fn given(text: &str) -> (Policy, HostPlan) {
    let policy = match read(&Source::new("small.toml", text)) {
        Ok(policy) => policy,
        Err(problems) => panic!("{text}\n{problems:?}"),
    };
    let plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    (policy, plan)
}

pub fn likely(direction: Direction) -> Packet {
    let mut packet = universe().remove(0);
    packet.direction = direction;
    packet
}

fn rules(plan: &HostPlan) -> impl Iterator<Item = (usize, &Decision)> {
    let decisions = plan.chain(Direction::Inbound).decisions.iter().enumerate();
    decisions.filter(|(_, it)| it.id.kind == Kind::Rule && it.idle.is_none())
}

/// What brute force says: for each finding about order its code, rule and the others.
fn by_force(plan: &HostPlan, universe: &[Packet]) -> BTreeSet<(Code, String, BTreeSet<String>)> {
    let decisions = &plan.chain(Direction::Inbound).decisions;
    let active: Vec<(usize, &Decision)> =
        decisions.iter().enumerate().filter(|it| it.1.idle.is_none()).collect();
    // For each packet all that match it, in order.
    let matching: Vec<Vec<usize>> = universe
        .iter()
        .map(|packet| {
            active.iter().filter(|it| it.1.miss(packet).is_none()).map(|it| it.0).collect()
        })
        .collect();
    let mut found = BTreeSet::new();
    for (at, rule) in rules(plan) {
        let name = || rule.id.to_string();
        let own = || matching.iter().filter(|list| list.contains(&at));
        let taken: Vec<&Vec<usize>> = own().filter(|list| list[0] == at).collect();
        let names = |list: BTreeSet<usize>| -> BTreeSet<String> {
            list.into_iter().map(|at| decisions[at].id.to_string()).collect()
        };
        if taken.is_empty() {
            let mut deciders: BTreeSet<usize> = own().map(|list| list[0]).collect();
            // The baseline always takes a little; it is named where nobody else is.
            let is_rule = |at: &usize| decisions[*at].id.kind == Kind::Rule;
            if deciders.iter().any(is_rule) {
                deciders.retain(is_rule);
            }
            found.insert((Code::Shadowed, name(), names(deciders)));
            continue;
        }
        let plain = matches!(rule.act, Act::Decide(_)) && rule.log.is_none();
        let heirs: BTreeSet<usize> = taken.iter().map(|list| list[1]).collect();
        let passes = |at: usize| decisions[at].act.verdict() == Verdict::Allow;
        let over: BTreeSet<usize> = own()
            .map(|list| list[0])
            .filter(|&other| other < at && decisions[other].id.kind == Kind::Rule)
            .filter(|&other| passes(other) != passes(at))
            // An exception lies wholly within the rule.
            .filter(|other| matching.iter().any(|it| it.contains(other) && !it.contains(&at)))
            .collect();
        if plain && heirs.iter().all(|&heir| decisions[heir].act == rule.act) {
            let default = heirs.iter().all(|&heir| decisions[heir].id.kind == Kind::Default);
            let code = if default { Code::SameAsDefault } else { Code::Redundant };
            // A denial that is overruled in part is to be moved, not called idle.
            if code == Code::Redundant || over.is_empty() || passes(at) {
                found.insert((code, name(), names(heirs)));
            }
        }
        if !over.is_empty() {
            found.insert((Code::Overlap, name(), names(over)));
        }
    }
    found
}

#[test]
fn findings_about_order_are_those_of_brute_force() {
    let universe = universe();
    let (mut dice, mut kinds) = (Generator::new(7), std::collections::BTreeMap::new());
    for _ in 0..policies() {
        let text = policy(&mut dice);
        let (policy, plan) = given(&text);
        let expected = by_force(&plan, &universe);
        let all = review(&policy, &plan, NOW, &likely);
        let mut found = BTreeSet::new();
        for finding in all {
            let Subject::Rule(id) = &finding.subject else { continue };
            if finding.code == Code::WideRuleAbove {
                // Said of the one above instead of each below.
                let narrow = finding.others.iter().map(ToString::to_string);
                let wide = BTreeSet::from([id.to_string()]);
                found.extend(narrow.map(|it| (Code::Shadowed, it, wide.clone())));
                continue;
            }
            let about_order = matches!(
                finding.code,
                Code::Shadowed | Code::Redundant | Code::SameAsDefault | Code::Overlap
            );
            if !about_order {
                continue;
            }
            *kinds.entry(finding.code).or_insert(0) += 1;
            let witness = finding.witness.expect("a witness");
            let decider = plan.decision(&witness);
            match finding.code {
                Code::Redundant | Code::SameAsDefault => assert_eq!(decider.id, *id, "{text}"),
                Code::Shadowed if decider.id.kind == Kind::Baseline => {}
                _ => assert!(finding.others.contains(&decider.id), "{text}\n{witness:?}"),
            }
            let others = finding.others.iter().map(ToString::to_string).collect();
            found.insert((finding.code, id.to_string(), others));
        }
        assert_eq!(found, expected, "{text}");
    }
    for code in [Code::Shadowed, Code::Redundant, Code::SameAsDefault, Code::Overlap] {
        assert!(kinds.get(&code).is_some_and(|&count| count > 20), "{kinds:?}");
    }
}

pub fn holds(pieces: &[Piece], packet: &Packet) -> bool {
    let holding = pieces.iter().filter(|piece| piece.contains(packet)).count();
    assert!(holding <= 1, "pieces are disjoint");
    holding == 1
}

#[test]
fn regions_are_those_of_brute_force() {
    let universe = universe();
    let mut dice = Generator::new(8);
    let mut last: Option<HostPlan> = None;
    for _ in 0..policies() / 4 {
        let text = policy(&mut dice);
        let (_, plan) = given(&text);
        let direction = Direction::Inbound;
        let parts = shares(&plan, direction, vec![Piece::full()]).expect("few parts");
        for packet in &universe {
            let by = &plan.decision(packet).id;
            for share in &parts {
                assert_eq!(holds(&share.pieces, packet), share.decision.id == *by, "{text}");
            }
        }
        let ordinary = ordinary(&plan, direction);
        for (_, rule) in rules(&plan) {
            let own = share_of(&plan, direction, &rule.id, &ordinary).expect("few parts");
            for packet in &universe {
                let wanted = ordinary.contains(packet) && plan.decision(packet).id == rule.id;
                assert_eq!(holds(&own, packet), wanted, "{} of\n{text}", rule.id);
            }
        }
        let mut atlas = Atlas::new();
        let meaning = atlas.plan(&plan);
        let allowed = atlas.region(&meaning, direction, Verdict::Allow);
        let pieces = atlas.pieces(&allowed, 10_000).expect("few parts");
        for packet in &universe {
            let allows = plan.evaluate(packet).verdict == Verdict::Allow;
            assert_eq!(holds(&pieces, packet), allows, "{text}\n{packet:?}");
        }
        if let Some(other) = last.replace(plan.clone()) {
            same_differences(&other, &plan, &universe, &text);
        }
    }
}

fn same_differences(before: &HostPlan, after: &HostPlan, universe: &[Packet], text: &str) {
    let changes = compare(before, after, likely).changes;
    for packet in universe {
        let (first, second) = (before.decision(packet), after.decision(packet));
        let rest = [first, second].iter().all(|it| it.id.kind == Kind::Default);
        let told: Vec<&analysis::Change> = changes
            .iter()
            .filter(|it| it.direction == packet.direction)
            .filter(|it| holds(&it.pieces, packet) || it.rest && rest)
            .collect();
        if first.act == second.act {
            assert!(told.is_empty(), "{text}\n{packet:?}\n{told:?}");
        } else {
            assert_eq!(told.len(), 1, "{text}\n{packet:?}\n{first:?}\n{second:?}");
            assert_eq!((&told[0].before.by, &told[0].after.by), (&first.id, &second.id));
        }
    }
    for change in &changes {
        let witness = change.witness.as_ref().expect("a witness");
        assert_eq!(before.decision(witness).id, change.before.by, "{text}");
        assert_eq!(after.decision(witness).id, change.after.by, "{text}");
    }
}

/// The example with which the terms were introduced (Al-Shaer and Hamed, 2004, table 1), in the
/// addresses of our world: eleven rules with every anomaly in them.
#[test]
fn the_textbook_example_is_found_out() {
    let net = "from = [\"198.51.100.0/27\"]\n";
    let host = "to = [\"10.44.8.20\"]\n";
    let rules: [(&str, &str, String); 11] = [
        ("deny", "80/tcp", "from = [\"198.51.100.20\"]\n".into()),
        ("allow", "80/tcp", net.into()),
        ("allow", "80/tcp", host.into()),
        ("deny", "80/tcp", format!("{net}{host}")),
        ("deny", "21/tcp", "from = [\"198.51.100.30\"]\n".into()),
        ("allow", "21/tcp", net.into()),
        ("allow", "21/tcp", format!("{net}{host}")),
        ("deny", "0-65535/tcp", String::new()),
        ("allow", "53/udp", format!("{net}{host}")),
        ("allow", "53/udp", host.into()),
        ("deny", "0-65535/udp", String::new()),
    ];
    let mut text = format!("edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\"]\n");
    for (number, (verdict, traffic, ends)) in rules.iter().enumerate() {
        let traffic = traffic.replace("0-65535", "1-65535");
        let _ = write!(
            text,
            "[[host.{HOST_NAME}.rule]]\nname = \"r{}\"\ndirection = \"forwarded\"\n\
             {verdict} = [\"{traffic}\"]\n{ends}",
            number + 1
        );
    }
    let (policy, plan) = given(&text);
    let found: BTreeSet<(String, String, String)> = review(&policy, &plan, NOW, &likely)
        .into_iter()
        .map(|finding| {
            let Subject::Rule(id) = &finding.subject else { panic!("{finding:?}") };
            let others = finding.others.iter().filter(|it| it.kind == Kind::Rule);
            let others: Vec<String> = others.map(ToString::to_string).collect();
            (id.to_string(), finding.code.as_str().to_owned(), others.join(" "))
        })
        .collect();
    let expected = [
        // Correlation: each matches packets that the other does not.
        ("r3", "overlap", "r1"),
        // Shadowing, by two rules together.
        ("r4", "shadowed", "r1 r2"),
        // What the paper calls redundant to r6 never gets a packet at all.
        ("r7", "shadowed", "r5 r6"),
        ("r8", "same-as-default", ""),
        ("r9", "redundant", "r10"),
        ("r11", "same-as-default", ""),
        // Generalisation (r1 and r2, r5 and r6, and all above r8 and r11) is no mistake.
    ];
    let expected = expected.map(|(a, b, c)| (a.to_owned(), b.to_owned(), c.to_owned()));
    assert_eq!(found, BTreeSet::from(expected));
}

#[test]
fn every_kind_of_finding_is_found_somewhere_and_explained_once() {
    for &code in Code::ALL {
        let kinds: Vec<_> = kinds().filter(|it| it.0.code == code).collect();
        assert_eq!(kinds.len(), 1, "{} is in the table once", code.as_str());
        let (kind, scopes) = &kinds[0];
        assert!(kind.meaning.len() > 80, "{} is explained", code.as_str());
        assert_eq!(kind.meaning, explain(code));
        assert!(!scopes.is_empty(), "something looks for {}", code.as_str());
    }
    assert_eq!(kinds().count(), Code::ALL.len());
}
