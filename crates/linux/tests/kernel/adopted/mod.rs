//! Rules of others as a policy: what is told of them, and what the kernel does with real packets.

mod asking;
mod generated;
mod older;

use crate::agreement::{do_not_wait_for_nobody, in_the_lab, new_packets, shot};
use crate::translated::parts::{Dice, ENOENT, PORTS};
use crate::world::netfilter;
use std::net::IpAddr;
use tipstaff_core::adopt::{Adopted, Differs, Held, Named, taken};
use tipstaff_core::generate::{NOW, settle};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use tipstaff_linux::foreign::foreign;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Fate, Range};
use tipstaff_linux::{Here, Machine as _, NetlinkSocket, Protocol, deliver};
use tipstaff_wire::nf_tables::{self as nf, Batch, FAMILY_IPV4};

/// For a longer run: how many sets of rules, from which seed on, and how many packets for each.
const LONG: &str = "TIPSTAFF_ADOPTED";
const OWN: [&str; 4] = ["192.0.2.10", "10.44.8.10", "2001:db8:2::10", "fd44:8::10"];
const STRANGERS: [&str; 7] = [
    "198.51.100.7",
    "198.51.100.130",
    "203.0.113.9",
    "203.0.113.230",
    "2001:db8:51::7",
    "2001:db8:bad::9",
    "2001:db8:51::e7",
];
const INSIDE: [&str; 4] = ["10.44.8.20", "10.44.8.30", "fd44:8::20", "fd44:8::30"];

/// A packet that begins something, as a neighbour outside or the host could send it.
fn packet(dice: &mut Dice) -> Packet {
    let direction = dice.of(&Direction::ALL);
    let (from, to): (&[&str], &[&str]) = match direction {
        Direction::Inbound => (&STRANGERS, &OWN),
        Direction::Outbound => (&OWN, &STRANGERS),
        Direction::Forwarded => (&STRANGERS, &INSIDE),
    };
    let source = address(dice.of(from));
    let destination = loop {
        let found = address(dice.of(to));
        if found.is_ipv4() == source.is_ipv4() {
            break found;
        }
    };
    let near = |at: u16, dice: &mut Dice| at.wrapping_add_signed(dice.of(&[-1, 0, 0, 1, 50]));
    let transport = match dice.below(8) {
        0 => {
            let v4 = dice.of(&[8u8, 3, 13, 17, 0, 40]);
            let v6 = dice.of(&[128u8, 1, 133, 3, 200, 129]);
            Transport::Icmp { kind: if source.is_ipv4() { v4 } else { v6 } }
        }
        1 => Transport::Other { protocol: dice.of(&[47, 50, 89]) },
        _ => {
            let protocol = dice.of(&PortProtocol::ALL);
            let destination = near(dice.of(&PORTS), dice).max(1);
            let source = 1_024 + u16::try_from(dice.below(64_000)).expect("small");
            Transport::Ports { protocol, source, destination }
        }
    };
    let is =
        |it: IpAddr| Relation { own: OWN.iter().any(|own| address(own) == it), on_link: false };
    Packet {
        direction,
        in_interface: None,
        out_interface: None,
        source,
        destination,
        transport,
        state: ConnectionState::New,
        program: None,
        user: None,
        asked: None,
        source_is: is(source),
        destination_is: is(destination),
    }
}

/// What somebody who sends it sees.
fn visible(verdict: Verdict, adopted: &Adopted, packet: &Packet) -> Verdict {
    match verdict {
        Verdict::Reject if !adopted.plan.may_answer(packet) => Verdict::Deny,
        verdict => verdict,
    }
}

/// Whether it is named that the policy treats a packet otherwise.
fn is_named(adopted: &Adopted, packet: &Packet) -> bool {
    let Some(theirs) = adopted.theirs.evaluate(packet) else {
        return !adopted.not_taken.is_empty();
    };
    let (theirs, ours) = (theirs.by.to_string(), adopted.plan.evaluate(packet).by.to_string());
    let named =
        |it: &Differs| it.direction == packet.direction && it.theirs == theirs && it.ours == ours;
    adopted.differs.iter().any(named)
}

#[derive(Debug, Default)]
struct Sums {
    packets: usize,
    alike: usize,
    named: usize,
    unknown: usize,
    lost: usize,
    odd: usize,
    owed: usize,
    rules: usize,
    not_taken: usize,
    without_any: usize,
}

/// The policy for what others have, and what became of packets under their rules and is said of them by both. `again`
/// sends one of them once more.
fn tried(
    held: &Held,
    sent: &[(Packet, Fate)],
    mut again: impl FnMut(usize) -> Fate,
    sums: &mut Sums,
    of: &str,
) {
    let mut adopted = taken(held, Named { host: "sluice", machine: None }, NOW)
        .unwrap_or_else(|trouble| panic!("{of}: {trouble:#?}"));
    settle(&mut adopted.plan);
    // Answers have to leave, too.
    let answers_leave = !held.entrances.iter().any(|it| it.direction == Direction::Outbound);
    let met = |fate: Verdict, said: Verdict| {
        fate == said || (!answers_leave && fate == Verdict::Deny && said == Verdict::Reject)
    };
    sums.rules += adopted.taken.len();
    sums.not_taken += adopted.not_taken.len();
    sums.without_any += usize::from(adopted.not_taken.is_empty() && adopted.differs.is_empty());
    for (at, (packet, fate)) in sent.iter().enumerate() {
        let mut fate = match fate {
            Fate::Decided(verdict) => *verdict,
            // It was kept out, and the host answered of itself.
            Fate::StoppedOddly => {
                sums.odd += 1;
                Verdict::Deny
            }
            Fate::Lost => {
                sums.lost += 1;
                continue;
            }
        };
        sums.packets += 1;
        let theirs = adopted.theirs.evaluate(packet);
        if let Some(decided) = &theirs {
            let said = visible(decided.verdict, &adopted, packet);
            // Of many answers in a short time a host may owe one.
            for _ in 0..3 {
                if (fate, said) == (Verdict::Deny, Verdict::Reject) && answers_leave {
                    sums.owed += 1;
                    fate = match again(at) {
                        Fate::Decided(verdict) => verdict,
                        Fate::StoppedOddly | Fate::Lost => fate,
                    };
                }
            }
            assert!(met(fate, said), "{of}: {fate:?}, {decided:?} of {packet:?}\n{held:#?}");
        } else {
            sums.unknown += 1;
        }
        let ours = visible(adopted.plan.evaluate(packet).verdict, &adopted, packet);
        if met(fate, ours) {
            sums.alike += 1;
        } else {
            let decided = adopted.plan.evaluate(packet);
            assert!(
                is_named(&adopted, packet),
                "{of}: {fate:?} by {theirs:?}, and {decided:?} of {packet:?}\n{}\n{:#?}",
                adopted.policy,
                adopted.differs
            );
            sums.named += 1;
        }
    }
}

/// Whether the kernel carries parts in the form of its older packet filter.
fn has_older_forms() -> bool {
    let lab = street_sluice_granary();
    let refused = lab.node("sluice").expect("there").run(|| {
        let mut batch = Batch::begin(1);
        batch.new_table(&nf::Table { name: "older".into(), ..nf::Table::default() });
        let chain = "any".to_owned();
        let table = "older".to_owned();
        batch.new_chain(&nf::Chain {
            table: table.clone(),
            name: chain.clone(),
            ..nf::Chain::default()
        });
        let expressions = older::older_form(&mut Dice(1));
        batch.new_rule(&nf::Rule { table, chain, expressions, ..nf::Rule::default() });
        let mut batch = batch.finish().expect("fits");
        generated::in_family(&mut batch, FAMILY_IPV4);
        deliver(&mut netfilter(), "try", &batch).expect("answered")
    });
    let refused = refused.expect("entered");
    if let [(_, answer), ..] = &refused[..] {
        assert_eq!(answer.errno, ENOENT, "{refused:?}");
        println!("this kernel has no parts in the older form: none are tried");
    }
    refused.is_empty()
}

#[test]
fn a_policy_made_of_others_rules_does_what_they_do() {
    sealed("adopted::a_policy_made_of_others_rules_does_what_they_do", || {
        let long = std::env::var(LONG).ok();
        let numbers: Vec<u64> =
            long.iter().flat_map(|it| it.split(',')).filter_map(|it| it.parse().ok()).collect();
        let (from, sets, packets) = match numbers[..] {
            [from, sets, packets] => (from, sets, usize::try_from(packets).expect("fits")),
            _ => (0, 36, 600),
        };
        let older = has_older_forms();
        let mut sums = Sums::default();
        for seed in from..from + sets {
            let of = format!("seed {seed}");
            let lab = street_sluice_granary();
            let node = |name| lab.node(name).expect("there");
            let (host, street) = (node("sluice"), node("street"));
            do_not_wait_for_nobody(host);
            let found = host
                .run(|| {
                    let all = Here.links().expect("listed");
                    let number =
                        |name: &str| all.iter().find(|it| it.name == name).map_or(1, |it| it.index);
                    let links = ["lo", "eth0", "eth1"].map(|it| (it, number(it)));
                    for batch in generated::tables(seed, seed % 3 == 0, links, older) {
                        let refused = deliver(&mut netfilter(), "try", &batch).expect("answered");
                        assert_eq!(refused, [], "{of}");
                    }
                    foreign(
                        &mut netfilter(),
                        &mut NetlinkSocket::open(Protocol::Route).expect("a socket"),
                    )
                })
                .expect("entered")
                .expect("read");
            assert_eq!(found.beside, [], "{of}");
            let mut dice = Dice(seed + 1_000_000);
            let mut range = Range::open(host, "eth0", street, "eth0").expect("an observer");
            let sent = new_packets(packets, || {
                let packet = in_the_lab(&packet(&mut dice), "eth0");
                Packet { source_is: packet.source_is, ..packet }
            });
            let shots: Vec<_> = sent.iter().map(shot).collect();
            let mut account = range.fire(&shots).expect("packets are sent");
            assert_eq!(account.lost_reports, 0, "{of}");
            for (shot, fate) in shots.iter().zip(&mut account.fates) {
                if *fate == Fate::Lost {
                    *fate = range.fire(&[*shot]).expect("it is sent").fates[0];
                }
            }
            let sent: Vec<(Packet, Fate)> = sent.into_iter().zip(account.fates).collect();
            let again = |at: usize| range.fire(&[shots[at]]).expect("it is sent").fates[0];
            tried(&found.held, &sent, again, &mut sums, &of);
        }
        println!("{sets} sets: {sums:?}");
        assert!(sums.alike > sums.packets * 3 / 4, "{sums:?}");
        assert!(sums.rules > 3 * usize::try_from(sets).expect("small"), "{sums:?}");
        assert!(sums.without_any > usize::try_from(sets).expect("small") / 15, "{sums:?}");
        assert!(sums.lost + sums.odd + sums.owed < sums.packets / 50, "{sums:?}");
    });
}
