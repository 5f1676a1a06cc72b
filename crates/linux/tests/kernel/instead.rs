//! Other rules instead of those in force, whatever both are.

use crate::by_parts::Ended;
use crate::world::{listed, netfilter, plan};
use std::collections::HashSet;
use tipstaff_core::generate::Generator;
use tipstaff_core::policy::{Level, Logging, Record, Taken, Time};
use tipstaff_core::program::{RuleProgram, compare, lower};
use tipstaff_linux::NetlinkSocket;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::{Marks, Tally, enforce, enforce_at, generation, read, taken};
use tipstaff_wire::nf_tables::{self as nf, message_kind};

/// A policy's rules, with or without a record, reports and a posture.
fn any(seed: u64) -> RuleProgram {
    let program = lower(&plan(&Generator::new(seed).policy()));
    let record =
        [None, Some(false), Some(true), Some(true)][usize::try_from(seed % 4).expect("small")];
    let record = record.map(|admitted| Record { admitted, ..Record::USUAL });
    let level =
        [Level::Nothing, Level::Denied, Level::All][usize::try_from(seed % 3).expect("small")];
    let logging = program.logging.map(|it| Logging { level, ..it });
    let posture = Taken {
        name: "sealed".into(),
        since: Time::from_seconds(1_800_000_000),
        until: None,
        why: format!("seed {seed}"),
        then: None,
    };
    let admitting =
        if record.is_some_and(|it| it.admitted) { program.admitting } else { Vec::new() };
    RuleProgram {
        record,
        logging,
        admitting,
        taken: seed.is_multiple_of(5).then_some(posture),
        ..program
    }
}

fn now(socket: &mut NetlinkSocket) -> u32 {
    generation(socket).expect("a number")
}

/// The names of chains and sets in our table; what takes the place of another has another name.
fn names(socket: &mut NetlinkSocket) -> HashSet<String> {
    let chains = listed(socket, message_kind::GET_CHAIN, nf::Chain::decode);
    let sets = listed(socket, message_kind::GET_SET, nf::Set::decode);
    let sets = sets.into_iter().map(|it| format!("set {}", it.name.trim_end_matches('~')));
    chains.into_iter().map(|it| it.name).chain(sets).collect()
}

/// Puts it in the place of what is there, and holds what there is then against what all of it is, loaded at once.
fn replaced(socket: &mut NetlinkSocket, program: &RuleProgram, what: &str) {
    let held = read(socket).expect("read").expect("our table");
    let at = now(socket);
    let meant = ("sluice", program, &Marks::default());
    enforce_at(socket, Some(&held), meant, at, &held.tallies)
        .unwrap_or_else(|error| panic!("{what}: {error}"));
    assert_eq!(now(socket), at + 2, "{what}: old lookups go later");
    is_there(socket, program, what);
}

fn is_there(socket: &mut NetlinkSocket, program: &RuleProgram, what: &str) {
    let found = read(socket).expect("read").expect("our table");
    assert!(found.program == *program, "{what}: {:#?}", compare(program, &found.program));
    assert_eq!(found.host, "sluice", "{what}");
    let posture = taken(socket).expect("read");
    assert_eq!(posture, program.taken.clone().map(|it| ("sluice".to_owned(), it)), "{what}");
}

#[test]
fn any_rules_take_the_place_of_any_others() {
    sealed("instead::any_rules_take_the_place_of_any_others", || {
        let socket = &mut netfilter();
        enforce(socket, "sluice", &any(8_999)).expect("enforced");
        // Programs have numbers of their own.
        let alike = (9_000..9_300).filter(|seed| any(*seed).owner_lists().is_empty());
        for seed in alike.take(150) {
            let (program, what) = (any(seed), format!("seed {seed}"));
            replaced(socket, &program, &what);
            let left = names(socket);
            enforce(socket, "sluice", &program).expect("enforced");
            assert_eq!(left, names(socket), "{what}: something was left");
        }
    });
}

/// Whoever is killed before what is not needed any more is taken out has replaced the rules, and nothing that is left is
/// taken for one; the next replacement takes it out.
#[test]
fn a_replacement_that_is_ended_midway_is_one() {
    sealed("instead::a_replacement_that_is_ended_midway_is_one", || {
        let socket = &mut netfilter();
        let all = || (9_500..9_800).map(any).filter(|it| it.owner_lists().is_empty());
        enforce(socket, "sluice", &all().next().expect("one")).expect("enforced");
        for (number, (program, next)) in all().zip(all().skip(1)).take(40).enumerate() {
            let what = format!("number {number}");
            let held = read(socket).expect("read").expect("our table");
            let mut ended = Ended(netfilter(), 0);
            let meant = ("sluice", &program, &held.marks);
            let at = now(socket);
            let counted: &[Tally] = &held.tallies;
            let done = enforce_at(&mut ended, Some(&held), meant, at, counted);
            assert!(done.is_err(), "{what}");
            is_there(socket, &program, &what);
            let held = read(socket).expect("read").expect("our table");
            let at = now(socket);
            let meant = ("sluice", &next, &held.marks);
            enforce_at(socket, Some(&held), meant, at, &held.tallies).expect("enforced");
            is_there(socket, &next, &what);
            let left = names(socket);
            enforce(socket, "sluice", &next).expect("enforced");
            assert_eq!(left, names(socket), "{what}: something was left");
        }
    });
}
