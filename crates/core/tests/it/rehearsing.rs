//! What a rehearsal has to try.

use proptest::prelude::{any, prop_assert, prop_assert_eq, proptest};
use std::net::IpAddr;
use tipstaff_core::generate::{Generator, HOST_NAME, NOW, settle};
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Policy, Source, read};
use tipstaff_core::rehearsal::{
    CLIENT_PORT, Course, Judge, Role, Site, classes, course, sendable, speaker,
};
use tipstaff_core::space::{AddressSet, ConnectionState, Packet, Transport};

fn host(text: &str) -> (Policy, HostPlan) {
    let policy = read(&Source::new("policy.toml", text)).expect("a policy");
    let name = policy.hosts[0].name.clone();
    let plan = resolve(&policy, &name, NOW).expect("the host");
    (policy, plan)
}

fn course_of(text: &str) -> Course {
    let (policy, plan) = host(text);
    course(&policy, &plan, &Site::of(&plan), None)
}

fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

proptest! {
    #[test]
    fn the_parts_make_up_the_whole_and_no_set_cuts_one(
        sets in proptest::collection::vec(
            proptest::collection::vec((any::<u8>(), 0u8..40), 0..4), 0..6),
        universe in proptest::collection::vec((any::<u8>(), 0u8..90), 1..3),
    ) {
        let set = |ranges: &[(u8, u8)]| {
            let v4 = |&(first, length): &(u8, u8)| {
                (u32::from(first), u32::from(first) + u32::from(length))
            };
            AddressSet::from_v4(ranges.iter().map(v4))
        };
        let sets: Vec<AddressSet> = sets.iter().map(|it| set(it)).collect();
        let universe = set(&universe);
        let parts = classes(&sets.iter().collect::<Vec<_>>(), &universe);
        let mut seen = Vec::new();
        for value in 0..400u32 {
            let value = IpAddr::from(std::net::Ipv4Addr::from_bits(value));
            let at: Vec<usize> = (0..parts.len()).filter(|&at| parts[at].contains(value)).collect();
            prop_assert_eq!(at.len(), usize::from(universe.contains(value)), "{}", value);
            if let Some(&at) = at.first() {
                let membership: Vec<bool> = sets.iter().map(|it| it.contains(value)).collect();
                seen.push((at, membership));
            }
        }
        // One part, one membership; one membership, one part.
        for (at, membership) in &seen {
            for (other_at, other) in &seen {
                prop_assert_eq!(at == other_at, membership == other);
            }
        }
        prop_assert!(parts.iter().all(|part| !part.is_empty()));
    }
}

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.stacks]
addresses = ["10.44.8.0/24"]
[host.sluice]
addresses = ["192.0.2.10", "10.44.8.10", "2001:db8:2::10"]
interfaces = { outside = "eth0", stacks = "eth1" }
[host.sluice.baseline]
neighbours = false
dhcp = false
[[host.sluice.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["curators"]
at = ["192.0.2.10", "2001:db8:2::10"]
[[host.sluice.rule]]
name = "clock"
allow = ["123/udp"]
source-ports = ["123"]
from = ["stacks", "!10.44.8.20"]
[[host.sluice.rule]]
name = "later"
allow = ["9100/tcp"]
from = ["203.0.113.9"]
paused = true
"#;

#[test]
fn everybody_whom_rules_tell_apart_is_tried_everywhere_and_nobody_else() {
    let course = course_of(POLICY);
    let speakers: Vec<String> = course
        .stands
        .iter()
        .filter(|it| it.role == Role::Speaker)
        .map(|it| format!("{} {} to {} by {}", it.name, it.source, it.destination, it.interface))
        .collect();
    insta::assert_snapshot!(speakers.join("\n"));
    // From the port that a rule names, at which only ports are tried.
    let others: Vec<u16> = course
        .stands
        .iter()
        .filter(|it| it.role == Role::OtherPort)
        .map(|it| it.source_port)
        .collect();
    assert_eq!(others.len(), speakers.len());
    assert!(others.iter().all(|port| *port == 123));
    assert!(
        course.stands.iter().all(|it| it.role == Role::OtherPort || it.source_port == CLIENT_PORT)
    );
    // The single address that a rule leaves out speaks for itself; the ends of the others are tried.
    let members = course.stands.iter().filter(|it| it.role == Role::Member);
    let ends: Vec<IpAddr> = members.map(|it| it.source).collect();
    for end in ["198.51.100.31", "10.44.8.19", "10.44.8.21", "10.44.8.255"] {
        assert!(ends.contains(&address(end)), "{end}");
    }
    // No rule of now speaks of the paused one's sender or port.
    assert!(!course.telling.contains(9_100));
    for port in [122, 123, 124, 2_201, 2_202, 2_203] {
        assert!(course.telling.contains(port), "{port}");
    }
}

#[test]
fn whom_to_try_can_be_chosen() {
    let (policy, plan) = host(POLICY);
    let only = AddressSet::single(address("10.44.8.20"));
    let course = course(&policy, &plan, &Site::of(&plan), Some(&only));
    assert!(!course.stands.is_empty());
    assert!(course.stands.iter().all(|it| it.source == address("10.44.8.20")));
}

#[test]
fn who_speaks_is_somebody_who_can_send_and_whom_nobody_knows() {
    let from = |text: &str| speaker(&AddressSet::single(address(text)));
    assert_eq!(from("127.0.0.1"), None);
    assert_eq!(from("224.0.0.1"), None);
    assert_eq!(from("ff02::1"), None);
    assert_eq!(from("10.44.8.30"), Some(address("10.44.8.30")));
    let everybody = speaker(&sendable()).expect("somebody");
    assert!(
        address("192.0.2.0") <= everybody && everybody <= address("192.0.2.255"),
        "{everybody}"
    );
}

#[test]
fn the_judge_decides_like_the_plan() {
    for seed in 0..40 {
        let mut generator = Generator::new(seed);
        let text = generator.policy();
        let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
        let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
        settle(&mut plan);
        for _ in 0..50 {
            let packet = generator.packet(&plan);
            // It is asked about everything between the same ends.
            let example = Packet {
                transport: Transport::Other { protocol: 0 },
                state: ConnectionState::New,
                ..packet.clone()
            };
            let judge = Judge::between(&plan, &example);
            assert_eq!(judge.decision(&packet).id, plan.decision(&packet).id, "{packet:?}\n{text}");
            assert!(judge.telling().contains(0) && judge.telling().contains(u16::MAX));
        }
    }
}

#[test]
fn what_leaves_and_passes_is_tried_within_bounds_however_long_the_list() {
    use std::collections::HashSet;
    use tipstaff_core::rehearsal::crossings;
    use tipstaff_core::space::{Direction, RangeSet};
    let few = |text: &str, most: u64| {
        let policy = read(&Source::new("policy.toml", text)).expect("a policy");
        let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
        settle(&mut plan);
        let mut site = Site::of(&plan);
        site.ports = RangeSet::single(4_711);
        let mut sums = Vec::new();
        for direction in [Direction::Outbound, Direction::Forwarded] {
            let found = crossings(&plan, &site, direction, most);
            assert!(found.packets.len() as u64 <= most);
            let different: HashSet<_> = found.packets.iter().map(|it| it.packet.clone()).collect();
            assert_eq!(different.len(), found.packets.len());
            for it in &found.packets {
                assert_eq!(it.packet.direction, direction);
                assert_eq!(plan.decision(&it.packet).id, it.decision.id);
            }
            let receivers: HashSet<_> = different.iter().map(|it| it.destination).collect();
            sums.push((found.packets.len(), receivers.len(), found.left_out > 0));
        }
        sums
    };
    let rules: String = (0..600)
        .map(|at| {
            format!(
                "[[host.{HOST_NAME}.rule]]\nname = \"r{at}\"\ndirection = \"forwarded\"\nallow = [\"{}/tcp\"]\n\
                 from = [\"198.51.{}.{}\"]\nto = [\"203.0.{}.{}\"]\n",
                1_000 + at * 7,
                at / 250,
                1 + at % 250,
                at / 250,
                1 + at % 250
            )
        })
        .collect();
    let head = format!("edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\"]\n");
    let sums = few(&format!("{head}{rules}"), 3_000);
    let [outbound, forwarded] = sums[..] else { panic!("{sums:?}") };
    assert!(!outbound.2 && outbound.0 > 20, "{sums:?}");
    // Hundreds of millions there are; each receiver has its share.
    assert!(forwarded.2 && forwarded.0 > 2_500 && forwarded.1 > 150, "{sums:?}");
    for seed in 0..20 {
        let sums = few(&Generator::new(seed).policy(), 5_000);
        assert!(sums.iter().any(|it| it.0 > 20), "seed {seed}: {sums:?}");
    }
}
