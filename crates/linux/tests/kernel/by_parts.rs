//! From one list of rules to another by what differs.

use crate::world::{listed, netfilter, plan};
use std::collections::{BTreeMap, HashSet};
use std::net::UdpSocket;
use std::time::Duration;
use tipstaff_core::generate::Generator;
use tipstaff_core::policy::{self, Level, Logging, Record, Source};
use tipstaff_core::program::{Chain, RuleProgram, compare, lower};
use tipstaff_core::space::Direction;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{Marks, TABLE, Tally, change, enforce, generation, read};
use tipstaff_linux::{LinuxError, NetlinkSocket, Transport, deliver};
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{self as nf, message_kind};

/// All rules of our table: of which chain, and their handles.
fn handles(socket: &mut NetlinkSocket) -> HashSet<(String, u64)> {
    let rules = listed(socket, message_kind::GET_RULE, nf::Rule::decode);
    rules.into_iter().map(|it| (it.chain, it.handle.expect("it has one"))).collect()
}

/// One rule less, one more, or one that stands elsewhere; what is left can be read.
fn edited(text: &str, generator: &mut Generator) -> String {
    let mut tries = (0..100).map(|_| edited_somehow(text, generator));
    let can_be_read = |it: &String| policy::read(&Source::new("policy.toml", it)).is_ok();
    tries.find(can_be_read).expect("one of a hundred")
}

fn edited_somehow(text: &str, generator: &mut Generator) -> String {
    let mut blocks: Vec<&str> = text.split("\n[[").collect();
    let rules: Vec<usize> =
        (0..blocks.len()).filter(|&at| blocks[at].starts_with("host.sluice.rule")).collect();
    let at = rules[generator.below(rules.len())];
    let to = rules[generator.below(rules.len())];
    let block = blocks[at];
    let another = block.replacen("name = \"", "name = \"other-", 1);
    match generator.below(4) {
        0 => _ = blocks.remove(at),
        1 => blocks.insert(to, &another),
        2 => {
            blocks.remove(at);
            blocks.insert(to, block);
        }
        _ => blocks[at] = &another,
    }
    blocks.join("\n[[")
}

/// Goes from what is there to `program` by parts, and holds what comes of it against what all of it would be, loaded
/// anew. Gives whether it was done by parts.
fn go(socket: &mut NetlinkSocket, program: &RuleProgram, what: &str) -> bool {
    let held = read(socket).expect("read").expect("our table");
    let at = generation(socket).expect("a number");
    let meant = ("sluice", program, &held.marks);
    let done = change(socket, &held, meant, at, &[]);
    let done = done.unwrap_or_else(|error| panic!("{what}: {error}"));
    let found = read(socket).expect("read").expect("our table");
    let now = generation(socket).expect("a number");
    assert!(now == at || done && now <= at + 2, "{what}");
    if !done {
        assert!(found.program == held.program, "{what}: something was done");
        enforce(socket, "sluice", program).unwrap_or_else(|error| panic!("{what}: {error}"));
        return false;
    }
    assert!(found.program == *program, "{what}: {:#?}", compare(program, &found.program));
    true
}

/// Whatever is edited: what comes of it is what the whole policy would be. What is left alone is not touched, in long
/// lists nearly all.
#[test]
fn edits_change_what_differs_and_nothing_else() {
    sealed("by_parts::edits_change_what_differs_and_nothing_else", || {
        let socket = &mut netfilter();
        let (mut by_parts, mut all) = (0, 0);
        for seed in 0..60 {
            let mut generator = Generator::new(7_000 + seed);
            let (mut text, long) = match seed % 6 {
                0 => (generator.grown_policy(300), true),
                1 => (generator.long_policy(300), true),
                2 => (generator.policy_of_points(300), true),
                _ => (generator.policy(), false),
            };
            let of = |text: &str| {
                let mut program = lower(&plan(text));
                let (admitted, level) = [
                    (None, Level::Nothing),
                    (Some(false), Level::Nothing),
                    (Some(true), Level::Denied),
                    (Some(true), Level::All),
                ][usize::try_from(seed).expect("small") / 2 % 4];
                program.record = admitted.map(|admitted| Record { admitted, ..Record::USUAL });
                program.logging = program.logging.map(|it| Logging { level, ..it });
                program
            };
            enforce(socket, "sluice", &of(&text)).expect("enforced");
            for round in 0..6 {
                if !text.contains("\n[[host.sluice.rule") {
                    break;
                }
                text = edited(&text, &mut generator);
                let (program, before) = (of(&text), handles(socket));
                let done = go(socket, &program, &format!("seed {seed}, edit {round}\n{text}"));
                all += 1;
                by_parts += usize::from(done);
                let kept = before.intersection(&handles(socket)).count();
                if long {
                    assert!(done, "seed {seed}, edit {round}");
                    assert!(kept * 2 > before.len(), "{kept} of {}, {seed}", before.len());
                }
            }
        }
        println!("{by_parts} of {all} edits by parts");
        assert!(by_parts * 10 > all * 9, "{by_parts} of {all}");
    });
}

/// From any list to any other, as far as that is done by parts at all.
#[test]
fn quite_other_lists_come_out_as_they_are_meant() {
    sealed("by_parts::quite_other_lists_come_out_as_they_are_meant", || {
        let socket = &mut netfilter();
        let of = |seed| {
            let program = lower(&plan(&Generator::new(seed).policy()));
            RuleProgram { logging: None, record: Some(Record::USUAL), ..program }
        };
        enforce(socket, "sluice", &lower(&plan(EDITED))).expect("enforced");
        let of = &of;
        let mut by_parts = 0;
        // Programs have numbers of their own.
        let alike = (8_000..8_300).filter(|seed| of(*seed).owner_lists().is_empty());
        for seed in alike.take(150) {
            by_parts += usize::from(go(socket, &of(seed), &format!("seed {seed}")));
        }
        println!("{by_parts} of 150 by parts");
        assert!(by_parts > 20);
    });
}

const EDITED: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
    [[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\n";

/// Nobody's change in between is lost, and what is no list of ours is not worked with.
#[test]
fn what_others_changed_meanwhile_is_not_overwritten() {
    sealed("by_parts::what_others_changed_meanwhile_is_not_overwritten", || {
        let socket = &mut netfilter();
        let (old, new) = (EDITED, EDITED.replace("443", "8443"));
        let (old, new) = (lower(&plan(old)), lower(&plan(&new)));
        let marks = Marks::default();
        let held = enforce(socket, "sluice", &old).expect("enforced");
        let at = generation(socket).expect("a number");
        enforce(socket, "sluice", &old).expect("enforced");
        let late = change(socket, &held, ("sluice", &new, &marks), at, &[]);
        assert!(matches!(late, Err(LinuxError::Changed)), "{late:?}");
        assert!(read(socket).expect("read").expect("our table").program == old);

        let at = generation(socket).expect("a number");
        let mut by = |held: &_, host| change(socket, held, (host, &new, &marks), at, &[]);
        assert!(!by(&held, "bench").expect("nothing done"), "another host's");
        let mut asleep = held.clone();
        asleep.dormant = true;
        assert!(!by(&asleep, "sluice").expect("nothing done"), "asleep");
        // Neither a chain that is not there, nor rules that are others.
        let mut damaged = held.clone();
        damaged.program.chains.push(Chain {
            name: "inbound/gone".into(),
            direction: None,
            base: None,
            rules: Vec::new(),
        });
        assert!(!by(&damaged, "sluice").expect("nothing done"), "a chain that is not there");
        let mut damaged = held.clone();
        damaged.program.chains[0].rules.pop();
        assert!(!by(&damaged, "sluice").expect("nothing done"), "a rule more than known");
        assert_eq!(generation(socket).expect("a number"), at);
        assert!(change(socket, &held, ("sluice", &new, &marks), at, &[]).expect("done"));
        assert!(read(socket).expect("read").expect("our table").program == new);
    });
}

/// Forty ports, a rate, and whatever else comes first.
fn counting(first: &str, of_one: &str, each: &str) -> String {
    let mut text = format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n{first}\
         [[host.sluice.rule]]\nname = \"each\"\nallow = [\"2100/udp\"]\nrate = \"{each}\"\n"
    );
    for at in 0..40 {
        let more = if at == 1 { of_one } else { "" };
        text += &format!(
            "[[host.sluice.rule]]\nname = \"port-{at}\"\nallow = [\"{}/udp\"]\n{more}",
            2_000 + at
        );
    }
    text
}

/// So many packets each decision has taken, and turned away as more than its rate.
fn counted(socket: &mut NetlinkSocket) -> BTreeMap<String, (u64, u64)> {
    let held = read(socket).expect("read").expect("our table");
    let count = |it: &Tally| (it.taken.packets, it.excess.map_or(0, |it| it.packets));
    let all = held.tallies.iter().filter(|it| it.direction == Direction::Inbound);
    all.map(|it| (it.id.to_string(), count(it))).filter(|it| it.1 != (0, 0)).collect()
}

/// What stays goes on counting, and so does what is replaced; what is to begin anew does.
#[test]
fn what_has_been_counted_goes_on() {
    sealed("by_parts::what_has_been_counted_goes_on", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let send = |port: u16, times: usize| {
            let sent = street.run(|| {
                for _ in 0..times {
                    let socket = UdpSocket::bind("0.0.0.0:0").expect("bound");
                    socket.send_to(b"a seed, please", ("192.0.2.10", port)).expect("sent");
                }
            });
            sent.expect("entered");
            // It is counted before anything else is asked.
            std::thread::sleep(Duration::from_millis(50));
        };
        const EACH: &str = "6/hour per source, burst 4";
        let text = counting("", "", EACH);
        let begun = sluice.run(|| enforce(&mut netfilter(), "sluice", &lower(&plan(&text))));
        begun.expect("entered").expect("enforced");
        for (port, times) in [(2_000, 3), (2_001, 2), (2_005, 1), (2_100, 6), (3_000, 5)] {
            send(port, times);
        }
        let go = |text: &str, reset: &[&str]| {
            let reset: Vec<String> = reset.iter().map(|it| (*it).to_owned()).collect();
            let done = sluice.run(|| {
                let socket = &mut netfilter();
                let held = read(socket).expect("read").expect("our table");
                let at = generation(socket).expect("a number");
                let program = lower(&plan(text));
                let meant = ("sluice", &program, &held.marks);
                assert!(change(socket, &held, meant, at, &reset).expect("changed"), "{text}");
                assert!(read(socket).expect("read").expect("our table").program == program);
                counted(socket)
            });
            done.expect("entered")
        };
        let mut meant: BTreeMap<String, (u64, u64)> =
            [("port-0", 3, 0), ("port-1", 2, 0), ("port-5", 1, 0), ("each", 4, 2)]
                .map(|(id, taken, excess)| (id.to_owned(), (taken, excess)))
                .into();
        meant.insert("default/inbound".into(), (5, 0));
        // Another port of a rule that begins anew.
        let text = text.replace("2005/udp", "2205/udp");
        meant.remove("port-5");
        assert_eq!(go(&text, &["port-5"]), meant);
        // One that takes others now, and goes on nevertheless.
        let text = text.replace("\"port-1\"\n", "\"port-1\"\nfrom = [\"203.0.113.0/24\"]\n");
        assert_eq!(go(&text, &[]), meant);
        // One above all others, and one that is left alone and begins anew.
        let above = "[[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"any\"]\n\
                     from = [\"203.0.113.200\", \"2001:db8:bad::/48\"]\n";
        let text = text.replace(
            "[[host.sluice.rule]]\nname = \"each\"",
            &format!("{above}[[host.sluice.rule]]\nname = \"each\""),
        );
        meant.remove("port-0");
        assert_eq!(go(&text, &["port-0"]), meant);
        // Another rate: senders have what it gives them, not what the one before had left them.
        let text = text.replace(EACH, "6/hour per source, burst 3");
        assert_eq!(go(&text, &[]), meant);
        send(2_100, 4);
        meant.insert("each".into(), (7, 3));
        assert_eq!(sluice.run(|| counted(&mut netfilter())).expect("entered"), meant);
        // What no rule decides is let in, and goes on counting.
        let text = text + "[host.sluice.default]\ninbound = \"allow\"\n";
        assert_eq!(go(&text, &[]), meant);
    });
}

/// The kernel, and somebody who has something lead to an old chain before that is taken out.
struct Meddled {
    kernel: NetlinkSocket,
    batches: usize,
    old: String,
}

impl Transport for Meddled {
    fn send(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        let kind = split(bytes).expect("splits")[0].kind;
        self.batches += usize::from(i32::from(kind) == libc::NFNL_MSG_BATCH_BEGIN);
        if self.batches == 2 && i32::from(kind) == libc::NFNL_MSG_BATCH_BEGIN {
            let mut batch = nf::Batch::begin(1);
            batch.new_rule(&nf::Rule {
                table: TABLE.into(),
                chain: "forwarded".into(),
                expressions: vec![nf::Expression::Immediate(nf::Verdict::Jump(self.old.clone()))],
                ..nf::Rule::default()
            });
            let batch = batch.finish().expect("fits");
            assert_eq!(deliver(&mut netfilter(), "meddle", &batch).expect("delivered"), []);
        }
        self.kernel.send(bytes)
    }

    fn receive(&mut self) -> std::io::Result<Vec<u8>> {
        self.kernel.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.kernel.next_sequence()
    }
}

/// An edit by which a chain goes, with that.
fn one_chain_less() -> (RuleProgram, RuleProgram, String) {
    let text = Generator::new(1).grown_policy(300);
    let program = lower(&plan(&text));
    let mut generator = Generator::new(2);
    let (other, old) = std::iter::repeat_with(|| lower(&plan(&edited(&text, &mut generator))))
        .find_map(|other| {
            let mut gone = program.chains.iter().filter(|it| other.chain(&it.name).is_none());
            gone.next().map(|it| it.name.clone()).map(|name| (other, name))
        })
        .expect("there is one");
    (program, other, old)
}

/// The kernel, and somebody who ends before the second batch.
pub struct Ended(pub NetlinkSocket, pub usize);

impl Transport for Ended {
    fn send(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        let kind = split(bytes).expect("splits")[0].kind;
        self.1 += usize::from(i32::from(kind) == libc::NFNL_MSG_BATCH_BEGIN);
        if self.1 > 1 { Err(std::io::ErrorKind::BrokenPipe.into()) } else { self.0.send(bytes) }
    }

    fn receive(&mut self) -> std::io::Result<Vec<u8>> {
        self.0.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.0.next_sequence()
    }
}

/// Whoever is killed before what no packet needs any more is taken out has changed the rules, and leaves nothing that
/// makes others of them.
#[test]
fn a_change_that_is_ended_midway_is_one() {
    sealed("by_parts::a_change_that_is_ended_midway_is_one", || {
        let (program, other, old) = one_chain_less();
        let held = enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        let mut ended = Ended(netfilter(), 0);
        let at = generation(&mut ended).expect("a number");
        let done = change(&mut ended, &held, ("sluice", &other, &held.marks), at, &[]);
        assert!(matches!(done, Err(LinuxError::ReadBack(_))), "{done:?}");
        let socket = &mut netfilter();
        assert!(handles(socket).iter().any(|it| it.0 == old), "nothing was left");
        let found = read(socket).expect("read").expect("our table");
        assert!(found.program == other, "{:#?}", compare(&other, &found.program));
        // The next change takes it out.
        assert!(!go(socket, &program, "all anew"));
        assert!(go(socket, &other, "by parts again"));
        assert!(!handles(socket).iter().any(|it| it.0 == old), "it is still there");
    });
}

/// Where the kernel does not let go of what no packet needs any more, all is loaded anew, and counts go on.
#[test]
fn what_cannot_be_taken_out_is_replaced() {
    sealed("by_parts::what_cannot_be_taken_out_is_replaced", || {
        let (program, other, old) = one_chain_less();
        let held = enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        let mut meddled = Meddled { kernel: netfilter(), batches: 0, old };
        let at = generation(&mut meddled).expect("a number");
        let done = change(&mut meddled, &held, ("sluice", &other, &held.marks), at, &[]);
        assert!(done.expect("it is in force"));
        assert_eq!(meddled.batches, 3, "changed, not taken out, loaded anew");
        assert!(read(&mut netfilter()).expect("read").expect("our table").program == other);
    });
}
