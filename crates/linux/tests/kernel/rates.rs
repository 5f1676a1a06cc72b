//! Rates bite at the stated figure, in total and per source, in both IP versions.

use crate::world::{netfilter, plan};
use tipstaff_core::policy::Verdict::{Allow, Deny};
use tipstaff_core::program::{Action, RuleProgram, compare, lower};
use tipstaff_core::space::Direction;
use tipstaff_linux::deliver;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Fate, Range, Shot};
use tipstaff_linux::ruleset::{Count, Marks, TABLE, enforce, enforce_at, generation, read};
use tipstaff_wire::nf_tables as nf;
use tipstaff_wire::packet::Payload;

/// New flows to the host from each sender in turn, and how many of each sender's passed.
fn passed(range: &mut Range<'_>, senders: &[&str], each: u16, port: u16) -> Vec<usize> {
    let mut shots = Vec::new();
    for number in 0..each {
        for sender in senders {
            let source = address(sender);
            let host = if source.is_ipv4() { "192.0.2.10" } else { "2001:db8:2::10" };
            let payload = Payload::Udp { source: 20_000 + number, destination: port };
            let destination = address(host);
            shots.push(Shot { direction: Direction::Inbound, source, destination, payload });
        }
    }
    let account = range.fire(&shots).expect("fired");
    assert!(account.fates.iter().all(|it| matches!(it, Fate::Decided(Allow | Deny))));
    senders
        .iter()
        .map(|sender| {
            let mine = shots.iter().zip(&account.fates).filter(|it| it.0.source == address(sender));
            mine.filter(|it| *it.1 == Fate::Decided(Allow)).count()
        })
        .collect()
}

#[test]
fn in_total_and_for_each_source() {
    sealed("rates::in_total_and_for_each_source", || {
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
            [[host.sluice.rule]]\nname = \"total\"\nallow = [\"1000/udp\"]\n\
            rate = \"7/hour\"\n\
            [[host.sluice.rule]]\nname = \"each\"\nallow = [\"2000/udp\"]\n\
            rate = \"6/hour per source, burst 4\"\n\
            [[host.sluice.rule]]\nname = \"behind\"\nallow = [\"any\"]\n";
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let program = lower(&plan(text));
        let snapshot = sluice.run(|| enforce(&mut netfilter(), "sluice", &program));
        assert_eq!(snapshot.expect("entered").expect("enforced").program, program);
        let mut range = Range::open(sluice, "eth0", street, "eth0").expect("opened");

        let all = passed(&mut range, &["203.0.113.1", "203.0.113.2", "2001:db8:bad::1"], 10, 1000);
        assert_eq!(all.iter().sum::<usize>(), 7, "{all:?}");

        let senders =
            ["203.0.113.3", "203.0.113.4", "2001:db8:bad::5", "2001:db8:bad:1::5", "198.51.100.9"];
        assert_eq!(passed(&mut range, &senders, 10, 2000), [4; 5]);
        // Addresses of one IPv6 network of 64 bits share: the first has used it up.
        assert_eq!(passed(&mut range, &["2001:db8:bad::6"], 10, 2000), [0]);
        // The excess is decided by the rate's own rule, whatever stands behind it.
        let snapshot = sluice.run(|| read(&mut netfilter())).expect("it").expect("it").expect("it");
        let tally = |name: &str| {
            let tally = snapshot.tallies.iter().find(|it| it.id.to_string() == name).expect("it");
            (tally.taken.packets, tally.excess.map(|it| it.packets))
        };
        assert_eq!(tally("total"), (7, Some(23)));
        assert_eq!(tally("each"), (20, Some(40)));
        let crowded: u64 =
            snapshot.tallies.iter().filter_map(|it| it.crowded).map(|it| it.packets).sum();
        assert_eq!(crowded, 0, "there was room for all");
        // What rules remember of senders does not change what they mean.
        assert_eq!(snapshot.program, program);
    });
}

#[test]
fn more_sources_than_are_told_apart_share_places_and_find_no_open_door() {
    sealed("rates::more_sources_than_are_told_apart_share_places_and_find_no_open_door", || {
        const REMEMBERED: usize = 65_536;
        const PLACES: usize = 16_384;
        const MORE: usize = 40_000;
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
            [[host.sluice.rule]]\nname = \"each\"\nallow = [\"2000/udp\"]\n\
            rate = \"1/hour per source\"\n\
            [[host.sluice.rule]]\nname = \"behind\"\nallow = [\"any\"]\n";
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let program = lower(&plan(text));
        let enforced = sluice.run(|| enforce(&mut netfilter(), "sluice", &program).map(drop));
        enforced.expect("entered").expect("enforced");
        let mut range = Range::open(sluice, "eth0", street, "eth0").expect("opened");
        let shots: Vec<Shot> = (0..u32::try_from(REMEMBERED + MORE).expect("small"))
            .map(|number| Shot {
                direction: Direction::Inbound,
                // Network after network of IPv6, each with a rate of its own.
                source: std::net::Ipv6Addr::from_bits(
                    0x2001_0db8 << 96 | u128::from(number) << 64 | 1,
                )
                .into(),
                destination: address("2001:db8:2::10"),
                payload: Payload::Udp { source: 20_000, destination: 2000 },
            })
            .collect();
        let account = range.fire(&shots).expect("fired");
        assert_eq!(account.lost_reports, 0);
        let passed = account.fates.iter().filter(|it| **it == Fate::Decided(Allow)).count();
        let denied = account.fates.iter().filter(|it| **it == Fate::Decided(Deny)).count();
        assert_eq!(passed + denied, REMEMBERED + MORE);
        assert!(passed <= REMEMBERED + PLACES, "{passed} passed, more than the rate allows");
        assert!(denied >= MORE - PLACES, "only {denied} were denied");
        // None of the first ones was turned away: the room is used.
        assert!(account.fates[..60_000].iter().all(|it| *it == Fate::Decided(Allow)));
        // A new sender is not turned away because of that: most places have something left.
        let late = &account.fates[REMEMBERED..REMEMBERED + 2_000];
        let let_in = late.iter().filter(|it| **it == Fate::Decided(Allow)).count();
        assert!(let_in > 1_600, "{let_in} of 2,000 late ones passed");
        let held = sluice.run(|| read(&mut netfilter())).expect("it").expect("read").expect("it");
        assert_eq!(held.program, program);
        let tally = held.tallies.iter().find(|it| it.id.to_string() == "each").expect("it");
        let count = |it: Option<Count>| usize::try_from(it.map_or(0, |it| it.packets)).expect("it");
        assert_eq!(usize::try_from(tally.taken.packets).expect("it"), passed);
        assert_eq!(count(tally.excess), denied);
        assert!(count(tally.crowded) >= MORE && count(tally.crowded) < MORE + 6_000);
        // What has been counted goes on after rules are replaced.
        let (host, marks) = ("sluice", Marks::default());
        let again = sluice.run(|| {
            let mut kernel = netfilter();
            let generation = generation(&mut kernel)?;
            enforce_at(
                &mut kernel,
                Some(&held),
                (host, &program, &marks),
                generation,
                &held.tallies,
            )?;
            read(&mut kernel)
        });
        assert_eq!(again.expect("it").expect("read").expect("it").tallies, held.tallies);
    });
}

#[test]
fn a_rule_that_uses_another_rates_set_is_not_taken_for_what_it_was() {
    sealed("rates::a_rule_that_uses_another_rates_set_is_not_taken_for_what_it_was", || {
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
            [[host.sluice.rule]]\nname = \"each\"\nallow = [\"2000/udp\"]\n\
            rate = \"6/hour per source, burst 4\"\n";
        let program = lower(&plan(text));
        let own = enforce(&mut netfilter(), "sluice", &program).expect("enforced").program;
        let opaque = |program: &RuleProgram| {
            let rules = program.chains.iter().flat_map(|it| &it.rules);
            rules.filter(|it| it.action == Action::Opaque("set of another rule".into())).count()
        };
        assert_eq!(opaque(&own), 0);
        let limit = nf::Limit { rate: 600, unit: 1, burst: 900, kind: 0, flags: 0 };
        let register = 1;
        // The kernel refuses it with sets that keep no limiters by an IPv4 address.
        let added = (1..20).any(|number| {
            let mut batch = nf::Batch::begin(1);
            batch.new_rule(&nf::Rule {
                table: TABLE.into(),
                chain: "forwarded".into(),
                expressions: vec![
                    nf::Expression::Payload {
                        base: nf::Base::Network,
                        offset: 12,
                        length: 4,
                        register,
                    },
                    nf::Expression::Dynset {
                        register,
                        set: format!("limits/inbound/rule/each/{number}"),
                        id: 0,
                        limit,
                    },
                    nf::Expression::Immediate(nf::Verdict::Accept),
                ],
                ..nf::Rule::default()
            });
            let batch = batch.finish().expect("fits");
            deliver(&mut netfilter(), "add a rule", &batch).expect("delivered").is_empty()
        });
        assert!(added, "no set of limiters was found");
        let snapshot = read(&mut netfilter()).expect("read").expect("a table");
        // The rate whose set the other one shares, and the other one.
        assert_eq!(opaque(&snapshot.program), 2, "{:#?}", snapshot.program);
        assert!(!compare(&program, &snapshot.program).is_empty());
    });
}
