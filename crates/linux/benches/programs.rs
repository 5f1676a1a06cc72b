//! What rules for programs cost: making a socket with and without the kernel recognising whose it
//! is, and packets under the same rules with and without programs; measured alternately in one
//! run, since a machine's speed drifts. The program of this benchmark is the one that rules name.

use rustix::fd::OwnedFd;
use rustix::net::{AddressFamily, SocketType, socket};
use std::hint::black_box;
use std::net::{SocketAddr, UdpSocket};
use std::time::{Duration, Instant};
use tipstaff_core::generate::{HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;
use tipstaff_linux::lab::testing::{address, sealed_benchmark_with_hooks, street_sluice_granary};
use tipstaff_linux::programs::{Demand, clear, prepare};
use tipstaff_linux::ruleset::{self, enforce_marked};
use tipstaff_linux::{NetlinkSocket, Protocol};

const ROUNDS: usize = 41;
const LOTS: usize = 60;
const SOCKETS: u32 = 100;
const PACKETS: u32 = 100;
const EXCHANGES: u32 = 25;

fn main() {
    sealed_benchmark_with_hooks(report);
}

fn report() {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let far = street.run(|| UdpSocket::bind("192.0.2.1:5432")).expect("entered").expect("bound");
    let echo = far.try_clone().expect("cloned");
    std::thread::spawn(move || {
        let mut bytes = [0; 64];
        while let Ok((length, from)) = echo.recv_from(&mut bytes) {
            // What is only sent begins with a zero.
            if bytes[0] != 0 {
                let _ = echo.send_to(&bytes[..length], from);
            }
        }
    });
    println!("{ROUNDS} rounds of {LOTS} lots               without      with   with : without");
    sluice.run(sockets).expect("entered");
    sluice.run(packets).expect("entered");
}

fn kernel() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a socket")
}

/// Puts a policy in force whose one rule is for this program, or for all; with ten others before.
fn enforce(by_program: bool) {
    let own = std::env::current_exe().expect("this program");
    let program = if by_program { format!("program = {own:?}\n") } else { String::new() };
    let mut text = format!(
        "edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\"]\n\
         [host.{HOST_NAME}.default]\noutbound = \"deny\"\n"
    );
    for number in 0..10 {
        text += &format!(
            "[[host.{HOST_NAME}.rule]]\nname = \"other-{number}\"\ndirection = \"outbound\"\n\
             allow = [\"{}/tcp\"]\n",
            7_000 + number
        );
    }
    text += &format!(
        "[[host.{HOST_NAME}.rule]]\nname = \"seeds\"\ndirection = \"outbound\"\n\
         allow = [\"5432/udp\"]\n{program}"
    );
    let policy = read(&Source::new("bench.toml", &text)).expect("a policy");
    let plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    let rules = lower(&plan);
    let before = ruleset::read(&mut kernel()).expect("read").map(|it| it.marks);
    let prepared = prepare(&Demand::of(&plan, &rules), &before.unwrap_or_default()).expect("ready");
    enforce_marked(&mut kernel(), HOST_NAME, &rules, prepared.marks()).expect("enforced");
    prepared.settle().expect("settled");
}

/// Measures the same work under both policies in turn, in short lots. Of each turn the time counts
/// that a quarter of its lots are faster than, since what disturbs a lot only ever makes it slower;
/// of all rounds the median, and the median of the ratios within one round.
fn compare(name: &str, times: u32, mut work: impl FnMut()) {
    let mut turn = |by_program: bool| {
        enforce(by_program);
        // The kernel tidies up behind a replaced table for a while.
        std::thread::sleep(Duration::from_millis(100));
        let mut lots = [Duration::ZERO; LOTS];
        for lot in &mut lots {
            let begun = Instant::now();
            for _ in 0..times {
                work();
            }
            *lot = begun.elapsed() / times;
        }
        lots.sort_unstable();
        lots[LOTS / 4].as_secs_f64() * 1e6
    };
    let [mut without, mut with, mut ratios] = [const { Vec::new() }; 3];
    for round in 0..ROUNDS {
        // Which comes first changes too.
        let first = turn(round % 2 == 0);
        let second = turn(round % 2 == 1);
        let (by_program, for_all) = if round % 2 == 0 { (first, second) } else { (second, first) };
        without.push(for_all);
        with.push(by_program);
        ratios.push(by_program / for_all);
    }
    let [without, with, ratio] = [without, with, ratios].map(|mut all| {
        all.sort_unstable_by(f64::total_cmp);
        all[ROUNDS / 2]
    });
    println!("{name:<34}  {without:>6.2}µs  {with:>6.2}µs   {ratio:>14.3}");
}

fn sockets() {
    for (name, family, kind) in [
        ("a TCP socket, made and closed", AddressFamily::INET, SocketType::STREAM),
        ("a TCP socket over IPv6", AddressFamily::INET6, SocketType::STREAM),
        ("a UDP socket, made and closed", AddressFamily::INET, SocketType::DGRAM),
        ("a UDP socket over IPv6", AddressFamily::INET6, SocketType::DGRAM),
    ] {
        compare(name, SOCKETS, || {
            let made: OwnedFd = socket(family, kind, None).expect("made");
            black_box(made);
        });
    }
    clear().expect("cleared");
}

fn packets() {
    let end = SocketAddr::new(address("192.0.2.1"), 5432);
    let one_way = UdpSocket::bind("0.0.0.0:0").expect("bound");
    compare("a UDP packet sent, no answer", PACKETS, || {
        one_way.send_to(&[0; 32], end).expect("sent");
    });
    let partner = UdpSocket::bind("0.0.0.0:0").expect("bound");
    partner.connect(end).expect("connected");
    compare("the same, to a chosen partner", PACKETS, || {
        partner.send(&[0; 32]).expect("sent");
    });
    let asks = UdpSocket::bind("0.0.0.0:0").expect("bound");
    asks.set_read_timeout(Some(Duration::from_secs(2))).expect("set");
    let mut bytes = [0; 64];
    compare("a question and its answer", EXCHANGES, || {
        asks.send_to(&[1; 32], end).expect("sent");
        asks.recv(&mut bytes).expect("answered");
    });
}
