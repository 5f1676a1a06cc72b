//! Rules of others as a policy: flattened they do what they did chain by chain, and where the policy does something
//! else, that is named.

use std::net::IpAddr;
use tipstaff_core::adopt::{Entrance, Held, Named, Row, Then, Trouble, Way, taken};
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::policy::{Time, Verdict};
use tipstaff_core::program::{End, Test};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, PortProtocol, RangeSet, Relation,
    StateSet, Transport,
};

/// Numbers that look as if there were no order in them (splitmix64).
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((z ^ (z >> 31)) % most as u64).expect("small")
    }

    fn of<T: Clone>(&mut self, all: &[T]) -> T {
        all[self.below(all.len())].clone()
    }
}

const ENDS: [&str; 4] = ["192.0.2.10", "198.51.100.7", "2001:db8:2::10", "2001:db8:51::7"];
const PORTS: [u16; 3] = [22, 80, 443];

fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

fn test(dice: &mut Dice) -> Test {
    let port = |dice: &mut Dice| {
        let port = dice.of(&PORTS);
        let set = RangeSet::from_ranges([(port, port + dice.of(&[0u16, 60]))]);
        if dice.below(3) == 0 { RangeSet::full().difference(&set) } else { set }
    };
    let ends = |dice: &mut Dice| {
        let one = AddressSet::single(address(dice.of(&ENDS)));
        let family = if one.has(Family::V4) { Family::V4 } else { Family::V6 };
        match dice.below(3) {
            0 => AddressSet::full().only(family).difference(&one),
            _ => one,
        }
    };
    match dice.below(9) {
        0 => Test::Family(dice.of(&Family::BOTH)),
        1 => Test::Protocol(RangeSet::single(dice.of(&[6u8, 17, 1, 58]))),
        2 => Test::Source(ends(dice)),
        3 => Test::Destination(ends(dice)),
        4 => Test::DestinationPort(port(dice)),
        5 => {
            let state = dice.of(&ConnectionState::ALL);
            Test::State(StateSet::of(&[state, ConnectionState::New]))
        }
        6 => {
            let link = "eth0".to_owned();
            Test::InInterface(
                dice.of(&[InterfaceTest::Is(link.clone()), InterfaceTest::IsNot(link)]),
            )
        }
        7 => Test::Own(End::Destination, dice.below(2) == 0),
        _ => Test::IcmpType(RangeSet::single(dice.of(&[8u8, 128]))),
    }
}

/// Chains that lead to each other: a later one is never led from.
fn held(dice: &mut Dice) -> Held {
    let mut held = Held::default();
    let helpers = 1 + dice.below(3);
    for at in 0..helpers + 2 {
        let name = format!("t/{at}");
        let mut rows = Vec::new();
        for _ in 0..dice.below(5) {
            let tests = (0..dice.below(3)).map(|_| test(dice)).collect();
            let next = at.max(1) + 1..helpers + 2;
            let then = match dice.below(8) {
                0 | 1 => Then::Accept,
                2 => Then::Deny,
                3 => Then::Reject,
                4 => Then::Return,
                5 => Then::On,
                _ if next.is_empty() => Then::Accept,
                6 => Then::Goto(format!("t/{}", next.start + dice.below(next.len()))),
                _ => Then::Jump(format!("t/{}", next.start + dice.below(next.len()))),
            };
            rows.push(Row { ways: vec![Way { tests, then }], ..Row::default() });
        }
        held.chains.insert(name.clone(), rows);
        if at < 2 {
            let family = dice.of(&[None, None, Some(Family::V4), Some(Family::V6)]);
            let passes = dice.below(2) == 0;
            let direction = Direction::Inbound;
            held.entrances.push(Entrance { direction, family, chain: name, passes });
        }
    }
    held
}

enum Outcome {
    Passes,
    Kept(Verdict),
    Behind,
}

/// What a chain does, as the kernel walks it (net/netfilter/nf_tables_core.c).
fn walk(held: &Held, chain: &str, packet: &Packet) -> Outcome {
    for row in &held.chains[chain] {
        let way =
            row.ways.iter().find(|it| it.tests.iter().all(|it| it.holds(packet) == Some(true)));
        match way.map(|it| &it.then) {
            None | Some(Then::On) => {}
            Some(Then::Accept) => return Outcome::Passes,
            Some(Then::Deny) => return Outcome::Kept(Verdict::Deny),
            Some(Then::Reject) => return Outcome::Kept(Verdict::Reject),
            Some(Then::Return) => return Outcome::Behind,
            Some(Then::Goto(to)) => return walk(held, to, packet),
            Some(Then::Jump(to)) => match walk(held, to, packet) {
                Outcome::Behind => {}
                other => return other,
            },
            Some(Then::Unknown(_)) => unreachable!("none is made"),
        }
    }
    Outcome::Behind
}

fn verdict(held: &Held, packet: &Packet) -> Verdict {
    for entrance in &held.entrances {
        if entrance.family.is_some_and(|it| it != packet.family()) {
            continue;
        }
        match walk(held, &entrance.chain, packet) {
            Outcome::Kept(verdict) => return verdict,
            Outcome::Behind if !entrance.passes => return Verdict::Deny,
            Outcome::Passes | Outcome::Behind => {}
        }
    }
    Verdict::Allow
}

fn packets() -> Vec<Packet> {
    let mut all = Vec::new();
    let transports = |family: Family| {
        let ports = [PortProtocol::Tcp, PortProtocol::Udp].into_iter().flat_map(|protocol| {
            [22, 80, 443, 500].map(|destination| Transport::Ports {
                protocol,
                source: 49_152,
                destination,
            })
        });
        let kind = if family == Family::V4 { 8 } else { 128 };
        ports.chain([Transport::Icmp { kind }, Transport::Other { protocol: 47 }])
    };
    for (source, destination) in [(1, 0), (0, 1), (3, 2), (2, 3)] {
        let (source, destination) = (address(ENDS[source]), address(ENDS[destination]));
        for transport in transports(Family::of(source)) {
            for state in ConnectionState::ALL {
                for link in ["eth0", "eth1"] {
                    for own in [false, true] {
                        all.push(Packet {
                            direction: Direction::Inbound,
                            in_interface: Some(link.into()),
                            out_interface: None,
                            source,
                            destination,
                            transport,
                            state,
                            program: None,
                            user: None,
                            asked: None,
                            source_is: Relation::default(),
                            destination_is: Relation { own, on_link: false },
                        });
                    }
                }
            }
        }
    }
    all
}

#[test]
fn chains_as_one_list_do_what_they_did_and_differences_are_named() {
    let packets = packets();
    let (mut exact, mut otherwise, mut rules) = (0, 0, 0);
    for seed in 0..200 {
        let held = held(&mut Dice(seed));
        let named = Named { host: "sluice", machine: None };
        let adopted = taken(&held, named, Time::from_seconds(1_800_000_000))
            .unwrap_or_else(|trouble| panic!("seed {seed}: {trouble:?}"));
        rules += adopted.taken.len();
        exact += usize::from(adopted.differs.is_empty() && adopted.not_taken.is_empty());
        for packet in &packets {
            let wanted = verdict(&held, packet);
            let flat = adopted.theirs.evaluate(packet).expect("all is understood");
            assert_eq!(flat.verdict, wanted, "seed {seed}: {packet:?} by {}\n{held:#?}", flat.by);
            let ours = adopted.plan.evaluate(packet);
            // Nobody keeps packets from being tracked, and none but neighbours' are let alone.
            let untracked = packet.state == ConnectionState::Untracked;
            let follows = matches!(packet.transport, Transport::Icmp { .. })
                && [ConnectionState::Established, ConnectionState::Related].contains(&packet.state);
            if ours.verdict == wanted || untracked || follows {
                continue;
            }
            otherwise += 1;
            let by = (flat.by.to_string(), ours.by.to_string());
            let is_named =
                adopted.differs.iter().any(|it| (&it.theirs, &it.ours) == (&by.0, &by.1));
            assert!(is_named, "seed {seed}: {by:?} of {packet:?}\n{}", adopted.policy);
        }
    }
    println!("{exact} exact, {otherwise} packets otherwise, {rules} rules");
    assert!(exact > 100 && rules > 150, "{exact} {rules}");
}

fn row(tests: Vec<Test>, then: Then) -> Row {
    Row { ways: vec![Way { tests, then }], ..Row::default() }
}

fn inbound(rows: Vec<Row>, more: Vec<(String, Vec<Row>)>) -> Held {
    let chain = "t/in".to_owned();
    let entrance = Entrance {
        direction: Direction::Inbound,
        family: None,
        chain: chain.clone(),
        passes: false,
    };
    let chains = more.into_iter().chain([(chain, rows)]).collect();
    Held { chains, entrances: vec![entrance], ..Held::default() }
}

const NAMED: Named<'static> = Named { host: "sluice", machine: None };
const NOW: fn() -> Time = || Time::from_seconds(1_800_000_000);

#[test]
fn what_leads_on_and_is_not_understood_is_named_itself() {
    let odd = || Test::Opaque("it looks at its mark".into());
    let port = |it: u16| {
        vec![Test::Protocol(RangeSet::single(6)), Test::DestinationPort(RangeSet::single(it))]
    };
    for then in [Then::Return, Then::Jump("t/more".into()), Then::Goto("t/more".into())] {
        let rows = vec![row(vec![odd()], then.clone()), row(port(443), Then::Accept)];
        let more = vec![("t/more".to_owned(), vec![row(port(22), Then::Accept)])];
        let adopted = taken(&inbound(rows, more), NAMED, NOW()).expect("a policy");
        let not: Vec<String> = adopted.not_taken.iter().map(|it| it.place.to_string()).collect();
        assert_eq!(not, ["t/in, rule 1"], "{then:?}");
        let taken: Vec<String> = adopted.taken.iter().map(|it| it.place.to_string()).collect();
        assert_eq!(taken, ["t/in, rule 2"], "{then:?}");
        assert_eq!(adopted.differs, [], "{then:?}");
    }
}

#[test]
fn chains_that_lead_on_again_and_again_come_to_an_end() {
    let chain = |at: usize| format!("t/{at}");
    let more: Vec<(String, Vec<Row>)> = (0..14)
        .map(|at| {
            let leads = (0..8).map(|_| row(Vec::new(), Then::Jump(chain(at + 1))));
            (chain(at), leads.collect())
        })
        .collect();
    let held = inbound(vec![row(Vec::new(), Then::Jump(chain(0)))], more);
    assert!(matches!(taken(&held, NAMED, NOW()), Err(Trouble::TooMany(_))));
}

#[test]
fn sets_of_ports_with_names_become_services() {
    let web = RangeSet::from_ranges([(80u16, 80), (443, 443), (8_000, 8_099)]);
    let one = RangeSet::single(22u16);
    let row =
        |tests: Vec<Test>, then: Then| Row { ways: vec![Way { tests, then }], ..Row::default() };
    let protocol = |number: u8| Test::Protocol(RangeSet::single(number));
    let rows = vec![
        row(vec![protocol(6), Test::DestinationPort(web.clone())], Then::Accept),
        row(vec![protocol(6), Test::DestinationPort(one.clone())], Then::Accept),
        row(vec![protocol(17), Test::DestinationPort(web.clone())], Then::Reject),
    ];
    let held = Held {
        chains: [("t/in".to_owned(), rows)].into(),
        entrances: vec![Entrance {
            direction: Direction::Inbound,
            family: None,
            chain: "t/in".into(),
            passes: false,
        }],
        ports: vec![
            ("any".into(), RangeSet::from_ranges([(1u16, 1), (9, 9)])),
            ("shell".into(), one),
            // A name that is a service's already, and one that nobody could read.
            ("https".into(), web.clone()),
            ("Web \u{202e}Doors".into(), web),
        ],
        ..Held::default()
    };
    let named = Named { host: "sluice", machine: None };
    let adopted = taken(&held, named, Time::from_seconds(1_800_000_000)).expect("a policy");
    assert!(adopted.differs.is_empty() && adopted.not_taken.is_empty(), "{adopted:#?}");
    insta::assert_snapshot!(adopted.policy);
}
