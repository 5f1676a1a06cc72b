//! What checks meet, and how it is told apart.

use crate::world::{netfilter, plan};
use std::net::{IpAddr, SocketAddr, TcpListener, UdpSocket};
use std::time::{Duration, Instant};
use tipstaff_core::program::lower;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Attempt, Observation, Overhearing, State, attempt};
use tipstaff_linux::ruleset::{enforce, read};
use tipstaff_linux::sockets::PortProtocol::{self, Tcp, Udp};

const POLICY: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
    [[host.sluice.rule]]\nname = \"open\"\nallow = [\"443/tcp+udp\", \"444/tcp+udp\"]\n\
    [[host.sluice.rule]]\nname = \"told\"\nreject = [\"445/tcp+udp\"]\n\
    [[host.sluice.rule]]\nname = \"router\"\nreject = [\"any\"]\ndirection = \"forwarded\"\n";

#[test]
fn every_state_is_seen_over_both_protocols_and_versions() {
    sealed("probing::every_state_is_seen_over_both_protocols_and_versions", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let plan = plan(POLICY);
        let _held = sluice.run(|| {
            enforce(&mut netfilter(), "sluice", &lower(&plan)).expect("enforced");
            let tcp = [443, 445, 446].map(|port| TcpListener::bind(("::", port)).expect("bound"));
            let udp = UdpSocket::bind("[::]:443").expect("bound");
            let echo = udp.try_clone().expect("cloned");
            std::thread::spawn(move || {
                let mut datagram = [0; 64];
                while let Ok((length, caller)) = udp.recv_from(&mut datagram) {
                    let _ = udp.send_to(&datagram[..length], caller);
                }
            });
            (tcp, echo)
        });
        let probe = |protocol: PortProtocol, to: &str, port: u16| -> Observation {
            let destination = SocketAddr::new(address(to), port);
            let patience = Duration::from_millis(600);
            let check = Attempt { protocol, source: None, destination, patience };
            street.run(|| attempt(&check)).expect("entered").expect("made")
        };
        for host in ["192.0.2.10", "2001:db8:2::10"] {
            // 443: allowed, somebody there. 444: allowed, nobody. 445: rejected. 446: denied.
            let states =
                |protocol| [443, 444, 445, 446].map(|port| probe(protocol, host, port).state);
            let expected = [State::Open, State::Refused, State::Refused, State::Silent];
            assert_eq!(states(Tcp), expected, "{host}");
            let expected = [State::Open, State::Refused, State::Prohibited, State::Silent];
            assert_eq!(states(Udp), expected, "{host}");
        }
        // A router's refusal reaches the caller too, and says what it is.
        for (store, evidence) in
            [("10.44.8.20", "ICMP type 3 code 13"), ("fd44:8::20", "ICMPv6 type 1 code 1")]
        {
            let seen = probe(Udp, store, 53);
            assert_eq!((seen.state, seen.evidence.as_str()), (State::Prohibited, evidence));
        }
        let begun = Instant::now();
        assert_eq!(probe(Tcp, "192.0.2.10", 446).state, State::Silent);
        assert!(begun.elapsed() < Duration::from_secs(2), "silence is waited for in vain");
    });
}

#[test]
fn a_check_that_cannot_be_made_is_no_observation() {
    sealed("probing::a_check_that_cannot_be_made_is_no_observation", || {
        let nowhere = tipstaff_linux::Namespace::create().expect("a namespace");
        for to in ["192.0.2.10", "2001:db8:2::10"] {
            let destination = SocketAddr::new(address(to), 443);
            let patience = Duration::from_millis(100);
            let check = Attempt { protocol: Tcp, source: None, destination, patience };
            let outcome = nowhere.run(|| attempt(&check)).expect("entered");
            let error = outcome.expect_err("there is no route").to_string();
            assert!(error.starts_with("cannot probe"), "{error}");
        }
    });
}

#[test]
fn counters_and_limits_count_what_they_took() {
    sealed("probing::counters_and_limits_count_what_they_took", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let text = POLICY.replace(
            "[[host.sluice.rule]]\nname = \"open\"",
            "[host.sluice.baseline]\nping = \"3/minute\"\n[[host.sluice.rule]]\nname = \"open\"",
        );
        let plan = plan(&text);
        sluice
            .run(|| enforce(&mut netfilter(), "sluice", &lower(&plan)).map(drop))
            .expect("entered")
            .expect("enforced");
        let shots: Vec<_> = (0..10u8)
            .map(|number| tipstaff_linux::probe::Shot {
                direction: tipstaff_core::space::Direction::Inbound,
                source: [203, 0, 113, 1 + number].into(),
                destination: address("192.0.2.10"),
                payload: tipstaff_wire::packet::Payload::Icmp { kind: 8 },
            })
            .collect();
        let mut range =
            tipstaff_linux::probe::Range::open(sluice, "eth0", street, "eth0").expect("opened");
        let account = range.fire(&shots).expect("fired");
        use tipstaff_core::policy::Verdict::{Allow, Deny};
        use tipstaff_linux::probe::Fate::Decided;
        let passed = account.fates.iter().filter(|fate| **fate == Decided(Allow)).count();
        let stopped = account.fates.iter().filter(|fate| **fate == Decided(Deny)).count();
        assert_eq!((passed, stopped), (3, 7), "{:?}", account.fates);
        let snapshot = sluice.run(|| read(&mut netfilter())).expect("it").expect("it").expect("it");
        let ping = snapshot.tallies.iter().find(|it| it.id.to_string() == "baseline/ping");
        let ping = ping.expect("there");
        assert_eq!(ping.taken.packets, 3);
        assert_eq!(ping.excess.expect("a rate").packets, 7);
        assert_eq!(ping.taken.bytes, 3 * (20 + 32));
    });
}

#[test]
fn what_is_waited_for_is_heard_whatever_else_comes_in_meanwhile() {
    sealed("probing::what_is_waited_for_is_heard_whatever_else_comes_in_meanwhile", || {
        let lab = street_sluice_granary();
        let sluice = lab.node("sluice").expect("there");
        let heard = sluice.run(|| {
            let ears = Overhearing::begin(40_001).expect("ears");
            let mut heard = Vec::new();
            for own in ["192.0.2.10", "2001:db8:2::10"] {
                let own = address(own);
                let any: IpAddr = if own.is_ipv4() { [0; 4].into() } else { [0u16; 8].into() };
                let from = UdpSocket::bind((any, 0)).expect("a socket");
                // Nobody looks until all have come.
                for _ in 0..4_000 {
                    let _ = from.send_to(&[0; 900], (own, 40_002));
                }
                from.send_to(b"seed", (own, 40_001)).expect("sent");
            }
            let deadline = Instant::now() + Duration::from_secs(2);
            while heard.len() < 2
                && let Some(one) = ears.next(deadline).expect("heard")
            {
                // Over loopback it is seen on its way out and in.
                if !heard.contains(&one) {
                    heard.push(one);
                }
            }
            heard
        });
        let seed = |text: &str| (address(text), b"seed".to_vec());
        assert_eq!(heard.expect("entered"), [seed("192.0.2.10"), seed("2001:db8:2::10")]);
    });
}
