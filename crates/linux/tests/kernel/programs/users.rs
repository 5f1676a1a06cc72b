//! Rules for users: with real processes, on the real kernel.

use super::town::{
    HOST, PROTOCOLS, World, any, cut_all, enforce, enforce_to, everywhere, serve, with_world,
};
use crate::actor::Actor;
use crate::world::netfilter;
use std::path::Path;
use tipstaff_linux::programs;
use tipstaff_linux::ruleset::{Whose, release};
use tipstaff_linux::sockets::PortProtocol;

/// Users that no list of a machine has.
const NAMED: &str = "49900";
const OTHER: &str = "49901";

/// A policy with a rule each way for sockets of certain users, and of certain programs.
fn policy(keys: &str) -> String {
    format!(
        "{HOST}[[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp+udp\"]\n{keys}\n\
         [[host.sluice.rule]]\nname = \"orders\"\ndirection = \"outbound\"\n\
         allow = [\"5432-5433/tcp+udp\"]\n{keys}\n"
    )
}

/// Somebody who serves at the port as a user.
fn server(world: &World, program: &Path, user: &str, protocol: &str, family: &str) -> Actor {
    let mut actor = Actor::start(world.sluice(), program);
    actor.tell(&format!("run-as {user}"));
    actor.tell(&format!("make {protocol} {family}"));
    actor.tell(&format!("bind {}", any(family)));
    serve(&mut actor, protocol);
    actor
}

/// Whether a user gets an answer from the street, over every protocol.
fn gets_out(world: &World, program: &Path, user: &str) -> bool {
    let mut actor = Actor::start(world.sluice(), program);
    actor.tell(&format!("run-as {user}"));
    let mut found = PROTOCOLS.map(|(protocol, _)| {
        actor.tell(&format!("make {protocol} 4"));
        let tried = match protocol {
            "udp" => actor.ask("ask 192.0.2.1:5432") == "heard",
            _ => actor.ask("connect 192.0.2.1:5432") == "ok",
        };
        actor.tell(&format!("make {protocol} 6"));
        let tried_v6 = match protocol {
            "udp" => actor.ask("ask [2001:db8:2::1]:5433") == "heard",
            _ => actor.ask("connect [2001:db8:2::1]:5433") == "ok",
        };
        assert_eq!(tried, tried_v6, "{protocol}");
        tried
    });
    found.sort_unstable();
    assert_eq!(found[0], found[1], "over every protocol the same");
    found[0]
}

#[test]
fn only_sockets_of_the_named_user_are_reached_and_get_out() {
    with_world("users::only_sockets_of_the_named_user_are_reached_and_get_out", |world| {
        let seedbase = world.shelf.program("seedbase");
        world.run(|| enforce(&policy(&format!("user = \"{NAMED}\""))));
        everywhere(|protocol, kind, family, host| {
            for (user, expected) in [(OTHER, false), ("0", false), (NAMED, true)] {
                let mut server = server(world, &seedbase, user, protocol, family);
                assert_eq!(world.reaches(kind, host), expected, "{user} {protocol} {host}");
                if expected && protocol == "tcp" {
                    assert_eq!(server.ask("take"), "0x01000000", "what is accepted is theirs too");
                }
            }
        });
        for (user, expected) in [(OTHER, false), ("0", false), (NAMED, true)] {
            assert_eq!(gets_out(world, &seedbase, user), expected, "{user}");
        }
    });
}

#[test]
fn a_program_and_a_user_are_both_asked_for() {
    with_world("users::a_program_and_a_user_are_both_asked_for", |world| {
        let [seedbase, impostor] = ["seedbase", "impostor"].map(|it| world.shelf.program(it));
        let both = format!("program = \"{}\"\nuser = [\"{NAMED}\", \"49905\"]", seedbase.display());
        world.run(|| enforce(&policy(&both)));
        everywhere(|protocol, kind, family, host| {
            for (program, user, expected) in [
                (&seedbase, OTHER, false),
                (&impostor, NAMED, false),
                (&seedbase, "49905", true),
                (&seedbase, NAMED, true),
            ] {
                let _server = server(world, program, user, protocol, family);
                let what = format!("{program:?} {user} {protocol} {host}");
                assert_eq!(world.reaches(kind, host), expected, "{what}");
            }
        });
        // A rule for the program alone lets everybody run it, one for the user alone everything.
        for (keys, expected) in [
            (format!("program = \"{}\"", seedbase.display()), [true, true, false, false]),
            (format!("user = \"{NAMED}\""), [true, false, true, false]),
        ] {
            let text = policy(&both).replace("5432-5433", "7432").replace("5432", "7432")
                + &policy(&keys)[HOST.len()..];
            let text =
                text.replacen("\"seeds\"", "\"first\"", 1).replacen("\"orders\"", "\"second\"", 1);
            world.run(|| enforce(&text));
            let tried =
                [(&seedbase, NAMED), (&seedbase, OTHER), (&impostor, NAMED), (&impostor, OTHER)];
            for ((program, user), expected) in tried.into_iter().zip(expected) {
                let _server = server(world, program, user, "tcp", "4");
                let what = format!("{program:?} {user} with {keys}");
                assert_eq!(world.reaches(PortProtocol::Tcp, "192.0.2.10"), expected, "{what}");
            }
        }
    });
}

#[test]
fn sockets_of_users_made_before_are_recognised_and_given_up() {
    with_world("users::sockets_of_users_made_before_are_recognised_and_given_up", |world| {
        let seedbase = world.shelf.program("seedbase");
        for (user, expected) in [(OTHER, false), (NAMED, true)] {
            let mut early = server(world, &seedbase, user, "tcp", "4");
            assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"), "nothing is enforced yet");
            let snapshot = world.run(|| enforce(&policy(&format!("user = \"{NAMED}\""))));
            world.run(cut_all);
            assert_eq!(world.reaches(PortProtocol::Tcp, "192.0.2.10"), expected, "{user}");
            let named = Whose { user: Some(NAMED.into()), program: None };
            let marked = early.ask("read-mark");
            let number = u32::from_str_radix(marked.trim_start_matches("0x"), 16).expect("a mark");
            let whose = snapshot.marks.whose(number);
            assert_eq!(whose, if expected { named } else { Whose::default() });
            world.run(|| {
                assert!(release(&mut netfilter()).expect("released"));
                programs::clear().expect("cleared");
            });
            assert_eq!(early.ask("read-mark"), "0x00000000");
        }
    });
}

#[test]
fn a_socket_stays_its_makers_when_the_process_becomes_another_user() {
    let name = "users::a_socket_stays_its_makers_when_the_process_becomes_another_user";
    with_world(name, |world| {
        let seedbase = world.shelf.program("seedbase");
        world.run(|| enforce(&policy(&format!("user = \"{NAMED}\""))));
        // Made and bound as root, served as the named user: it is root's, whom no rule names, until the
        // named one asks for its name.
        let mut daemon = Actor::start(world.sluice(), &seedbase);
        daemon.tell("make tcp 4");
        daemon.tell("bind 0.0.0.0:5432");
        daemon.tell("listen");
        daemon.tell(&format!("act-as {NAMED}"));
        assert!(!world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        daemon.tell("name");
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
        drop(daemon);
        // What the named user made stays theirs in others' hands.
        let mut handed = server(world, &seedbase, NAMED, "tcp", "4");
        handed.tell("name");
        assert!(world.reaches(PortProtocol::Tcp, "192.0.2.10"));
    });
}

#[test]
fn users_come_and_go_without_a_moment_in_which_one_is_another() {
    let name = "users::users_come_and_go_without_a_moment_in_which_one_is_another";
    with_world(name, |world| {
        let seedbase = world.shelf.program("seedbase");
        let path = seedbase.display();
        let steps = [
            (format!("program = \"{path}\""), [true, true]),
            (format!("program = \"{path}\"\nuser = \"{NAMED}\""), [true, false]),
            (format!("user = \"{OTHER}\""), [false, true]),
            (format!("user = [\"{NAMED}\", \"{OTHER}\"]"), [true, true]),
            (format!("user = \"{NAMED}\""), [true, false]),
        ];
        let mut waiting = [NAMED, OTHER].map(|it| {
            let mut actor = Actor::start(world.sluice(), &seedbase);
            actor.tell(&format!("run-as {it}"));
            actor
        });
        for (keys, expected) in steps {
            let snapshot = world.run(|| enforce(&policy(&keys)));
            assert!(snapshot.strays.is_empty());
            for (actor, expected) in waiting.iter_mut().zip(expected) {
                actor.tell("make udp 4");
                let heard = actor.ask("ask 192.0.2.1:5432") == "heard";
                assert_eq!(heard, expected, "{keys}");
            }
        }
        world.run(|| {
            assert!(release(&mut netfilter()).expect("released"));
            programs::clear().expect("cleared");
        });
    });
}

#[test]
fn numbers_that_old_rules_still_compare_with_are_not_given_away() {
    let name = "users::numbers_that_old_rules_still_compare_with_are_not_given_away";
    with_world(name, |world| {
        let users = |from: u32, count: u32| {
            let list: Vec<String> = (from..from + count).map(|it| format!("\"{it}\"")).collect();
            policy(&format!("user = [{}]", list.join(", ")))
        };
        world.run(|| enforce(&users(50_000, 200)));
        let refused = world.run(|| enforce_to(&mut netfilter(), &users(60_000, 100)));
        let words = refused.expect_err("too many together").to_string();
        assert!(words.contains("the rules in force and the new ones together"), "{words}");
        let refused = world.run(|| enforce_to(&mut netfilter(), &users(60_000, 255)));
        let words = refused.expect_err("too many").to_string();
        assert!(words.contains("the rules name more programs and users"), "{words}");
        // The way that is told.
        world.run(|| enforce(&users(50_000, 100)));
        world.run(|| enforce(&users(60_000, 100)));
    });
}
