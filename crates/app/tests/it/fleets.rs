//! What a bundle changes for whom, against brute force: in a small world every kind of packet there is can be looked at.

use crate::given;
use std::collections::BTreeSet;
use std::fmt::Write;
use std::net::IpAddr;
use tipstaff_app::fleet::{Side, compare};
use tipstaff_core::generate::{Generator, NOW};
use tipstaff_core::plan::{Act, HostPlan, resolve};
use tipstaff_core::policy::{Policy, Verdict};
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};

// Rules compare fields with unions of these cells, so that one value of each speaks for it.
const SENDERS: [(&str, &str); 4] = [
    ("0.0.0.0-9.255.255.255", "9.1.1.1"),
    ("10.0.0.0-255.255.255.255", "10.44.8.20"),
    ("::-fcff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "2001:db8:51::7"),
    ("fd00::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "fd44:8::20"),
];
const TRAFFIC: [(&str, Option<(PortProtocol, u16)>); 5] = [
    ("1-79/tcp", Some((PortProtocol::Tcp, 22))),
    ("80-65535/tcp", Some((PortProtocol::Tcp, 443))),
    ("1-1000/udp", Some((PortProtocol::Udp, 53))),
    ("1001-65535/udp", Some((PortProtocol::Udp, 5353))),
    ("proto:47", None),
];
const NAMES: [&str; 4] = ["shelf-1", "shelf-2", "shelf-3", "shelf-4"];
const LABELS: [&str; 2] = ["store", "desk"];

#[derive(Clone)]
struct Rule {
    name: String,
    words: String,
}

/// A section with rules: of a host, or of a label.
#[derive(Clone)]
struct Section {
    name: &'static str,
    labels: Vec<&'static str>,
    rules: Vec<Rule>,
    denies: bool,
}

#[derive(Clone)]
struct Fleet {
    labels: Vec<Section>,
    hosts: Vec<Section>,
}

fn some(dice: &mut Generator, from: &[&str]) -> String {
    let picked: BTreeSet<&str> =
        (0..=dice.below(3)).map(|_| from[dice.below(from.len())]).collect();
    let quoted: Vec<String> = picked.iter().map(|it| format!("\"{it}\"")).collect();
    format!("[{}]", quoted.join(", "))
}

fn rule(dice: &mut Generator, name: String) -> Rule {
    let verdict = ["allow", "allow", "deny", "reject"][dice.below(4)];
    let mut words = format!("{verdict} = {}\n", some(dice, &TRAFFIC.map(|it| it.0)));
    if !dice.one_in(3) {
        let _ = writeln!(words, "from = {}", some(dice, &SENDERS.map(|it| it.0)));
    }
    if verdict == "allow" && dice.one_in(6) {
        words.push_str("rate = \"5/second per source\"\n");
    }
    Rule { name, words }
}

fn section(dice: &mut Generator, name: &'static str, most: usize) -> Section {
    let labels = LABELS.into_iter().filter(|_| dice.one_in(2)).collect();
    let rules =
        (0..dice.below(most)).map(|number| rule(dice, format!("{name}-{number}"))).collect();
    Section { name, labels, rules, denies: dice.one_in(2) }
}

fn fleet(dice: &mut Generator) -> Fleet {
    let labels = LABELS.map(|it| section(dice, it, 3)).into();
    let mut hosts: Vec<Section> = Vec::new();
    for name in NAMES.into_iter().take(2 + dice.below(3)) {
        let host = match hosts.first() {
            // Fleets have hosts that are alike.
            Some(first) if dice.one_in(2) => Section { name, ..first.clone() },
            _ => section(dice, name, 4),
        };
        hosts.push(host);
    }
    Fleet { labels, hosts }
}

/// Changes something, or only what means nothing.
fn edit(dice: &mut Generator, fleet: &mut Fleet) {
    let of_labels = dice.one_in(2);
    let sections = if of_labels { &mut fleet.labels } else { &mut fleet.hosts };
    let at = dice.below(sections.len());
    if !of_labels && sections.len() > 1 && dice.one_in(6) {
        sections.remove(at);
        return;
    }
    let (section, number) = (&mut sections[at], dice.number());
    match dice.below(5) {
        0 if !section.rules.is_empty() => {
            let which = dice.below(section.rules.len());
            section.rules.remove(which);
        }
        1 if section.rules.len() > 1 => section.rules.swap(0, 1),
        2 if !section.rules.is_empty() => section.rules[0].name = format!("renamed-{number}"),
        3 => section.denies = !section.denies,
        _ => section.rules.insert(0, rule(dice, format!("new-{number}"))),
    }
}

fn text(fleet: &Fleet) -> String {
    let mut text = String::from("edition = 1\n");
    let rules = |text: &mut String, kind: &str, of: &Section| {
        for it in &of.rules {
            let head = format!("[[{kind}.{}.rule]]\nname = \"{}\"", of.name, it.name);
            let _ = writeln!(text, "{head}\n{}accept = {{ overlap = \"made up\" }}", it.words);
        }
    };
    for label in &fleet.labels {
        let _ = writeln!(text, "[label.{}]", label.name);
        rules(&mut text, "label", label);
    }
    for host in &fleet.hosts {
        let at = host.name.strip_prefix("shelf-").expect("named so");
        let inbound = if host.denies { "deny" } else { "allow" };
        let labels = match &host.labels[..] {
            [] => String::new(),
            labels => format!("labels = {labels:?}\n"),
        };
        let _ = write!(
            text,
            "[host.{}]\naddresses = [\"192.0.2.{at}\", \"fd44:9::{at}\"]\n{labels}\
             [host.{}.default]\ninbound = \"{inbound}\"\n\
             [host.{}.baseline]\nping = \"by-rules\"\nloopback = false\nfalse-loopback = false\n\
             invalid = false\nreplies = false\nneighbours = false\ndhcp = false\n",
            host.name, host.name, host.name
        );
        rules(&mut text, "host", host);
    }
    text
}

/// One inbound packet of every kind that such policies can tell apart.
fn universe(plan: &HostPlan) -> Vec<Packet> {
    let mut packets = Vec::new();
    for (_, source) in SENDERS {
        let source: IpAddr = source.parse().expect("an address");
        let own = plan.addresses.iter().copied();
        for destination in own.filter(|it| it.is_ipv4() == source.is_ipv4()) {
            let ported = TRAFFIC.iter().filter_map(|it| it.1).map(|(protocol, destination)| {
                Transport::Ports { protocol, source: 50_000, destination }
            });
            let others = [47, 253].map(|protocol| Transport::Other { protocol });
            for transport in ported.chain(others).chain([Transport::Icmp { kind: 200 }]) {
                for state in [ConnectionState::New, ConnectionState::Established] {
                    packets.push(Packet {
                        user: None,
                        direction: Direction::Inbound,
                        in_interface: Some("eth0".into()),
                        out_interface: None,
                        source,
                        destination,
                        transport,
                        state,
                        program: None,
                        asked: None,
                        source_is: Relation::default(),
                        destination_is: Relation::default(),
                    });
                }
            }
        }
    }
    packets
}

/// In what way a packet fares differently.
fn kind(before: Act, after: Act) -> &'static str {
    match (before.verdict(), after.verdict()) {
        (Verdict::Allow, Verdict::Allow) if matches!(after, Act::AllowWithin(_)) => "limits",
        (Verdict::Allow, Verdict::Allow) => "unlimits",
        (Verdict::Allow, _) => "closes",
        (_, Verdict::Allow) => "opens",
        (_, Verdict::Reject) => "answers",
        (_, Verdict::Deny) => "silences",
    }
}

/// What each packet says: of which kinds the changes are, and who decided before and after.
fn by_force(before: &HostPlan, after: &HostPlan) -> BTreeSet<(String, String, String)> {
    let mut found = BTreeSet::new();
    for packet in universe(after) {
        let (old, new) = (before.decision(&packet), after.decision(&packet));
        if old.act != new.act {
            found.insert((kind(old.act, new.act).into(), old.id.to_string(), new.id.to_string()));
        }
    }
    found
}

#[test]
fn what_changes_for_whom_is_what_every_packet_says() {
    let (mut same, mut changed, mut together, mut gone) = (0, 0, 0, 0);
    for seed in 0..1_000 {
        let mut dice = Generator::new(seed);
        let old = fleet(&mut dice);
        let mut new = old.clone();
        for _ in 0..=dice.below(2) {
            edit(&mut dice, &mut new);
        }
        let texts = [text(&old), text(&new)];
        let [first, second]: [Policy; 2] = texts.each_ref().map(|it| given::read_policy(it));
        let plan = |policy: &Policy, host: &str| resolve(policy, host, NOW).expect("the host");
        let side = |policy: &Policy| Side { name: "policy.toml".into(), policy: policy.clone() };
        let found = compare(&side(&first), &side(&second), true);
        let found = serde_json::to_value(&found).expect("JSON");
        let names = |value: &serde_json::Value| -> Vec<String> {
            serde_json::from_value(value.clone()).expect("names")
        };
        let is_in = |fleet: &Fleet, host: &str| fleet.hosts.iter().any(|it| it.name == host);
        let told = format!("seed {seed}:\n{}\n----\n{}\n{found:#}", texts[0], texts[1]);
        let (came, went) = (names(&found["came"]), names(&found["went"]));
        assert!(came.is_empty(), "{told}");
        assert!(went.iter().all(|it| is_in(&old, it) && !is_in(&new, it)), "{told}");
        assert_eq!(went.len(), old.hosts.len() - new.hosts.len(), "{told}");
        gone += went.len();
        let mut seen = 0;
        for host in names(&found["same"]) {
            assert_eq!(
                by_force(&plan(&first, &host), &plan(&second, &host)),
                BTreeSet::new(),
                "{host}: {told}"
            );
            (seen, same) = (seen + 1, same + 1);
        }
        for alike in found["changed"].as_array().expect("a list") {
            let text = |of: &serde_json::Value| of.as_str().expect("text").to_owned();
            let changes = alike["changes"].as_array().expect("a list").iter();
            let said: BTreeSet<_> = changes
                .map(|it| {
                    let by = |side: &str| text(&it[side]["by"]["name"]);
                    (text(&it["kind"]), by("before"), by("after"))
                })
                .collect();
            let hosts = names(&alike["hosts"]);
            together += usize::from(hosts.len() > 1);
            for host in hosts {
                let forced = by_force(&plan(&first, &host), &plan(&second, &host));
                assert_eq!(said, forced, "{host}: {told}");
                (seen, changed) = (seen + 1, changed + 1);
            }
        }
        assert_eq!(seen, new.hosts.len(), "{told}");
        assert_eq!(found["equal"], changed_nothing(&found), "{told}");
    }
    let counts = [same, changed, together, gone];
    assert!(counts.iter().all(|&it| it > 50), "{counts:?}");
}

fn changed_nothing(found: &serde_json::Value) -> bool {
    ["came", "went", "changed"].iter().all(|it| found[it].as_array().is_some_and(Vec::is_empty))
}
