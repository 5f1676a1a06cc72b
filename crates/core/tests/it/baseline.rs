//! The baseline, packet by packet: what must work on every host, and what must not.

use crate::given::{packet, plan, tcp, udp};
use tipstaff_core::plan::{HostPlan, Idle};
use tipstaff_core::policy::Verdict::{self, Allow, Deny};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::space::{ConnectionState, Direction, Packet, Transport};

const BARE: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
                    [host.sluice.default]\noutbound = \"deny\"\n";

const STRANGER: &str = "203.0.113.9";
const OWN: &str = "192.0.2.10";
const STRANGER_V6: &str = "2001:db8:bad::9";
const OWN_V6: &str = "2001:db8:2::10";

#[track_caller]
fn decides(plan: &HostPlan, packet: &Packet, verdict: Verdict, by: &str) {
    let decided = plan.evaluate(packet);
    assert_eq!((decided.verdict, decided.by.to_string().as_str()), (verdict, by), "{packet:?}");
}

fn outbound(packet: Packet) -> Packet {
    Packet { direction: Direction::Outbound, ..packet }
}

fn icmp(kind: u8) -> Transport {
    Transport::Icmp { kind }
}

#[test]
fn the_loopback_interface_is_free_and_its_addresses_come_from_nowhere_else() {
    let plan = plan(BARE, "sluice");
    let inside =
        Packet { in_interface: Some("lo".into()), ..packet("127.0.0.1", "127.0.0.1", tcp(5432)) };
    decides(&plan, &inside, Allow, "baseline/loopback");
    let own = Packet { in_interface: Some("lo".into()), ..packet(OWN, OWN, tcp(5432)) };
    decides(&plan, &own, Allow, "baseline/loopback");
    for (from, to) in [("127.0.0.1", OWN), (STRANGER, "127.0.0.53"), ("::1", OWN_V6)] {
        for interface in [None, Some("eth0".to_owned())] {
            let forged = Packet { in_interface: interface, ..packet(from, to, tcp(443)) };
            decides(&plan, &forged, Deny, "baseline/false-loopback");
        }
    }
    let out = outbound(packet("127.0.0.1", "127.0.0.1", tcp(5432)));
    let out = Packet { out_interface: Some("lo".into()), ..out };
    decides(&plan, &out, Allow, "baseline/loopback");
}

#[test]
fn replies_pass_in_every_direction_and_what_fits_nothing_does_not() {
    let plan = plan(BARE, "sluice");
    for direction in Direction::ALL {
        for state in [ConnectionState::Established, ConnectionState::Related] {
            let reply = Packet { direction, state, ..packet(STRANGER, OWN, tcp(40_000)) };
            decides(&plan, &reply, Allow, "baseline/replies");
        }
    }
    for direction in [Direction::Inbound, Direction::Forwarded] {
        let state = ConnectionState::Invalid;
        let stray = Packet { direction, state, ..packet(STRANGER, OWN, tcp(443)) };
        decides(&plan, &stray, Deny, "baseline/invalid");
    }
}

#[test]
fn neighbours_are_found_and_groups_joined() {
    let plan = plan(BARE, "sluice");
    for kind in 133..=136 {
        let found =
            Packet { state: ConnectionState::Untracked, ..packet("fe80::1", OWN_V6, icmp(kind)) };
        decides(&plan, &found, Allow, "baseline/neighbours");
        decides(&plan, &outbound(found), Allow, "baseline/neighbours");
    }
    // Redirects are not needed, and can do harm.
    decides(&plan, &packet("fe80::1", OWN_V6, icmp(137)), Deny, "default/inbound");
    for kind in [130, 131, 132, 143] {
        decides(&plan, &packet("fe80::1", "ff02::1", icmp(kind)), Allow, "baseline/neighbours");
        decides(&plan, &packet("::", "ff02::16", icmp(kind)), Allow, "baseline/neighbours");
        decides(&plan, &packet(STRANGER_V6, "ff02::1", icmp(kind)), Deny, "default/inbound");
    }
    // The same numbers mean something else in IPv4.
    decides(&plan, &packet(STRANGER, OWN, icmp(133)), Deny, "default/inbound");
    let igmp = Transport::Other { protocol: 2 };
    decides(&plan, &packet("192.0.2.1", "224.0.0.1", igmp), Allow, "baseline/neighbours");
    decides(&plan, &packet(STRANGER, OWN, igmp), Deny, "default/inbound");
}

#[test]
fn addresses_can_be_had_by_dhcp() {
    let plan = plan(BARE, "sluice");
    decides(&plan, &packet("192.0.2.1", OWN, udp(67, 68)), Allow, "baseline/dhcp");
    decides(&plan, &packet("fe80::1", "fe80::10", udp(547, 546)), Allow, "baseline/dhcp");
    for wrong in [
        packet("192.0.2.1", OWN, udp(68, 67)),
        packet("192.0.2.1", OWN, udp(50_000, 68)),
        packet("fe80::1", "fe80::10", udp(67, 68)),
        packet(STRANGER_V6, OWN_V6, udp(547, 546)),
        packet("192.0.2.1", OWN, udp(547, 546)),
    ] {
        decides(&plan, &wrong, Deny, "default/inbound");
    }
    let request = outbound(packet("0.0.0.0", "255.255.255.255", udp(68, 67)));
    decides(&plan, &request, Allow, "baseline/dhcp");
    let request = outbound(packet("fe80::10", "ff02::1:2", udp(546, 547)));
    decides(&plan, &request, Allow, "baseline/dhcp");
}

#[test]
fn pings_are_decided_by_their_key_even_in_the_middle_of_a_series() {
    let requests = [packet(STRANGER, OWN, icmp(8)), packet(STRANGER_V6, OWN_V6, icmp(128))];
    for (ping, verdict, limited) in
        [("allow", Allow, false), ("deny", Deny, false), ("5/second", Allow, true)]
    {
        let text = format!("{BARE}[host.sluice.baseline]\nping = \"{ping}\"\n");
        let plan = plan(&text, "sluice");
        for request in &requests {
            for state in [ConnectionState::New, ConnectionState::Established] {
                let request = Packet { state, ..request.clone() };
                decides(&plan, &request, verdict, "baseline/ping");
                assert_eq!(plan.evaluate(&request).limited, limited);
            }
        }
        // The other version's number is no echo request.
        decides(&plan, &packet(STRANGER_V6, OWN_V6, icmp(8)), Deny, "default/inbound");
    }
}

#[test]
fn some_packets_are_never_answered() {
    for (packet, answered) in [
        (packet(STRANGER, OWN, tcp(113)), true),
        (packet(STRANGER, OWN, icmp(8)), true),
        (packet(STRANGER, OWN, icmp(3)), false),
        (packet(STRANGER, OWN, icmp(128)), false),
        (packet(STRANGER_V6, OWN_V6, icmp(1)), false),
        (packet(STRANGER_V6, OWN_V6, icmp(128)), true),
        (packet(STRANGER, "224.0.0.251", udp(5353, 5353)), false),
        (packet(STRANGER, "255.255.255.255", udp(68, 67)), false),
        (packet("::", OWN_V6, tcp(443)), false),
    ] {
        assert_eq!(packet.may_be_answered(), answered, "{packet:?}");
    }
    // To the broadcast address of a network of the host's, as far as it is known.
    let known = BARE.replace(&format!("\"{OWN}\""), &format!("\"{OWN}/24\""));
    for (text, to, answered) in [
        (&*known, "192.0.2.255", false),
        (&known, "192.0.2.0", false),
        (&known, "192.0.2.254", true),
        (&known, "192.0.3.255", true),
        (BARE, "192.0.2.255", true),
        (&known.replace("/24", "/31"), "192.0.2.11", true),
    ] {
        let plan = plan(text, "sluice");
        assert_eq!(plan.may_answer(&packet(STRANGER, to, tcp(113))), answered, "{to} {text}");
    }
    let mut moving = plan("edition = 1\n[host.sluice]\n", "sluice");
    moving.at_the_moment(&[("10.44.8.30".parse().expect("an address"), 24)], &[]);
    assert!(!moving.may_answer(&packet(STRANGER, "10.44.8.255", tcp(113))));
    assert!(moving.may_answer(&packet(STRANGER, "10.44.8.30", tcp(113))));
}

#[test]
fn each_part_can_be_switched_off_and_is_still_shown() {
    use tipstaff_core::plan::Kind;
    let on = plan(BARE, "sluice");
    let parts = ["loopback", "false-loopback", "invalid", "replies", "neighbours", "dhcp"];
    for part in parts {
        let text = format!("{BARE}[host.sluice.baseline]\n{part} = false\n");
        let off = plan(&text, "sluice");
        for (direction, decision) in off.decisions().filter(|it| it.1.id.kind == Kind::Baseline) {
            assert_eq!(decision.idle.is_some(), decision.id.name == part, "{direction} {part}");
        }
        assert_eq!(off.decisions().count(), on.decisions().count());
    }
    let text = format!("{BARE}[host.sluice.baseline]\nreplies = false\n");
    let reply =
        Packet { state: ConnectionState::Established, ..packet(STRANGER, OWN, tcp(40_000)) };
    decides(&plan(&text, "sluice"), &reply, Deny, "default/inbound");
}

/// Nothing comes from them, and nothing goes to them: ahead of pings and of replies, in every direction.
#[test]
fn who_is_turned_away_meets_silence_ahead_of_everything() {
    let text = BARE.replace(
        "[host.sluice.default]",
        "turned-away = [\"203.0.113.0/24\", \"!203.0.113.7\", \"2001:db8:bad::9\"]\n\
         [host.sluice.default]",
    );
    let text = format!("{text}[[host.sluice.rule]]\nname = \"all\"\nallow = [\"any\"]\n");
    let plan = plan(&text, "sluice");
    let by = "baseline/turned-away";
    for (them, own, ping) in [(STRANGER, OWN, 8), (STRANGER_V6, OWN_V6, 128)] {
        for state in [ConnectionState::New, ConnectionState::Established, ConnectionState::Invalid]
        {
            let from = Packet { state, ..packet(them, own, tcp(443)) };
            decides(&plan, &from, Deny, by);
            decides(&plan, &Packet { state, ..packet(them, own, icmp(ping)) }, Deny, by);
            let to = Packet { state, ..outbound(packet(own, them, tcp(443))) };
            decides(&plan, &to, Deny, by);
            for (from, to) in [(them, own), (own, them)] {
                let direction = Direction::Forwarded;
                decides(
                    &plan,
                    &Packet { direction, state, ..packet(from, to, tcp(443)) },
                    Deny,
                    by,
                );
            }
        }
    }
    decides(&plan, &packet("203.0.113.7", OWN, tcp(443)), Allow, "all");
    // Programs of this host talk to each other all the same.
    let inside = Packet { in_interface: Some("lo".into()), ..packet(STRANGER, OWN, tcp(443)) };
    decides(&plan, &inside, Allow, "baseline/loopback");
    let nobody = plan_of(BARE);
    assert!(nobody.chain(Direction::Inbound).decisions.iter().all(|it| it.id.to_string() != by));
}

/// For a time, and with a reason: each until then, and no longer.
#[test]
fn whoever_is_turned_away_for_a_time() {
    let with = |list: &str| {
        let text = BARE.replace(
            "[host.sluice.default]",
            &format!("turned-away = [{list}]\n[host.sluice.default]"),
        );
        format!("{text}[[host.sluice.rule]]\nname = \"all\"\nallow = [\"any\"]\n")
    };
    let by = "baseline/turned-away";
    let list = "\"203.0.113.9 until 2099-01-01T00:00:00Z (knocks, at night)\", \
                \"203.0.113.8 until 2001-01-01T00:00:00Z\", \"203.0.113.7 (for good)\", \
                \"2001:db8:bad::9 until 2098-01-01T00:00:00+01:00\"";
    let some = plan(&with(list), "sluice");
    decides(&some, &packet(STRANGER, OWN, tcp(443)), Deny, by);
    decides(&some, &packet("203.0.113.8", OWN, tcp(443)), Allow, "all");
    decides(&some, &packet("203.0.113.7", OWN, tcp(443)), Deny, by);
    decides(&some, &packet(STRANGER_V6, OWN_V6, tcp(443)), Deny, by);
    let decision = &some.chain(Direction::Inbound).decisions[2];
    assert_eq!(decision.id.to_string(), by);
    let ends: Vec<_> =
        decision.conditions.iter().map(|it| it.until.map(|it| it.to_string())).collect();
    let written = |text: &str| Some(text.to_owned());
    assert_eq!(ends, [None, written("2099-01-01T00:00:00Z"), written("2097-12-31T23:00:00Z")]);
    // Once all are over, nobody is; what it says stays to be seen.
    let over = plan(&with("\"203.0.113.9 until 2001-01-01T00:00:00Z\""), "sluice");
    decides(&over, &packet(STRANGER, OWN, tcp(443)), Allow, "all");
    assert!(matches!(over.chain(Direction::Inbound).decisions[2].idle, Some(Idle::Ended(_))));
    for (list, code) in [
        ("\"203.0.113.9 until tomorrow\"", "bad-time"),
        ("\"203.0.113.9 until 2099-01-01T00:00:00\"", "bad-time"),
        ("\"!203.0.113.9 until 2099-01-01T00:00:00Z\"", "timed-exception"),
        ("\"nobody until 2099-01-01T00:00:00Z\"", "unknown-place"),
        ("\"203.0.113.9until 2099-01-01T00:00:00Z\"", "bad-address"),
    ] {
        let problems = read(&Source::new("policy.toml", &with(list))).expect_err(list);
        let codes: Vec<_> = problems.iter().map(|it| it.code).collect();
        assert_eq!(codes, [code], "{list}");
    }
}

/// How rules read, their narrower keys where they belong.
#[test]
fn rules_are_shown_with_all_that_narrows_them() {
    let rule = |name: &str, keys: &str| {
        format!("[[host.sluice.rule]]\nname = \"{name}\"\nallow = [\"443/tcp\"]\n{keys}\n")
    };
    let text = format!(
        "{BARE}{}{}{}",
        rule(
            "in",
            "ingress = [\"eth0\", \"eth1\"]\nsource-ports = [\"1024-65535\"]\nat = [\"192.0.2.10\"]"
        ),
        rule("out", "direction = \"outbound\"\negress = [\"eth0\"]\nprogram = \"/srv/tidegauge\""),
        rule("through", "direction = \"forwarded\"\ningress = [\"eth0\"]\negress = [\"eth1\"]"),
    );
    let plan = plan_of(&text);
    let written = |name: &str| {
        let decisions = plan.decisions().map(|it| it.1);
        let found =
            decisions.into_iter().find(|it| it.id.to_string() == name).expect("it is there");
        let written = &found.written;
        format!("{}|{}|{}", written.traffic, written.from, written.to)
    };
    assert_eq!(written("in"), "443/tcp from port 1024-65535 in by eth0 or eth1||at 192.0.2.10");
    assert_eq!(written("out"), "443/tcp out by eth0 of /srv/tidegauge||");
    assert_eq!(written("through"), "443/tcp in by eth0 out by eth1||");
}

fn plan_of(text: &str) -> HostPlan {
    plan(text, "sluice")
}

/// Each ping is the rules' own, also the second of a series, which connection tracking calls established;
/// answers to the host's own pings still come in.
#[test]
fn pings_can_be_left_to_the_rules() {
    let rules = "[host.sluice.baseline]\nping = \"by-rules\"\n\
                 [[host.sluice.rule]]\nname = \"stacks-ping\"\nallow = [\"icmp:echo-request\"]\n\
                 from = [\"10.44.8.0/24\", \"fd44:8::/64\"]\nrate = \"9/minute\"\n";
    let plan = plan_of(&format!("{BARE}{rules}"));
    for state in [ConnectionState::New, ConnectionState::Established] {
        for (from, to, kind) in [("10.44.8.20", OWN, 8), ("fd44:8::20", OWN_V6, 128)] {
            let ping = Packet { state, ..packet(from, to, icmp(kind)) };
            decides(&plan, &ping, Allow, "stacks-ping");
            assert!(plan.evaluate(&ping).limited);
        }
        for (from, to, kind) in [(STRANGER, OWN, 8), (STRANGER_V6, OWN_V6, 128)] {
            let ping = Packet { state, ..packet(from, to, icmp(kind)) };
            decides(&plan, &ping, Deny, "default/inbound");
        }
    }
    let state = ConnectionState::Established;
    decides(&plan, &Packet { state, ..packet(STRANGER, OWN, icmp(0)) }, Allow, "baseline/replies");
    decides(&plan, &Packet { state, ..packet(STRANGER, OWN, tcp(443)) }, Allow, "baseline/replies");
    // It still stands there, not in force, and says who decides.
    let chain = plan.chain(Direction::Inbound);
    let ping =
        chain.decisions.iter().find(|it| it.id.to_string() == "baseline/ping").expect("shown");
    assert!(
        ping.idle.is_some() && ping.why.as_ref().is_some_and(|it| it.contains("the rules decide"))
    );
}

/// What was looked at on the way: why each decision did not take the packet, up to the one that did.
#[test]
fn the_way_to_a_decision_is_told_step_by_step() {
    let rules = "[[host.sluice.rule]]\nname = \"off\"\nallow = [\"443/tcp\"]\npaused = true\n\
                 [[host.sluice.rule]]\nname = \"other\"\nallow = [\"80/tcp\"]\n\
                 [[host.sluice.rule]]\nname = \"stacks\"\nallow = [\"443/tcp\"]\nfrom = [\"10.44.8.0/24\"]\n\
                 [[host.sluice.rule]]\nname = \"all\"\nallow = [\"443/tcp\"]\n\
                 [[host.sluice.rule]]\nname = \"below\"\ndeny = [\"any\"]\n";
    let plan = plan_of(&format!("{BARE}{rules}"));
    let path = plan.explain(&packet(STRANGER, OWN, tcp(443)));
    let told: Vec<String> = path
        .iter()
        .map(|it| {
            let why = it.miss.map_or_else(|| "-".to_owned(), |miss| miss.to_string());
            format!("{}: {why}", it.decision.id)
        })
        .collect();
    assert_eq!(
        told,
        [
            "baseline/loopback: other interface",
            "baseline/false-loopback: other receiver",
            "baseline/invalid: other connection state",
            "baseline/ping: other traffic",
            "baseline/replies: other connection state",
            "baseline/neighbours: other traffic",
            "baseline/dhcp: other traffic",
            "off: -",
            "other: other traffic",
            "stacks: other sender",
            "all: -",
        ]
    );
}
