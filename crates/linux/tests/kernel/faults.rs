//! A transport that fails on purpose, at every step of enforcing, reading and releasing.

use crate::world::{netfilter, plan};
use std::io;
use tipstaff_core::generate::Generator;
use tipstaff_core::program::{RuleProgram, lower};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::{Marks, enforce, enforce_at, generation, read, release};
use tipstaff_linux::{LinuxError, NetlinkSocket, Transport, deliver};
use tipstaff_wire::netlink::{DUMP_INTERRUPTED, split};
use tipstaff_wire::nf_tables::{Batch, BatchOutput, Table, message_kind};

const INHERITED: &str = include_str!("../../../../demo/inherited.toml");
const MENDED: &str = include_str!("../../../../demo/mended.toml");

/// What goes wrong.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Fault {
    /// Sending fails; the kernel gets nothing.
    Send(i32),
    /// The answer is lost.
    Receive(i32),
    /// The first message of the answer is marked as interrupted.
    Interrupt,
}

/// A real socket on which one step goes wrong.
struct Faulty {
    socket: NetlinkSocket,
    fault: Fault,
    /// The step at which it goes wrong, counted down.
    steps: usize,
    struck: bool,
}

impl Faulty {
    fn at(steps: usize, fault: Fault) -> Self {
        Self { socket: netfilter(), fault, steps, struck: false }
    }

    fn strikes(&mut self, sending: bool) -> bool {
        if sending != matches!(self.fault, Fault::Send(_)) || self.struck {
            return false;
        }
        self.struck = self.steps == 0;
        self.steps = self.steps.saturating_sub(1);
        self.struck
    }
}

impl Transport for Faulty {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        match (self.strikes(true), self.fault) {
            (true, Fault::Send(errno)) => Err(io::Error::from_raw_os_error(errno)),
            _ => self.socket.send(bytes),
        }
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        let mut datagram = self.socket.receive()?;
        match (self.strikes(false), self.fault) {
            (true, Fault::Receive(errno)) => Err(io::Error::from_raw_os_error(errno)),
            (true, Fault::Interrupt) => {
                let flags = u16::from_ne_bytes([datagram[6], datagram[7]]) | DUMP_INTERRUPTED;
                datagram[6..8].copy_from_slice(&flags.to_ne_bytes());
                Ok(datagram)
            }
            _ => Ok(datagram),
        }
    }

    fn next_sequence(&mut self) -> u32 {
        self.socket.next_sequence()
    }
}

/// A kernel that was built without something: it knows none of that name.
struct Without {
    socket: NetlinkSocket,
    name: &'static [u8],
}

impl Transport for Without {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        let mut bytes = bytes.to_vec();
        let mut at = 0;
        while let Some(next) = bytes[at..].windows(self.name.len()).position(|it| it == self.name) {
            bytes[at + next] = b'_';
            at += next;
        }
        self.socket.send(&bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.socket.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.socket.next_sequence()
    }
}

#[test]
fn a_kernel_that_cannot_test_sockets_is_told_apart() {
    sealed("faults::a_kernel_that_cannot_test_sockets_is_told_apart", || {
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                    [[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp\"]\n\
                    program = \"/usr/sbin/seedbase\"\n";
        let program = lower(&plan(text));
        for (name, option) in
            [(&b"tproxy\0"[..], "CONFIG_NFT_TPROXY"), (b"socket\0", "CONFIG_NFT_SOCKET")]
        {
            let mut kernel = Without { socket: netfilter(), name };
            let refused = enforce(&mut kernel, "sluice", &program);
            let Err(LinuxError::Lacking { what, permitted: true }) = refused else {
                panic!("{refused:?}");
            };
            assert!(what[0].contains(option), "{what:?}");
            assert_eq!(read(&mut netfilter()).expect("read"), None);
        }
        enforce(&mut netfilter(), "sluice", &program).expect("this one can");
    });
}

fn held() -> RuleProgram {
    read(&mut netfilter()).expect("read").expect("there").program
}

#[test]
fn whatever_fails_the_kernel_holds_the_old_rules_or_the_new_ones() {
    sealed("faults::whatever_fails_the_kernel_holds_the_old_rules_or_the_new_ones", || {
        let (old, new) = (lower(&plan(INHERITED)), lower(&plan(MENDED)));
        let (mut kept_old, mut got_new) = (0, 0);
        for fault in [Fault::Send(libc::ENOBUFS), Fault::Receive(libc::ENOBUFS)] {
            for steps in 0.. {
                enforce(&mut netfilter(), "sluice", &old).expect("the old ones");
                let mut faulty = Faulty::at(steps, fault);
                let outcome = enforce(&mut faulty, "sluice", &new);
                if !faulty.struck {
                    outcome.expect("nothing failed");
                    break;
                }
                let held = held();
                match outcome {
                    // Refused before the kernel had it: nothing was done.
                    Err(LinuxError::System { .. }) => assert_eq!(held, old, "{fault:?} {steps}"),
                    // It has it, and says so or not: whoever is told this must look.
                    Err(LinuxError::Unknown { .. } | LinuxError::ReadBack(_)) | Ok(_) => {
                        assert_eq!(held, new, "{fault:?} {steps}");
                    }
                    outcome => panic!("{fault:?} at step {steps}: {outcome:?}"),
                }
                if held == old { kept_old += 1 } else { got_new += 1 }
            }
        }
        // Only a fault before the batch leaves the old rules.
        assert!(kept_old == 1 && got_new > 5, "{kept_old} old, {got_new} new");
    });
}

#[test]
fn a_dump_that_was_interrupted_is_read_again() {
    sealed("faults::a_dump_that_was_interrupted_is_read_again", || {
        let program = lower(&plan(MENDED));
        enforce(&mut netfilter(), "sluice", &program).expect("enforced");
        for steps in 0.. {
            let mut faulty = Faulty::at(steps, Fault::Interrupt);
            let snapshot = read(&mut faulty).expect("read").expect("there");
            assert_eq!(snapshot.program, program, "interrupted at {steps}");
            if !faulty.struck {
                assert!(steps > 4, "there are several dumps");
                break;
            }
        }
    });
}

#[test]
fn a_missing_right_is_told_apart_from_other_refusals() {
    sealed("faults::a_missing_right_is_told_apart_from_other_refusals", || {
        let mut faulty = Faulty::at(0, Fault::Send(libc::EPERM));
        let outcome = release(&mut faulty);
        assert!(matches!(outcome, Err(LinuxError::NotPermitted { .. })), "{outcome:?}");
        // Behind the question who came.
        let mut faulty = Faulty::at(1, Fault::Send(libc::EMSGSIZE));
        let outcome = enforce(&mut faulty, "sluice", &lower(&plan(MENDED)));
        let error = outcome.expect_err("too large").to_string();
        assert!(error.contains("more than this user may send at once"), "{error}");
    });
}

/// A socket before whose batch somebody else comes.
struct Overtaken {
    socket: NetlinkSocket,
    others: Option<BatchOutput>,
}

impl Transport for Overtaken {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        let batch = bytes.len() > 100;
        if batch && self.others.is_some() {
            let others = self.others.take().expect("a batch");
            assert_eq!(deliver(&mut netfilter(), "overtake", &others).expect("answered"), []);
        }
        self.socket.send(bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.socket.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.socket.next_sequence()
    }
}

#[test]
fn a_change_by_somebody_else_in_between_is_noticed() {
    sealed("faults::a_change_by_somebody_else_in_between_is_noticed", || {
        let [inherited, mended] = [INHERITED, MENDED].map(|text| lower(&plan(text)));
        enforce(&mut netfilter(), "sluice", &inherited).expect("enforced");
        let mut batch = Batch::begin(1);
        batch.new_table(&Table { name: "almanac".into(), ..Table::default() });
        let others = Some(batch.finish().expect("fits"));
        let mut socket = Overtaken { socket: netfilter(), others };
        let before = generation(&mut socket).expect("a number");
        let marks = Marks::default();
        let meant = ("sluice", &mended, &marks);
        let refused = enforce_at(&mut socket, None, meant, before, &[]);
        assert!(matches!(refused, Err(LinuxError::Changed)), "{refused:?}");
        let kept = read(&mut netfilter()).expect("read").expect("there");
        assert_eq!(kept.program, inherited, "the old rules stand");
        let now = generation(&mut socket).expect("a number");
        assert!(now > before, "{now} after {before}");
        enforce_at(&mut socket, None, meant, now, &[]).expect("enforced");
    });
}

/// A socket that puts others in force once it is asked for the rules of so many chains.
struct Hurried {
    socket: NetlinkSocket,
    asked: usize,
    when: usize,
    then: Option<RuleProgram>,
}

impl Transport for Hurried {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        if split(bytes).expect("splits")[0].kind == message_kind::GET_RULE {
            self.asked += 1;
            if let Some(then) = self.then.take_if(|_| self.asked > self.when) {
                enforce(&mut netfilter(), "sluice", &then).expect("enforced");
            }
        }
        self.socket.send(bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.socket.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.socket.next_sequence()
    }
}

/// Rules of many chains are read chain by chain, and yet are those of one moment.
#[test]
fn rules_of_many_chains_are_those_of_one_moment() {
    sealed("faults::rules_of_many_chains_are_those_of_one_moment", || {
        let long = |seed| lower(&plan(&Generator::new(seed).grown_policy(1_500)));
        let (first, second, short) = (long(1), long(2), lower(&plan(INHERITED)));
        assert!(first.chains.len() > 300, "{} chains", first.chains.len());
        for (when, then) in [(0, &second), (200, &second), (usize::MAX, &second), (200, &short)] {
            enforce(&mut netfilter(), "sluice", &first).expect("enforced");
            let mut socket =
                Hurried { socket: netfilter(), asked: 0, when, then: Some(then.clone()) };
            let found = read(&mut socket).expect("read").expect("there");
            let meant = if when == usize::MAX { &first } else { then };
            assert!(found.program == *meant, "after {when}");
            assert_eq!(socket.then.is_some(), when == usize::MAX);
            assert!(socket.asked > 300, "asked for {} chains", socket.asked);
        }
    });
}
