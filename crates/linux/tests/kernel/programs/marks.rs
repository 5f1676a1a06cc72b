//! Nothing gives a socket the mark of a program that never had it.

use super::town::{enforce, policy, server, with_world};
use crate::actor::Actor;
use crate::world::netfilter;
use std::collections::BTreeSet;
use std::fs;
use tipstaff_linux::programs;
use tipstaff_linux::ruleset::release;
use tipstaff_linux::sockets::PortProtocol;

#[test]
fn marks_of_others_are_left_alone_and_ours_cannot_be_had() {
    with_world("marks::marks_of_others_are_left_alone_and_ours_cannot_be_had", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        let mut early = Actor::start(world.sluice(), &seedbase);
        early.tell("make tcp 6");
        early.tell("bind [2001:db8:2::10]:5432");
        early.tell("listen");
        early.tell("mark 51820");
        world.run(|| enforce(&policy(&seedbase)));
        assert_eq!(early.ask("read-mark"), "0x0100ca6c", "the other bits stay");
        assert!(world.reaches(PortProtocol::Tcp, "2001:db8:2::10"));
        let mut server = server(world, &seedbase, "tcp", "4");
        server.tell("mark 51820");
        assert_eq!(server.ask("read-mark"), "0x0100ca6c", "ours stay");
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        drop(server);
        let mut liar = Actor::start(world.sluice(), &impostor);
        liar.tell("make tcp 4");
        liar.tell(&format!("mark {}", 0x0100_ca6c));
        assert_eq!(liar.ask("read-mark"), "0x0000ca6c");
        liar.tell("bind 0.0.0.0:5432");
        liar.tell("listen");
        assert!(!world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        // Afterwards nothing of ours is left.
        world.run(|| {
            assert!(release(&mut netfilter()).expect("released"));
            programs::clear().expect("cleared");
            assert_eq!(programs::read().expect("read"), None);
        });
        assert_eq!(early.ask("read-mark"), "0x0000ca6c");
        liar.tell(&format!("mark {}", 0x0100_0000));
        assert_eq!(liar.ask("read-mark"), "0x01000000");
    });
}

#[test]
fn what_is_taken_away_writes_no_more_marks() {
    with_world("marks::what_is_taken_away_writes_no_more_marks", |world| {
        let seedbase = world.shelf.program("seedbase");
        let mut actor = Actor::start(world.sluice(), &seedbase);
        let mut marks = |expected: &str, round: usize| {
            for _ in 0..20 {
                actor.tell("make udp 4");
                assert_eq!(actor.ask("read-mark"), expected, "round {round}");
            }
        };
        for round in 0..10 {
            world.run(|| enforce(&policy(&seedbase)));
            marks("0x01000000", round);
            world.run(|| {
                assert!(release(&mut netfilter()).expect("released"));
                programs::clear().expect("cleared");
            });
            marks("0x00000000", round);
        }
    });
}

#[test]
fn no_length_of_an_option_gives_the_named_programs_mark() {
    with_world("marks::no_length_of_an_option_gives_the_named_programs_mark", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        // Two namespaces with hooks of their own, whichever runs first.
        let granary = world.lab.node("granary").expect("it");
        for first_here in [true, false] {
            if first_here {
                world.run(|| enforce(&policy(&seedbase)));
                granary.run(|| enforce(&policy(&seedbase))).expect("entered");
            } else {
                granary.run(|| enforce(&policy(&seedbase))).expect("entered");
                world.run(|| enforce(&policy(&seedbase)));
            }
            let page = rustix::param::page_size();
            let mut liar = Actor::start(world.sluice(), &impostor);
            for length in [4, 5, 8, 64, page - 1, page, page + 1, 2 * page, 16 * page] {
                liar.tell("make udp 4");
                liar.tell(&format!("mark {} of {length}", 0x0100_ca6c));
                assert_eq!(liar.ask("read-mark"), "0x0000ca6c", "{length} bytes");
            }
            world.run(|| {
                release(&mut netfilter()).expect("released");
                programs::clear().expect("cleared");
            });
            let clear = || {
                release(&mut netfilter()).expect("released");
                programs::clear().expect("cleared");
            };
            granary.run(clear).expect("entered");
        }
    });
}

/// `SOCKET_URING_OP_SETSOCKOPT` came with Linux 6.7.
fn sets_options_by_ring() -> bool {
    let release = rustix::system::uname().release().to_string_lossy().into_owned();
    let mut numbers = release.split('.').map(|it| it.parse::<u32>().unwrap_or_default());
    (numbers.next().unwrap_or_default(), numbers.next().unwrap_or_default()) >= (6, 7)
}

#[test]
fn no_ring_of_calls_gives_the_named_programs_mark() {
    with_world("marks::no_ring_of_calls_gives_the_named_programs_mark", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        world.run(|| enforce(&policy(&seedbase)));
        let mut named = Actor::start(world.sluice(), &seedbase);
        let mut liar = Actor::start(world.sluice(), &impostor);
        for made in ["udp 4", "tcp 4", "udp 6", "tcp 6"] {
            named.tell(&format!("make-by-ring {made}"));
            assert_eq!(named.ask("read-mark"), "0x01000000", "{made}: it is the program's");
            liar.tell(&format!("make-by-ring {made}"));
            assert_eq!(liar.ask("read-mark"), "0x00000000", "{made}: it is nobody's");
            let said = liar.ask(&format!("mark-by-ring {}", 0x0100_ca6c));
            let mark = liar.ask("read-mark");
            if sets_options_by_ring() {
                assert_eq!((&*said, &*mark), ("ok", "0x0000ca6c"), "{made}: ours cannot be had");
            } else {
                assert!(said.contains("os error 95"), "{said}");
                assert_eq!(mark, "0x00000000", "{made}: nothing can be had that way");
            }
        }
        liar.tell("make-by-ring tcp 4");
        liar.tell("bind 0.0.0.0:5432");
        liar.tell("listen");
        assert!(!world.reaches(PortProtocol::Tcp, "192.0.2.10"));
    });
}

#[test]
fn what_a_namespace_leaves_behind_is_taken_away() {
    with_world("marks::what_a_namespace_leaves_behind_is_taken_away", |world| {
        let seedbase = world.shelf.program("seedbase");
        let folders = || -> BTreeSet<String> {
            let entries = fs::read_dir("/sys/fs/bpf").expect("a folder").flatten();
            let names = entries.map(|it| it.file_name().to_string_lossy().into_owned());
            names.filter(|it| it.starts_with("tipstaff-")).collect()
        };
        let gone = tipstaff_linux::Namespace::create().expect("made");
        gone.run(|| enforce(&policy(&seedbase))).expect("entered");
        let left = folders();
        assert_eq!(left.len(), 1);
        // While it is there, others leave it alone.
        world.run(|| enforce(&policy(&seedbase)));
        assert_eq!(folders().len(), 2);
        drop(gone);
        world.run(|| enforce(&policy(&seedbase)));
        let now = folders();
        assert_eq!(now.len(), 1, "{now:?}");
        assert!(now.is_disjoint(&left));
        let mut liar = Actor::start(world.sluice(), &world.shelf.program("impostor"));
        liar.tell("make udp 4");
        liar.tell(&format!("mark {}", 0x0100_ca6c));
        assert_eq!(liar.ask("read-mark"), "0x0000ca6c");
    });
}
