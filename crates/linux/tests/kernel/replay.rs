//! Conversations with the kernel, taken down once and replayed: decoding works without
//! privileges, and whatever is cut off a message is noticed.

use crate::world::{netfilter, plan};
use std::collections::VecDeque;
use std::fmt::Write;
use std::io;
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::program::lower;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::{enforce, read};
use tipstaff_linux::{NetlinkSocket, Transport};

/// What Linux 6.18 answered when the table of [`policy`] was read back: one datagram a line, in
/// hexadecimal digits. `TIPSTAFF_BLESS=1` takes it down anew.
const TAKEN_DOWN: &str = include_str!("../data/sluice-read-back.hex");
const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/sluice-read-back.hex");

/// Enough rules to become lookups of every kind.
fn policy() -> HostPlan {
    plan(&Generator::new(1).long_policy(120))
}

/// Plays datagrams back in order.
struct Replay {
    answers: VecDeque<Vec<u8>>,
    sequence: u32,
}

impl Replay {
    fn of(text: &str) -> Self {
        let byte = |pair: &[u8]| {
            let pair = std::str::from_utf8(pair).expect("digits");
            u8::from_str_radix(pair, 16).expect("a byte")
        };
        let answers = text.lines().map(|line| line.as_bytes().chunks(2).map(byte).collect());
        // The numbers under which it was asked begin after those of the enforcement.
        Self { answers: answers.collect(), sequence: 0 }
    }
}

impl Transport for Replay {
    fn send(&mut self, _: &[u8]) -> io::Result<()> {
        Ok(())
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.answers.pop_front().ok_or_else(|| io::ErrorKind::WouldBlock.into())
    }

    fn next_sequence(&mut self) -> u32 {
        self.sequence += 1;
        self.sequence
    }
}

/// Notes every answer of a real socket.
struct Taker {
    socket: NetlinkSocket,
    text: String,
    sequence: u32,
}

impl Transport for Taker {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.socket.send(bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        let datagram = self.socket.receive()?;
        datagram.iter().for_each(|byte| write!(self.text, "{byte:02x}").expect("a string"));
        self.text.push('\n');
        Ok(datagram)
    }

    fn next_sequence(&mut self) -> u32 {
        self.sequence += 1;
        self.sequence
    }
}

#[test]
fn a_conversation_can_be_taken_down_and_replayed() {
    sealed("replay::a_conversation_can_be_taken_down_and_replayed", || {
        let program = lower(&policy());
        enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        let mut taker = Taker { socket: netfilter(), text: String::new(), sequence: 0 };
        let real = read(&mut taker).expect("read").expect("there");
        let replayed = read(&mut Replay::of(&taker.text)).expect("read").expect("there");
        assert_eq!(real, replayed);
        if std::env::var_os("TIPSTAFF_BLESS").is_some() {
            std::fs::write(FILE, taker.text).expect("written");
        }
    });
}

#[test]
fn the_kernels_answers_are_understood_without_a_kernel() {
    let snapshot = read(&mut Replay::of(TAKEN_DOWN)).expect("read").expect("there");
    assert_eq!(snapshot.host, "sluice");
    assert!(snapshot.program == lower(&policy()), "{:?}", snapshot.program);
    assert!(snapshot.tallies.iter().any(|tally| tally.id.to_string() == "rule-7"));
}

/// Whether some hexadecimal digits are whole messages.
fn is_whole(text: &str) -> bool {
    Replay::of(text).answers.iter().all(|it| tipstaff_wire::netlink::split(it).is_ok())
}

#[test]
fn no_cut_or_flipped_answer_is_taken_for_the_whole() {
    let whole = read(&mut Replay::of(TAKEN_DOWN)).expect("read").expect("there");
    let lines: Vec<&str> = TAKEN_DOWN.lines().collect();
    for (at, line) in lines.iter().enumerate() {
        // Cuts, on whole bytes, anywhere but between two messages.
        for cut in (26..line.len()).step_by(778) {
            if is_whole(&line[..cut]) {
                continue;
            }
            let mut damaged = lines.clone();
            damaged[at] = &line[..cut];
            let outcome = read(&mut Replay::of(&damaged.join("\n")));
            assert!(outcome.is_err(), "datagram {at} cut at {}", cut / 2);
        }
        // Other bytes: anything may come out but a panic.
        for flip in (0..line.len()).step_by(422) {
            let mut changed = (*line).to_owned();
            changed.replace_range(flip..=flip, if &line[flip..=flip] == "f" { "0" } else { "f" });
            let mut damaged = lines.clone();
            damaged[at] = &changed;
            if let Ok(Some(snapshot)) = read(&mut Replay::of(&damaged.join("\n"))) {
                let chains = &snapshot.program.chains;
                let ours = chains.iter().filter(|it| !it.name.starts_with("record/"));
                assert!(ours.count() <= whole.program.chains.len());
            }
        }
    }
}
