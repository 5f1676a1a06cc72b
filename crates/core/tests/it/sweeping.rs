//! The fate of whole sets of senders, against asking for single ones.

use crate::given::{address, packet, plan, tcp};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tipstaff_core::generate::{Generator, HOST_NAME};
use tipstaff_core::plan::{Decider, Question, sweep};
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::lower;
use tipstaff_core::space::{AddressSet, Family, Packet};

#[test]
fn a_place_falls_apart_where_rules_do_and_nowhere_else() {
    let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
                name = \"not-that-one\"\ndeny = [\"443/tcp\"]\nfrom = [\"198.51.100.7\"]\n\
                [[host.sluice.rule]]\nname = \"elsewhere\"\nreject = [\"80/tcp\"]\n\
                from = [\"198.51.100.16/28\"]\n\
                [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n";
    let plan = plan(text, "sluice");
    let senders = AddressSet::from_v4([(0xc633_6400, 0xc633_641f)]);
    let packet = packet("198.51.100.0", "192.0.2.10", tcp(443));
    let receivers = [address("192.0.2.10")];
    let family = Family::V4;
    let question = Question { packet: &packet, senders: &senders, receivers: &receivers, family };
    let parts = sweep(&[&plan], &question, |packet| plan.evaluate(packet).verdict);
    assert_eq!(parts.len(), 2);
    assert_eq!(parts[0].fate, Verdict::Allow);
    assert_eq!(parts[1].senders.to_string(), "198.51.100.7");
    assert_eq!(parts[0].senders.union(&parts[1].senders), senders);
}

#[test]
fn receivers_that_differ_are_told() {
    let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"10.44.8.10\"]\n\
                [[host.sluice.rule]]\nname = \"inside\"\nallow = [\"9100/tcp\"]\n\
                to = [\"10.44.8.10\"]\n";
    let plan = plan(text, "sluice");
    let senders = AddressSet::single(address("10.44.8.30"));
    let packet = packet("10.44.8.30", "10.44.8.10", tcp(9100));
    let receivers = [address("192.0.2.10"), address("10.44.8.10")];
    let family = Family::V4;
    let question = Question { packet: &packet, senders: &senders, receivers: &receivers, family };
    let parts = sweep(&[&plan], &question, |packet| plan.evaluate(packet).verdict);
    assert_eq!(parts.len(), 2);
    assert_eq!((parts[0].fate, &parts[0].receivers[..]), (Verdict::Deny, &receivers[..1]));
    assert_eq!((parts[1].fate, &parts[1].receivers[..]), (Verdict::Allow, &receivers[1..]));
}

/// Any address of the set, the same for the same seed.
fn some_sender(generator: &mut Generator, set: &AddressSet, family: Family) -> Option<IpAddr> {
    let pick = |generator: &mut Generator, count: usize| generator.below(count);
    match family {
        Family::V4 => {
            let ranges = set.v4.ranges();
            let (first, last) = *ranges.get(pick(generator, ranges.len().max(1)))?;
            let step = generator.number() % (u64::from(last - first) + 1);
            Some(Ipv4Addr::from_bits(first + u32::try_from(step).expect("within")).into())
        }
        Family::V6 => {
            let ranges = set.v6.ranges();
            let (first, last) = *ranges.get(pick(generator, ranges.len().max(1)))?;
            let wide = u128::from(generator.number()) << 64 | u128::from(generator.number());
            let span = (last - first).checked_add(1);
            let step = span.map_or(wide, |span| wide % span);
            Some(Ipv6Addr::from_bits(first.wrapping_add(step)).into())
        }
    }
}

#[test]
fn every_sender_fares_as_its_part_says_by_policy_and_program() {
    let mut asked = 0;
    for seed in 0..200 {
        let mut generator = Generator::new(seed);
        let mut plan = plan(&generator.policy(), HOST_NAME);
        tipstaff_core::generate::settle(&mut plan);
        let program = lower(&plan);
        let deciders: [&dyn Decider; 2] = [&plan, &program];
        for family in Family::BOTH {
            let model = Packet {
                direction: tipstaff_core::space::Direction::Inbound,
                ..generator.packet(&plan)
            };
            let senders = AddressSet::full();
            let receivers: Vec<IpAddr> =
                plan.addresses.iter().copied().filter(|it| Family::of(*it) == family).collect();
            let receivers = &receivers[..1];
            let question = Question { packet: &model, senders: &senders, receivers, family };
            let fate = |packet: &Packet| {
                let packet = plan.related(packet.clone());
                (plan.evaluate(&packet), program.evaluate(&packet))
            };
            let parts = sweep(&deciders, &question, fate);
            let whole: AddressSet = parts.iter().map(|part| part.senders.clone()).collect();
            assert!(whole.has_all(family), "seed {seed}: somebody is in no part");
            for part in &parts {
                for _ in 0..40 {
                    let source = some_sender(&mut generator, &part.senders, family).expect("one");
                    let packet = Packet { source, destination: receivers[0], ..model.clone() };
                    assert_eq!(fate(&packet), part.fate, "seed {seed}, {packet:?}");
                    asked += 1;
                }
            }
        }
    }
    assert!(asked > 20_000, "only {asked} senders were asked about");
}
