//! Rules for programs: with real programs, on the real kernel.

mod flows;
mod marks;
mod town;
mod users;

use crate::actor::{Actor, short_life};
use crate::world::{listen_to_reports, netfilter, reported};
use std::collections::BTreeSet;
use std::fs;
use std::net::{SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tipstaff_linux::lab::testing::address;
use tipstaff_linux::probe::State;
use tipstaff_linux::programs::{self, Demand, prepare};
use tipstaff_linux::ruleset::{read, release};
use tipstaff_linux::sockets::PortProtocol;
use town::{HOST, World, any, cut_all, enforce, everywhere, policy, serve, server, with_world};

#[test]
fn the_named_program_is_reachable_and_no_other() {
    with_world("the_named_program_is_reachable_and_no_other", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        world.run(|| enforce(&policy(&seedbase)));
        everywhere(|protocol, kind, family, host| {
            for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                let mut server = server(world, program, protocol, family);
                let what = format!("{program:?} {protocol} {host}");
                assert_eq!(world.reaches(kind, host), expected, "{what}");
                if expected && protocol == "tcp" {
                    assert_eq!(server.ask("take"), "0x01000000", "what is accepted is its too");
                }
            }
        });
    });
}

#[test]
fn whatever_a_rule_says_it_says_of_its_program() {
    with_world("whatever_a_rule_says_it_says_of_its_program", |world| {
        let [seedbase, impostor, ledgerd] =
            ["seedbase", "impostor", "ledgerd"].map(|it| world.shelf.program(it));
        let rule = |name: &str, rest: &str, program: &Path| {
            let program = program.display();
            format!("[[host.sluice.rule]]\nname = \"{name}\"\n{rest}\nprogram = \"{program}\"\n")
        };
        let text = [
            HOST.to_owned(),
            rule("answered", "reject = [\"5432/tcp\"]", &impostor),
            rule("silent", "deny = [\"5432/udp\"]", &impostor),
            rule("few", "allow = [\"5432/udp\"]\nrate = \"2/hour\"", &seedbase),
            rule("told", "allow = [\"5432/tcp\"]\nlog = true", &seedbase),
            rule("kept-in", "direction = \"outbound\"\nreject = [\"5432/tcp\"]", &impostor),
            "[[host.sluice.rule]]\nname = \"rest\"\nallow = [\"5432/tcp+udp\"]\n\
             [[host.sluice.rule]]\nname = \"out\"\ndirection = \"outbound\"\n\
             allow = [\"5432/tcp\"]\n"
                .to_owned(),
        ];
        world.run(|| enforce(&text.concat()));
        let mut reports = world.run(listen_to_reports);
        let mut sees = |program: &Path, protocol: &str, kind| {
            let _server = server(world, program, protocol, "4");
            let seen = world.sees(kind, "192.0.2.10");
            (seen, reported(&mut reports))
        };
        let (tcp, udp) = (PortProtocol::Tcp, PortProtocol::Udp);
        assert_eq!(sees(&impostor, "tcp", tcp).0, State::Refused);
        assert_eq!(sees(&impostor, "udp", udp).0, State::Silent);
        assert_eq!(sees(&seedbase, "tcp", tcp), (State::Open, vec!["told".to_owned()]));
        // Nobody names it: the rules below decide.
        assert_eq!(sees(&ledgerd, "tcp", tcp), (State::Open, Vec::new()));
        assert_eq!(sees(&ledgerd, "udp", udp).0, State::Open);
        let tries = [0; 3].map(|_| sees(&seedbase, "udp", udp).0);
        assert_eq!(tries, [State::Open, State::Open, State::Silent]);
        for (program, expected) in [(&impostor, false), (&ledgerd, true)] {
            let mut actor = Actor::start(world.sluice(), program);
            actor.tell("make tcp 4");
            assert_eq!(actor.ask("connect 192.0.2.1:5432") == "ok", expected, "{program:?}");
        }
    });
}

#[test]
fn sockets_made_before_are_recognised() {
    with_world("sockets_made_before_are_recognised", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        everywhere(|protocol, kind, family, host| {
            for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                let _server = server(world, program, protocol, family);
                assert!(world.reaches(kind, host), "nothing is enforced yet");
                world.run(|| enforce(&policy(&seedbase)));
                // What was let through before would live on as a reply.
                world.run(cut_all);
                let what = format!("{program:?} {protocol} {host}");
                assert_eq!(world.reaches(kind, host), expected, "{what}");
                world.run(|| {
                    assert!(release(&mut netfilter()).expect("released"));
                    programs::clear().expect("cleared");
                });
            }
        });
    });
}

#[test]
fn only_the_named_program_gets_out() {
    with_world("only_the_named_program_gets_out", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        // One has its socket already.
        let mut early = Actor::start(world.sluice(), &seedbase);
        early.tell("make udp 4");
        let text = policy(&seedbase).replace("5432/tcp+udp", "5432-5433/tcp+udp");
        world.run(|| enforce(&text));
        assert_eq!(early.ask("ask 192.0.2.1:5432"), "heard");
        let ends = [("4", "192.0.2.1:5432"), ("6", "[2001:db8:2::1]:5433")];
        for (family, end) in ends {
            for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                let mut actor = Actor::start(world.sluice(), program);
                actor.tell(&format!("make tcp {family}"));
                let connected = actor.ask(&format!("connect {end}")) == "ok";
                assert_eq!(connected, expected, "{program:?} {end}");
                actor.tell(&format!("make udp {family}"));
                let heard = actor.ask(&format!("ask {end}")) == "heard";
                assert_eq!(heard, expected, "{program:?} {end}");
                // The same after it has chosen its partner.
                actor.tell(&format!("make udp {family}"));
                actor.tell(&format!("connect {end}"));
                let heard = actor.ask(&format!("ask {end}")) == "heard";
                assert_eq!(heard, expected, "{program:?} {end}");
            }
        }
    });
}

#[test]
fn sockets_that_are_inherited_belong_to_who_opens_or_takes_them_up() {
    with_world("sockets_that_are_inherited_belong_to_who_opens_or_takes_them_up", |world| {
        let [seedbase, impostor, launcher] =
            ["seedbase", "impostor", "launcher"].map(|it| world.shelf.program(it));
        world.run(|| enforce(&policy(&seedbase)));
        everywhere(|protocol, kind, family, host| {
            for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                // Opened by another, then inherited, as from a service manager.
                let mut actor = server(world, &launcher, protocol, family);
                assert!(!world.reaches(kind, host), "the launcher is not named");
                actor.tell(&format!("become {}", program.display()));
                actor.tell("name");
                serve(&mut actor, protocol);
                assert_eq!(world.reaches(kind, host), expected, "{program:?} {protocol} {host}");
            }
            // Made by the named program, opened by another after it has become that.
            let mut actor = Actor::start(world.sluice(), &seedbase);
            actor.tell(&format!("make {protocol} {family}"));
            actor.tell(&format!("become {}", impostor.display()));
            actor.tell(&format!("bind {}", any(family)));
            serve(&mut actor, protocol);
            assert!(!world.reaches(kind, host), "{protocol} {host}");
        });
    });
}

#[test]
fn sockets_that_are_handed_over_belong_to_who_takes_them_up() {
    with_world("sockets_that_are_handed_over_belong_to_who_takes_them_up", |world| {
        let [seedbase, impostor, launcher] =
            ["seedbase", "impostor", "launcher"].map(|it| world.shelf.program(it));
        let place = world.shelf.path("handover");
        world.run(|| enforce(&policy(&seedbase)));
        everywhere(|protocol, kind, family, host| {
            for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                let _ = fs::remove_file(&place);
                let mut giver = server(world, &launcher, protocol, family);
                let mut taker = Actor::start(world.sluice(), program);
                taker.tell(&format!("await {}", place.display()));
                giver.tell(&format!("hand {}", place.display()));
                taker.answer("ok");
                taker.tell("name");
                serve(&mut taker, protocol);
                drop(giver);
                assert_eq!(world.reaches(kind, host), expected, "{program:?} {protocol} {host}");
            }
        });
        // Who asks for no name, and only waits for connections, is seen when the rules are enforced
        // again.
        let _ = fs::remove_file(&place);
        let mut giver = server(world, &launcher, "tcp", "4");
        let mut taker = Actor::start(world.sluice(), &seedbase);
        taker.tell(&format!("await {}", place.display()));
        giver.tell(&format!("hand {}", place.display()));
        taker.answer("ok");
        taker.tell("accept");
        assert!(!world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        world.run(|| enforce(&policy(&seedbase)));
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
    });
}

#[test]
fn an_upgraded_program_is_recognised_again_and_its_old_process_still() {
    with_world("an_upgraded_program_is_recognised_again_and_its_old_process_still", |world| {
        let seedbase = world.shelf.program("seedbase");
        world.run(|| enforce(&policy(&seedbase)));
        let mut old = server(world, &seedbase, "tcp", "4");
        // As packages are unpacked: beside it, then in its place.
        let new = world.shelf.program("seedbase.new");
        fs::rename(&new, &seedbase).expect("replaced");
        let marks = || read(&mut netfilter()).expect("read").expect("there").marks;
        let state = world.run(|| programs::look(&marks())).expect("looked");
        assert!(!state.files[0].recognised);
        let known: Vec<_> = state.files[0]
            .processes
            .iter()
            .map(|it| (it.pid, it.outdated, it.recognised))
            .collect();
        assert_eq!(known, [(old.pid(), true, true)]);
        let mut young = Actor::start(world.sluice(), &seedbase);
        young.tell("make udp 4");
        young.tell("bind 0.0.0.0:5432");
        young.tell("echo");
        assert!(!world.reaches(PortProtocol::Udp, "192.0.2.10"), "it is another file");
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"), "the old process serves on");

        world.run(|| enforce(&policy(&seedbase)));
        assert!(world.reaches(PortProtocol::Udp, "192.0.2.10"));
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        old.tell("make udp 6");
        old.tell("bind [2001:db8:2::10]:5432");
        old.tell("echo");
        assert!(world.reaches(PortProtocol::Udp, "2001:db8:2::10"), "the old one opens more");
        // When the old process is gone, the old file is forgotten.
        drop(old);
        world.run(|| enforce(&policy(&seedbase)));
        let known = world.run(programs::read).expect("read").expect("there").owners;
        assert_eq!(known.values().filter(|it| !it.may_mark).count(), 1, "{known:?}");
    });
}

#[test]
fn rules_are_replaced_without_a_moment_in_which_a_program_is_another() {
    with_world("rules_are_replaced_without_a_moment_in_which_a_program_is_another", |world| {
        let [seedbase, ledgerd] = ["seedbase", "ledgerd"].map(|it| world.shelf.program(it));
        let (one, other) = (policy(&seedbase), policy(&ledgerd));
        let both = format!(
            "{one}[[host.sluice.rule]]\nname = \"ledger\"\nallow = [\"7001/tcp\"]\nprogram = [\"{}\", \
             \"{}\"]\n",
            ledgerd.display(),
            seedbase.display()
        );
        let mut numbers = Vec::new();
        for text in [&one, &both, &other, &one] {
            let snapshot = world.run(|| enforce(text));
            let numbered = snapshot.marks.numbers();
            numbers.push(numbered.into_values().collect::<Vec<_>>());
        }
        // A number is free only when nothing compares with it any more.
        assert_eq!(numbers, [vec![1], vec![2, 1], vec![2], vec![1]]);
        // Two names of one file are one program, to whichever rule.
        fs::remove_file(&ledgerd).expect("removed");
        std::os::unix::fs::symlink(&seedbase, &ledgerd).expect("linked");
        world.run(|| enforce(&other));
        let one_way = server(world, &seedbase, "tcp", "4");
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        drop(one_way);
        // A name that leads elsewhere now has not been upgraded: who runs the other file is not it.
        let mut left = Actor::start(world.sluice(), &seedbase);
        fs::remove_file(&ledgerd).expect("removed");
        world.shelf.program("ledgerd");
        world.run(|| enforce(&other));
        left.tell("make tcp 4");
        left.tell("bind 0.0.0.0:5432");
        left.tell("listen");
        assert!(!world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        // Other bits must be others altogether.
        let before = world.run(|| read(&mut netfilter())).expect("read").expect("there").marks;
        let lists = before.lists.keys().cloned().collect();
        let demand = Demand { mask: 0x0ff0_0000, lists, sending: false };
        let refused = world.run(|| prepare(&demand, &before)).map(drop);
        let refused = refused.expect_err("some are the same").to_string();
        assert!(refused.contains("0x0ff00000 shares some with 0xff000000"), "{refused}");
    });
}

/// The hooks that are pinned.
fn hooked(world: &World) -> BTreeSet<String> {
    world.run(|| {
        let folders = fs::read_dir("/sys/fs/bpf").expect("mounted").flatten();
        let folders = folders.filter(|it| it.path().is_dir());
        let pins = folders.flat_map(|it| fs::read_dir(it.path()).expect("ours").flatten());
        let names = pins.map(|it| it.file_name().into_string().expect("text"));
        names.filter(|it| it != "programs" && !it.ends_with("-program")).collect()
    })
}

#[test]
fn senders_are_looked_at_only_if_rules_ask_who_sends() {
    with_world("senders_are_looked_at_only_if_rules_ask_who_sends", |world| {
        let seedbase = world.shelf.program("seedbase");
        let program = seedbase.display();
        let both = policy(&seedbase);
        let rule = |which: &str| {
            format!(
                "{HOST}[[host.sluice.rule]]\nname = \"one\"\n{which}\nprogram = \"{program}\"\n"
            )
        };
        let inbound = rule("allow = [\"5432/tcp+udp\"]");
        let streams = rule("allow = [\"5432/tcp\"]\ndirection = \"outbound\"");
        let sending: BTreeSet<String> = ["send-v4", "send-v6"].map(str::to_owned).into();
        for (text, looked_at) in
            [(&inbound, false), (&both, true), (&streams, false), (&both, true), (&inbound, false)]
        {
            world.run(|| enforce(text));
            let found = hooked(world);
            assert!(found.len() >= 8, "{found:?}");
            assert_eq!(sending.is_subset(&found), looked_at, "{found:?}");
            assert_eq!(sending.is_disjoint(&found), !looked_at, "{found:?}");
            // What is not needed is not called missing either.
            let recognition = world.run(programs::read).expect("read").expect("there");
            assert_eq!(recognition.sending, looked_at);
            assert_eq!((recognition.gone.len(), recognition.without.len()), (0, 0));
        }
        // The named program is reachable all the same.
        let server = server(world, &seedbase, "udp", "4");
        assert!(world.reaches(PortProtocol::Udp, "192.0.2.10"));
        drop(server);
    });
}

#[test]
fn of_ten_thousand_short_lived_processes_no_wrong_one_gets_through() {
    with_world("of_ten_thousand_short_lived_processes_no_wrong_one_gets_through", |world| {
        let [seedbase, impostor] = ["seedbase", "impostor"].map(|it| world.shelf.program(it));
        world.run(|| enforce(&policy(&seedbase).replace("5432/", "5440/")));
        // What gets through to the street is counted by who has sent it.
        let street = world.lab.node("street").expect("it");
        let ear = street.run(|| UdpSocket::bind("192.0.2.1:5440")).expect("entered");
        let ear = ear.expect("bound");
        ear.set_read_timeout(Some(Duration::from_millis(500))).expect("set");
        let over = Arc::new(AtomicBool::new(false));
        let heard_all = Arc::clone(&over);
        let listener = std::thread::spawn(move || {
            let (mut bytes, mut right, mut wrong) = ([0; 64], 0_u32, 0_u32);
            loop {
                match ear.recv(&mut bytes) {
                    Ok(length) if bytes[..length] == *b"seedbase" => right += 1,
                    Ok(_) => wrong += 1,
                    Err(_) if heard_all.load(Ordering::SeqCst) => return (right, wrong),
                    Err(_) => {}
                }
            }
        });
        // Every process says at once which program it runs; half of them have run the other one
        // a moment before.
        const EACH: usize = 2_500;
        let end = SocketAddr::new(address("192.0.2.1"), 5440);
        std::thread::scope(|scope| {
            for early in [true, false] {
                let (seedbase, impostor) = (&seedbase, &impostor);
                scope.spawn(move || {
                    world.run(|| {
                        for _ in 0..EACH {
                            for (program, other) in [(seedbase, impostor), (impostor, seedbase)] {
                                if early {
                                    short_life(program, None, end);
                                } else {
                                    short_life(other, Some(program), end);
                                }
                            }
                        }
                    });
                });
            }
        });
        over.store(true, Ordering::SeqCst);
        let (right, wrong) = listener.join().expect("counted");
        assert_eq!(wrong, 0, "{right} right ones");
        // Nothing is lost on the way that was let out, or this would prove little.
        assert_eq!(right, 5_000);
    });
}
