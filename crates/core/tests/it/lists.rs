//! Access control lists: out and in again they mean the same, or less passes.

use crate::given::{packet, tcp};
use std::fmt::Write;
use tipstaff_core::acl::{Document, Exported, Taken, export, taken};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, Verdict, read};
use tipstaff_core::space::Direction;

/// How many policies go out and in again, and 1,000 if `TIPSTAFF_LONG` is set.
fn policies() -> u64 {
    if std::env::var_os("TIPSTAFF_LONG").is_some() { 1_000 } else { 60 }
}

/// Lists know no connections: nothing of that is compared.
const NO_BASELINE: &str = "ping = \"by-rules\"\nloopback = false\nfalse-loopback = false\n\
                           invalid = false\nreplies = false\nneighbours = false\ndhcp = false\n";

fn plan(text: &str) -> HostPlan {
    let policy = read(&Source::new("policy.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    resolve(&policy, HOST_NAME, NOW).expect("the host is there")
}

const TRAFFIC: [&str; 12] = [
    "80/tcp",
    "443/tcp+udp",
    "1024-65535/udp",
    "1-79/tcp",
    "icmp",
    "icmp:echo-request",
    "icmp:neighbour-solicitation",
    "proto:47",
    "proto:6",
    "igmp",
    "any",
    "proto:132",
];
const ENDS: [&str; 8] = [
    "198.51.100.0/27",
    "198.51.100.7",
    "10.44.8.17-10.44.9.3",
    "203.0.113.0/24",
    "2001:db8:51::/64",
    "fd44:8::20",
    "2001:db8:bad::10-2001:db8:bad:1::7",
    "fd44:8::/64",
];

/// A policy of some rules, all of which lists can say unless `lossy`.
fn policy(dice: &mut Generator, lossy: bool) -> String {
    let mut text = format!(
        "edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
         [host.{HOST_NAME}.baseline]\n{NO_BASELINE}[host.{HOST_NAME}.default]\n"
    );
    for direction in Direction::ALL {
        let verdict = ["allow", "deny", "reject"][dice.below(3)];
        let _ = writeln!(text, "{direction} = \"{verdict}\"");
    }
    let some = |dice: &mut Generator, all: &[&str], most: usize| {
        let picked: Vec<String> =
            (0..=dice.below(most)).map(|_| format!("\"{}\"", all[dice.below(all.len())])).collect();
        format!("[{}]", picked.join(", "))
    };
    for number in 0..1 + dice.below(8) {
        let verdict = ["allow", "allow", "deny", "reject"][dice.below(4)];
        let direction = Direction::ALL[dice.below(3)];
        let mut traffic = some(dice, &TRAFFIC, 3);
        let everything_but = dice.one_in(20);
        if everything_but {
            traffic = "[\"any\", \"!22/tcp\", \"!icmp:redirect\"]".into();
        }
        let _ = writeln!(
            text,
            "[[host.{HOST_NAME}.rule]]\nname = \"r{number}\"\ndirection = \"{direction}\"\n\
             {verdict} = {traffic}"
        );
        let version = dice.below(3);
        let of = |dice: &mut Generator| match version {
            0 => some(dice, &ENDS[..4], 3),
            1 => some(dice, &ENDS[4..], 3),
            _ => format!("[\"{}\", \"{}\"]", ENDS[dice.below(4)], ENDS[4 + dice.below(4)]),
        };
        if !everything_but && dice.one_in(2) {
            let _ = writeln!(text, "from = {}", of(dice));
        }
        if !everything_but && dice.one_in(3) {
            let _ = writeln!(text, "to = {}", of(dice));
        }
        let has_ports = traffic.contains("tcp") && !traffic.contains('!');
        if dice.one_in(5) && has_ports && !["132", "any"].iter().any(|it| traffic.contains(it)) {
            text.push_str("source-ports = [\"1024-32767\", \"50000\"]\n");
        }
        if dice.one_in(6) {
            let key = if direction == Direction::Outbound { "egress" } else { "ingress" };
            let _ = writeln!(text, "{key} = [\"eth{}\"]", dice.below(2));
        }
        if dice.one_in(8) {
            text.push_str("log = true\n");
        }
        if lossy && verdict == "allow" && dice.one_in(3) {
            text.push_str("rate = \"5/second\"\n");
        }
        if lossy && direction == Direction::Inbound && dice.one_in(4) {
            text.push_str("program = \"/usr/sbin/catalogued\"\n");
        }
        if lossy && direction != Direction::Outbound && traffic.contains("tcp") && dice.one_in(4) {
            text.push_str("published = [\"8088/tcp\"]\n");
        }
        if lossy && dice.one_in(6) {
            let key = if direction == Direction::Outbound { "egress" } else { "ingress" };
            if !text.rsplit("[[host").next().unwrap_or_default().contains("gress = ") {
                let _ = writeln!(text, "{key} = [\"!eth1\"]");
            }
        }
    }
    text
}

/// Out, as text, and in again, without the baseline.
fn out_and_in(plan: &HostPlan) -> (Exported, Taken, String) {
    let exported = export(plan).expect("few entries");
    let text = serde_json::to_string_pretty(&exported.document).expect("it has a form");
    let document: Document = serde_json::from_str(&text).expect("it reads");
    let found = taken(&document, HOST_NAME, Direction::Inbound).expect("one of each");
    let policy = format!("{}\n[host.{HOST_NAME}.baseline]\n{NO_BASELINE}", found.policy);
    (exported, found, policy)
}

#[test]
fn what_lists_can_say_means_the_same_out_and_in_again() {
    let (mut rules, mut entries) = (0, 0);
    for seed in 0..policies() {
        let mut dice = Generator::new(seed);
        let text = policy(&mut dice, false);
        let before = plan(&text);
        let (exported, found, policy) = out_and_in(&before);
        assert_eq!((&exported.losses, &found.not_taken), (&vec![], &vec![]), "seed {seed}\n{text}");
        assert_eq!(found.open_ended, Vec::<String>::new(), "seed {seed}\n{text}\n{policy}");
        assert_eq!(found.entries, exported.entries, "seed {seed}");
        let after = plan(&policy);
        let mut atlas = Atlas::new();
        let [one, other] = [&before, &after].map(|it| atlas.plan(it));
        for direction in Direction::ALL {
            for verdict in Verdict::ALL {
                let regions = [one, other].map(|it| atlas.region(&it, direction, verdict));
                assert_eq!(
                    regions[0], regions[1],
                    "seed {seed}, {direction} {verdict:?}\n{text}\n{policy}"
                );
            }
        }
        rules += after.decisions().count();
        entries += exported.entries;
    }
    println!("{entries} entries of {} policies became {rules} decisions", policies());
    assert!(rules * 4 < entries, "{entries} entries became {rules} decisions");
}

#[test]
fn what_lists_cannot_say_lets_nothing_more_pass() {
    let (mut lost, mut left_out) = (0, 0);
    for seed in 0..policies() {
        let mut dice = Generator::new(seed);
        let text = policy(&mut dice, true);
        let before = plan(&text);
        let (exported, found, policy) = out_and_in(&before);
        assert_eq!(found.not_taken, [], "seed {seed}");
        lost += exported.losses.len();
        left_out += exported.losses.iter().filter(|it| it.left_out).count();
        let after = plan(&policy);
        for _ in 0..200 {
            let of = if dice.one_in(2) { &before } else { &after };
            let packet = dice.packet_for(of);
            let packet = dice.led(packet, &before);
            let [was, is] = [&before, &after].map(|it| it.evaluate(&packet).verdict);
            assert!(
                is != Verdict::Allow || was == Verdict::Allow,
                "seed {seed}: {packet:?}\n{text}\n{policy}"
            );
        }
    }
    let enough = usize::try_from(policies()).expect("small");
    assert!(
        lost > enough && left_out * 2 > enough && lost > left_out + enough / 10,
        "{lost}, {left_out}"
    );
}

/// The examples of RFC 8519, section 4.3 and 4.4, with our addresses; and what no policy says.
#[test]
fn lists_of_others_are_read_or_named() {
    let entry = |name: &str, matches: &str, actions: &str| {
        format!("{{\"name\": \"{name}\", \"matches\": {{{matches}}}, \"actions\": {{{actions}}}}}")
    };
    let accept = "\"forwarding\": \"ietf-access-control-list:accept\"";
    let drop = "\"forwarding\": \"drop\", \"logging\": \"log-syslog\"";
    let ip = "\"ipv4\": {\"protocol\": 6, \"destination-ipv4-network\": \"10.44.8.0/24\", \
              \"source-ipv4-network\": \"198.51.100.0/24\"}";
    let port = |words: &str| format!("\"tcp\": {{\"destination-port\": {{{words}}}}}");
    let entries = [
        entry("Rule 1", &format!("{ip}, {}", port("\"operator\": \"eq\", \"port\": 21")), drop),
        entry("range", &port("\"lower-port\": 16384, \"upper-port\": 65535"), accept),
        entry("one", &port("\"lower-port\": 21"), accept),
        entry("not", &port("\"operator\": \"neq\", \"port\": 80"), accept),
        entry("below", &port("\"operator\": \"lte\", \"port\": 80"), drop),
        entry("ping", "\"icmp\": {\"type\": 8}", accept),
        entry("odd ping", "\"icmp\": {\"type\": 8, \"code\": 1}", accept),
        entry("no name", "\"icmp\": {\"type\": 77}", accept),
        entry("marked", "\"ipv4\": {\"dscp\": 10, \"ttl\": 3}", accept),
        entry("flags", "\"tcp\": {\"flags\": \"syn\"}", accept),
        entry("frames", "\"eth\": {\"ethertype\": \"0x88e5\"}", drop),
        entry("both", "\"ipv4\": {}, \"ipv6\": {}", drop),
        entry("other", "\"ipv6\": {\"protocol\": 6}", drop),
        entry("wrong", "\"ipv4\": {\"protocol\": 17}, \"tcp\": {}", drop),
        entry("empty", &port("\"lower-port\": 9, \"upper-port\": 8"), drop),
        entry("nets", "\"ipv4\": {\"source-ipv4-network\": \"198.51.100.7/33\"}", drop),
        entry("act", "", "\"forwarding\": \"mirror\""),
    ];
    let text = format!(
        "{{\"ietf-access-control-list:acls\": {{\"acl\": [{{\"name\": \"sample\", \
         \"type\": \"ipv4-acl-type\", \"aces\": {{\"ace\": [{}]}}}}]}}}}",
        entries.join(", ")
    );
    let document: Document = serde_json::from_str(&text).expect("it reads");
    let found = taken(&document, "sluice", Direction::Forwarded).expect("one list");
    insta::assert_snapshot!(found.policy);
    assert_eq!((found.entries, found.open_ended), (6, vec!["sample".to_owned()]));
    let not: Vec<String> =
        found.not_taken.iter().map(|it| format!("{}: {}", it.entry, it.why)).collect();
    insta::assert_snapshot!(not.join("\n"));
    let policy = read(&Source::new("policy.toml", &found.policy)).expect("a policy");
    let plan = resolve(&policy, "sluice", NOW).expect("the host");
    let mut packet = packet("198.51.100.7", "10.44.8.20", tcp(21));
    packet.direction = Direction::Forwarded;
    assert_eq!(plan.evaluate(&packet).by.to_string(), "rule-1");
}

/// What would be refused as a policy, counted twice or taken for what it is not.
#[test]
fn lists_that_do_not_fit_together_are_not_put_together() {
    let read = |lists: &str, more: &str| -> Document {
        let text = format!("{{\"acls\": {{{more}\"acl\": [{lists}]}}}}");
        serde_json::from_str(&text).unwrap_or_else(|error| panic!("{error}: {text}"))
    };
    let list = |name: &str, kind: &str, matches: &str| {
        format!(
            "{{\"name\": \"{name}\", {kind}\"aces\": {{\"ace\": [{{\"name\": \"x\", \"matches\": {{{matches}}}, \
             \"actions\": {{\"forwarding\": \"drop\"}}, \"statistics\": {{\"matched-packets\": \"7\"}}}}]}}}}"
        )
    };
    // Which of two holds where is not known.
    let v4 = "\"type\": \"ipv4-acl-type\", ";
    let two = read(&[list("a", v4, ""), list("b", v4, "")].join(", "), "");
    let several = taken(&two, "sluice", Direction::Inbound).expect_err("two for the same packets");
    assert_eq!(several.lists, ["a", "b"]);
    // One for both versions, of a kind of ICMP that neither has a name for, is one entry that is not taken.
    let one = read(&list("a", "", "\"icmp\": {\"type\": 77}"), "");
    let found = taken(&one, "sluice", Direction::Inbound).expect("one");
    assert_eq!((found.entries, found.not_taken.len()), (0, 1));
    // Interfaces that such packets do not have; and to what lists are attached.
    let by = list("a", v4, "\"egress-interface\": \"eth0\"");
    let found = taken(&read(&by, "\"attachment-points\": {}, "), "sluice", Direction::Inbound);
    let found = found.expect("one");
    let not: Vec<&str> = found.not_taken.iter().map(|it| it.entry.as_str()).collect();
    assert_eq!((found.entries, not), (0, vec!["attachment-points", "x"]));
    let out = taken(&read(&by, ""), "sluice", Direction::Outbound).expect("one");
    assert_eq!((out.entries, out.not_taken), (1, vec![]));
}
