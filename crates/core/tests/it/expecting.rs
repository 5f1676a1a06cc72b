//! Expectations about what address translation led here.

use crate::given::{packet, policy, tcp};
use tipstaff_core::analysis::failing;
use tipstaff_core::generate::{Generator, HOST_NAME, NOW, settle};
use tipstaff_core::plan::{Kind, resolve};
use tipstaff_core::policy::{Ends, Expectation, Source, read};
use tipstaff_core::space::{Packet, Transport};

/// What generated expectations about led packets have.
const LED: &str = "published = [\"8000-8099/tcp+udp\"]";

const SLUICE: &str = r#"edition = 1
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10"]
[[host.sluice.rule]]
name = "reading-room"
direction = "forwarded"
allow = ["80/tcp"]
from = ["198.51.100.0/27"]
published = ["8088/tcp"]
"#;

/// Whether an expectation holds.
fn holds(keys: &str) -> bool {
    let text = format!("{SLUICE}[[host.sluice.expect]]\n{keys}");
    let policy = policy(&text);
    let plan = resolve(&policy, "sluice", NOW).expect("the host");
    failing(&plan, &policy.hosts[0].expectations).is_empty()
}

#[test]
fn it_is_about_the_port_that_callers_asked_for() {
    let led = "direction = \"forwarded\"\npublished = [\"8088/tcp\"]\n";
    let curators = "from = [\"198.51.100.0/27\"]\n";
    let others = "from = [\"!198.51.100.0/27\"]\n";
    assert!(holds(&format!("{led}{others}traffic = [\"any\"]\nverdict = \"deny\"\n")));
    assert!(holds(&format!("{led}{curators}traffic = [\"80/tcp\"]\nverdict = \"allow\"\n")));
    // Where it is led to another port, nobody comes through.
    assert!(!holds(&format!("{led}{curators}traffic = [\"any\"]\nverdict = \"allow\"\n")));
    assert!(holds(&format!("{led}{curators}traffic = [\"81/tcp\"]\nverdict = \"deny\"\n")));
    // Asked for at another port, or at none of others.
    let elsewhere = led.replace("8088", "8089");
    assert!(holds(&format!("{elsewhere}{curators}traffic = [\"80/tcp\"]\nverdict = \"deny\"\n")));
    let anyhow = "direction = \"forwarded\"\n";
    assert!(!holds(&format!("{anyhow}{curators}traffic = [\"80/tcp\"]\nverdict = \"deny\"\n")));
    assert!(!holds(&format!("{anyhow}{curators}traffic = [\"80/tcp\"]\nverdict = \"allow\"\n")));
}

#[test]
fn what_cannot_be_led_is_refused() {
    let refused = |keys: &str| {
        let head = "[[host.sluice.expect]]\nverdict = \"deny\"\n";
        let text = format!("{SLUICE}{head}{keys}");
        let problems = read(&Source::new("policy.toml", &text)).expect_err("a mistake");
        problems.into_iter().map(|it| it.message).collect::<Vec<_>>().join("; ")
    };
    assert_eq!(
        refused("direction = \"outbound\"\ntraffic = [\"any\"]\npublished = [\"8088/tcp\"]\n"),
        "what leaves this host was not led to it"
    );
    assert_eq!(
        refused("traffic = [\"53/udp\"]\npublished = [\"8088/tcp\"]\n"),
        "the traffic is of other protocols than the published ports"
    );
}

/// Whether a packet is among those that an expectation about every packet is about.
fn is_meant(it: &Expectation, packet: &Packet) -> bool {
    let asked = it.published.as_ref().is_none_or(|published| match packet.transport {
        Transport::Ports { protocol, .. } => {
            published[protocol].contains(packet.asked.unwrap_or(0))
        }
        _ => false,
    });
    let by = |names: &[String], interface: Option<&str>| match names {
        [] => true,
        [one] if one.starts_with('!') => interface != one.get(1..),
        names => names.iter().any(|it| Some(it.as_str()) == interface),
    };
    let is_one = |ends: &Ends, address, relation| {
        ends.parts().iter().any(|it| it.0.contains(relation) && it.1.contains(address))
    };
    asked
        && it.direction == packet.direction
        && it.traffic.contains(packet)
        && is_one(&it.from, packet.source, packet.source_is)
        && is_one(&it.to, packet.destination, packet.destination_is)
        && by(&it.ingress, packet.in_interface.as_deref())
        && by(&it.egress, packet.out_interface.as_deref())
}

#[test]
fn generated_ones_hold_where_no_packet_is_against_them() {
    let (mut meant, mut against) = (0, 0);
    for seed in 0..600 {
        let mut dice = Generator::new(seed);
        let text = dice.policy();
        if !text.contains(LED) {
            continue;
        }
        let policy = policy(&text);
        let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
        settle(&mut plan);
        let host = policy.host(HOST_NAME).expect("it is there");
        let led: Vec<&Expectation> = host.expected().filter(|it| it.published.is_some()).collect();
        let broken = failing(&plan, led.iter().copied());
        let is_against = |it: &Expectation, packet: &Packet| {
            let decider = plan.decision(packet);
            let aside = decider.id.kind == Kind::Baseline && it.besides.contains(&decider.id.name);
            is_meant(it, packet) && decider.act.verdict() != it.verdict && !aside
        };
        for _ in 0..2_000 {
            let packet = dice.packet_for(&plan);
            let packet = dice.led(packet, &plan);
            for it in led.iter().filter(|it| is_meant(it, &packet)) {
                meant += 1;
                if is_against(it, &packet) {
                    assert!(
                        broken.iter().any(|other| other.expectation == *it),
                        "{text}{packet:?}"
                    );
                }
            }
        }
        for failing in &broken {
            let share = &failing.by.as_ref().expect("few")[0];
            let likely = packet("198.51.100.7", "192.0.2.10", tcp(80));
            let shown = share.pieces[0].example(&likely, failing.expectation.direction);
            assert!(is_against(failing.expectation, &shown.expect("there is one")), "{text}");
            against += 1;
        }
    }
    println!("{meant} packets were meant, {against} statements broken");
    assert!(meant > 200 && against > 20, "{meant}, {against}");
}
