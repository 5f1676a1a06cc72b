//! A compiler with a mistake in it, and whether rehearsals find that.

use crate::world::netfilter;
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::program::{Action, Chain, ProgramRule, RuleProgram, Test, Then, lower};
use tipstaff_core::space::{AddressSet, ConnectionState, RangeSet};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::probe::Sweep;
use tipstaff_linux::ruleset::enforce;

use crate::rehearsing::{Host, POLICY};

/// Finds the first rule that comes in question and breaks it.
fn rule(program: &mut RuleProgram, change: impl FnMut(&mut ProgramRule) -> bool) -> bool {
    inbound(program).flat_map(|chain| &mut chain.rules).any(change)
}

fn inbound(program: &mut RuleProgram) -> impl Iterator<Item = &mut Chain> {
    program.chains.iter_mut().filter(|it| it.name.starts_with("inbound"))
}

fn test(program: &mut RuleProgram, mut change: impl FnMut(&mut Test) -> bool) -> bool {
    rule(program, |rule| {
        rule.id.as_ref().is_some_and(|id| id.kind == tipstaff_core::plan::Kind::Rule)
            && rule.tests.iter_mut().any(&mut change)
    })
}

fn is(rule: &ProgramRule, name: &str) -> bool {
    rule.id.as_ref().is_some_and(|id| id.to_string() == name)
}

fn drop_rule(program: &mut RuleProgram, name: &str) -> bool {
    for chain in inbound(program) {
        let before = chain.rules.len();
        chain.rules.retain(|rule| !is(rule, name));
        if chain.rules.len() < before {
            return true;
        }
    }
    false
}

fn drop_test(program: &mut RuleProgram, name: &str, which: fn(&Test) -> bool) -> bool {
    rule(program, |rule| {
        let before = rule.tests.len();
        if is(rule, name) {
            rule.tests.retain(|it| !which(it));
        }
        rule.tests.len() < before
    })
}

fn entries(
    program: &mut RuleProgram,
    mut change: impl FnMut(&mut Vec<tipstaff_core::program::Entry>) -> bool,
) -> bool {
    rule(program, |rule| match &mut rule.action {
        Action::Choose(lookup) => change(&mut lookup.entries),
        _ => false,
    })
}

fn becomes(program: &mut RuleProgram, name: &str, action: &Action) -> bool {
    let mut any = false;
    for chain in inbound(program) {
        for rule in chain.rules.iter_mut().filter(|it| is(it, name) && it.action != *action) {
            rule.action = action.clone();
            any = true;
        }
    }
    any
}

type Break = fn(&mut RuleProgram) -> bool;

/// What a compiler could get wrong.
const BREAKS: &[(&str, Break)] = &[
    ("an allowance denies", |it| becomes(it, "shell", &Action::Deny)),
    ("a denial allows", |it| {
        becomes(it, "nuisance", &Action::Allow) || becomes(it, "mail", &Action::Allow)
    }),
    ("a refusal is silent", |it| becomes(it, "refused", &Action::Deny)),
    ("a refusal allows", |it| becomes(it, "refused", &Action::Allow)),
    ("a denial answers", |it| becomes(it, "mail", &Action::Reset)),
    ("a rule is missing", |it| drop_rule(it, "shell")),
    ("the baseline is missing", |it| drop_rule(it, "baseline/neighbours")),
    ("pings are forgotten", |it| becomes(it, "baseline/ping", &Action::Allow)),
    ("the default is missing", |it| becomes(it, "default/inbound", &Action::Allow)),
    ("the sender is not looked at", |it| {
        drop_test(it, "shell", |test| matches!(test, Test::Source(_)))
    }),
    ("the receiver is not looked at", |it| {
        drop_test(it, "inner", |test| matches!(test, Test::Destination(_)))
    }),
    ("the interface is not looked at", |it| {
        drop_test(it, "shell", |test| matches!(test, Test::InInterface(_)))
    }),
    ("the source port is not looked at", |it| {
        drop_test(it, "clock", |test| matches!(test, Test::SourcePort(_)))
    }),
    ("the port is not looked at", |it| {
        drop_test(it, "clock", |test| matches!(test, Test::DestinationPort(_)))
    }),
    ("the protocol is not looked at", |it| {
        rule(it, |rule| {
            match rule.tests.iter_mut().find(
                |it| matches!(it, Test::Protocol(set) if set.contains(6) && !set.contains(17)),
            ) {
                Some(test) if rule.id.is_some() => {
                    *test = Test::Protocol(RangeSet::from_ranges([(6, 6), (17, 17)]));
                    true
                }
                _ => false,
            }
        })
    }),
    ("the connection state is not looked at", |it| {
        drop_test(it, "baseline/invalid", |test| matches!(test, Test::State(_)))
    }),
    ("replies are everything", |it| {
        rule(it, |rule| {
            is(rule, "baseline/replies")
                && rule.tests.iter_mut().any(|test| match test {
                    Test::State(states) => {
                        *states = states
                            .union(tipstaff_core::space::StateSet::of(&[ConnectionState::New]));
                        true
                    }
                    _ => false,
                })
        })
    }),
    ("an interface is turned round", |it| {
        test(it, |test| match test {
            Test::InInterface(InterfaceTest::Is(name)) => {
                *test = Test::InInterface(InterfaceTest::IsNot(name.clone()));
                true
            }
            _ => false,
        })
    }),
    ("the wrong interface", |it| {
        test(it, |test| match test {
            Test::InInterface(InterfaceTest::Is(name)) if name == "eth0" => {
                *test = Test::InInterface(InterfaceTest::Is("eth1".into()));
                true
            }
            _ => false,
        })
    }),
    ("one port too many", |it| {
        test(it, |test| match test {
            Test::DestinationPort(ports) if !ports.is_full() => {
                *ports = ports.union(&next(ports));
                true
            }
            _ => false,
        })
    }),
    ("a port is off by one", |it| {
        test(it, |test| match test {
            Test::DestinationPort(ports) if !ports.is_full() => {
                *ports = next(ports);
                true
            }
            _ => false,
        })
    }),
    ("a network is too wide", |it| {
        test(it, |test| match test {
            Test::Source(set) if !set.v4.is_empty() && !set.is_full() => {
                *set = AddressSet { v4: RangeSet::full(), v6: RangeSet::empty() };
                true
            }
            _ => false,
        })
    }),
    ("IPv6 is forgotten", |it| {
        let mut any = false;
        for chain in inbound(it) {
            let before = chain.rules.len();
            chain.rules.retain(|rule| {
                !(is(rule, "shell")
                    && rule
                        .tests
                        .iter()
                        .any(|test| matches!(test, Test::Source(set) if !set.v6.is_empty())))
            });
            any |= chain.rules.len() < before;
        }
        any
    }),
    ("an ICMP type is off by one", |it| {
        test(it, |test| match test {
            Test::IcmpType(types) => {
                *types = RangeSet::from_ranges(
                    types.ranges().iter().map(|&(first, last)| (first + 1, last + 1)),
                );
                true
            }
            _ => false,
        })
    }),
    ("two rules change places", |it| {
        for chain in inbound(it) {
            let first = chain.rules.iter().position(|rule| is(rule, "nuisance"));
            if let Some(first) = first {
                let rule = chain.rules.remove(first);
                let end = chain.rules.len().saturating_sub(1);
                chain.rules.insert(end, rule);
                return true;
            }
        }
        false
    }),
    ("an entry of a lookup is missing", |it| entries(it, |entries| entries.pop().is_some())),
    ("an entry of a lookup says the opposite", |it| {
        entries(it, |entries| {
            entries.iter_mut().any(|entry| match &entry.then {
                Then::Allow(id) => {
                    entry.then = Then::Deny(id.clone());
                    true
                }
                Then::Deny(id) => {
                    entry.then = Then::Allow(id.clone());
                    true
                }
                _ => false,
            })
        })
    }),
    ("an entry of a lookup is about another port", |it| {
        entries(it, |entries| match entries.first_mut() {
            Some(entry) => {
                entry.first.1 -= 1;
                entry.last.1 -= 1;
                true
            }
            None => false,
        })
    }),
    ("the first entry of a lookup denies", |it| {
        entries(it, |entries| match entries.first_mut() {
            Some(entry) => {
                entry.then = Then::Deny(tipstaff_core::plan::RuleId::rule("one"));
                true
            }
            None => false,
        })
    }),
];

fn next(ports: &RangeSet<u16>) -> RangeSet<u16> {
    RangeSet::from_ranges(
        ports
            .ranges()
            .iter()
            .map(|&(first, last)| (first.saturating_add(1), last.saturating_add(1))),
    )
}

#[test]
fn a_broken_compiler_is_found_out_every_time() {
    sealed("breaking::a_broken_compiler_is_found_out_every_time", || {
        let host = Host::of(POLICY);
        let sound = lower(&host.plan);
        let mut kinds = 0;
        for (kind, change) in BREAKS {
            let mut broken = sound.clone();
            assert!(change(&mut broken), "`{kind}` found nothing to break");
            assert_ne!(sound, broken, "{kind}");
            // Built anew, so that nothing of an earlier attempt lingers.
            let stage = host.stage();
            stage
                .host()
                .run(|| {
                    enforce(&mut netfilter(), "sluice", &broken)
                        .unwrap_or_else(|error| panic!("{kind}: {error}"))
                })
                .expect("entered");
            let mut sweep = Sweep::open(&stage, false).expect("an observer");
            let outcome = host.rehearse(&mut sweep, &|stand| host.telling(stand));
            let Some((packet, by, met)) = outcome.witnesses.first() else {
                panic!("`{kind}` was not found out in {} packets", outcome.tried);
            };
            println!(
                "{kind}: {:?} from {} was {met:?}, though `{by}` decides",
                packet.transport, packet.source
            );
            kinds += 1;
        }
        assert!(kinds >= 20, "{kinds}");
    });
}
