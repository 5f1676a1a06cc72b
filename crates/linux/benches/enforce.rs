//! What enforcing costs against the bare time that the kernel takes for the same batch, measured
//! alternately in one run, since a machine's speed drifts.

use std::process::Command;
use std::time::{Duration, Instant};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::{RuleProgram, lower};
use tipstaff_linux::ruleset::{encode, enforce};
use tipstaff_linux::{NetlinkSocket, Protocol, Transport};

const SIZES: [usize; 4] = [10, 100, 1_000, 10_000];
const ROUNDS: usize = 15;
const INSIDE: &str = "TIPSTAFF_BENCH_INSIDE";

fn main() {
    if std::env::var_os(INSIDE).is_none() {
        let program = std::env::current_exe().expect("the benchmark has a path");
        let mut command = Command::new(program);
        command.env(INSIDE, "1");
        tipstaff_linux::lab::seal(&mut command);
        let status = command.status().expect("namespaces are allowed here");
        assert!(status.success());
        return;
    }
    println!("rules   bare kernel   whole enforcement   ratio   (medians of {ROUNDS} rounds)");
    for rules in SIZES {
        let (bare, whole) = measure(&program(rules));
        let ratio = whole.as_secs_f64() / bare.as_secs_f64();
        println!("{rules:>5}   {bare:>11.2?}   {whole:>17.2?}   {ratio:>5.2}");
    }
}

fn program(rules: usize) -> RuleProgram {
    let text = Generator::new(1).long_policy(rules);
    let policy = read(&Source::new("long.toml", &text)).expect("a policy");
    lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"))
}

fn measure(program: &RuleProgram) -> (Duration, Duration) {
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    enforce(&mut socket, HOST_NAME, program).expect("enforced");
    let (mut bare, mut whole) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let (batch, _) = encode(program, HOST_NAME, socket.next_sequence()).expect("encoded");
        let bytes = batch.finish().expect("fits").bytes;
        let begun = Instant::now();
        socket.send(&bytes).expect("sent");
        socket.receive().expect("answered");
        bare.push(begun.elapsed());

        let begun = Instant::now();
        enforce(&mut socket, HOST_NAME, program).expect("enforced");
        whole.push(begun.elapsed());
    }
    bare.sort_unstable();
    whole.sort_unstable();
    (bare[ROUNDS / 2], whole[ROUNDS / 2])
}
