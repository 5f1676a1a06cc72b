//! What rules for programs and users cost: making a socket with and without the kernel recognising whose
//! it is, and packets under the same rules with and without programs, then with and without users;
//! measured alternately in one run, since a machine's speed drifts. The program and the user of this
//! benchmark are those that rules name.

use rustix::fd::OwnedFd;
use rustix::net::{AddressFamily, SocketType, socket};
use std::hint::black_box;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};
use tipstaff_core::generate::{HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{address, sealed_benchmark_with_hooks, street_sluice_granary};
use tipstaff_linux::programs::{Demand, clear, prepare};
use tipstaff_linux::ruleset::{self, enforce_marked};
use tipstaff_linux::{NetlinkSocket, Protocol};

const ROUNDS: usize = 81;
const LOTS: usize = 40;
const SOCKETS: u32 = 100;
const PACKETS: u32 = 100;
const EXCHANGES: u32 = 25;
const CONNECTIONS: u32 = 5;
const STREAMED: usize = 256 * 1_024;

fn main() {
    sealed_benchmark_with_hooks(report);
}

fn report() {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let own = std::env::current_exe().expect("this program");
    let program = format!("program = {own:?}\n");
    let user = format!("user = \"{}\"\n", rustix::process::geteuid().as_raw());
    for (what, keys) in
        [("programs", &program), ("users", &user), ("both", &(program.clone() + &user))]
    {
        println!("\n{what}, {ROUNDS} rounds of {LOTS} lots    without      with   with : without");
        sluice.run(|| sockets(keys)).expect("entered");
        inbound(sluice, street, keys);
        outbound(sluice, street, keys);
    }
}

fn kernel() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a socket")
}

/// Puts a policy in force whose rule for the port of the seeds has these keys, or is for all; with ten
/// others before.
fn enforce(direction: &str, keys: &str) {
    let mut text = format!(
        "edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\"]\n\
         [host.{HOST_NAME}.default]\noutbound = \"deny\"\n"
    );
    for number in 0..10 {
        text += &format!(
            "[[host.{HOST_NAME}.rule]]\nname = \"other-{number}\"\ndirection = \"{direction}\"\n\
             allow = [\"{}/tcp+udp\"]\n",
            7_000 + number
        );
    }
    text += &format!(
        "[[host.{HOST_NAME}.rule]]\nname = \"seeds\"\ndirection = \"{direction}\"\n\
         allow = [\"5432/tcp+udp\"]\n{keys}"
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
fn compare(name: &str, times: u32, enforce: impl Fn(bool) + Sync, mut work: impl FnMut()) {
    let mut turn = |with: bool| {
        enforce(with);
        // The kernel tidies up behind a replaced table for a while.
        std::thread::sleep(Duration::from_millis(60));
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
        let (narrowed, for_all) = if round % 2 == 0 { (first, second) } else { (second, first) };
        without.push(for_all);
        with.push(narrowed);
        ratios.push(narrowed / for_all);
    }
    let [without, with, ratio] = [without, with, ratios].map(|mut all| {
        all.sort_unstable_by(f64::total_cmp);
        all[ROUNDS / 2]
    });
    println!("{name:<34}  {without:>6.2}µs  {with:>6.2}µs   {ratio:>14.3}");
}

fn sockets(keys: &str) {
    for (name, family, kind) in [
        ("a TCP socket, made and closed", AddressFamily::INET, SocketType::STREAM),
        ("a TCP socket over IPv6", AddressFamily::INET6, SocketType::STREAM),
        ("a UDP socket, made and closed", AddressFamily::INET, SocketType::DGRAM),
        ("a UDP socket over IPv6", AddressFamily::INET6, SocketType::DGRAM),
    ] {
        compare(
            name,
            SOCKETS,
            |with| enforce("inbound", if with { keys } else { "" }),
            || {
                let made: OwnedFd = socket(family, kind, None).expect("made");
                black_box(made);
            },
        );
    }
}

/// What comes in, from a street that no rules are for. One thread is at both ends: to wake another
/// takes longer than what is measured, and happens the oftener the slower the first one is.
fn inbound(sluice: &Node, street: &Node, keys: &str) {
    let enforce = |with| {
        let keys = if with { keys } else { "" };
        sluice.run(|| enforce("inbound", keys)).expect("entered");
    };
    let end = SocketAddr::new(address("192.0.2.10"), 5432);
    let (server, listener) = sluice
        .run(|| (UdpSocket::bind(end).expect("bound"), TcpListener::bind(end).expect("bound")))
        .expect("entered");
    let caller = street.run(|| UdpSocket::bind("192.0.2.1:0")).expect("entered").expect("bound");
    let mut bytes = [0; 64];
    compare("a UDP packet received, no answer", PACKETS, enforce, || {
        caller.send_to(&[0; 32], end).expect("sent");
        server.recv(&mut bytes).expect("received");
    });
    compare("a question received, and answered", EXCHANGES, enforce, || {
        caller.send_to(&[1; 32], end).expect("sent");
        let (length, from) = server.recv_from(&mut bytes).expect("asked");
        server.send_to(&bytes[..length], from).expect("sent");
        caller.recv(&mut bytes).expect("answered");
    });
    street
        .run(|| {
            compare("a TCP connection, made and closed", CONNECTIONS, enforce, || {
                let made = TcpStream::connect(end).expect("connected");
                drop(listener.accept().expect("accepted"));
                drop(made);
            });
            let mut near = TcpStream::connect(end).expect("connected");
            let mut far = listener.accept().expect("accepted").0;
            let lot = vec![1; STREAMED];
            let mut read = vec![0; STREAMED];
            compare("256 KiB over a TCP connection", 1, enforce, || {
                std::thread::scope(|threads| {
                    threads.spawn(|| near.write_all(&lot).expect("written"));
                    far.read_exact(&mut read).expect("read");
                });
            });
        })
        .expect("entered");
    sluice.run(clear).expect("entered").expect("cleared");
}

/// What goes out, to a street that no rules are for.
fn outbound(sluice: &Node, street: &Node, keys: &str) {
    let enforce = |with| {
        let keys = if with { keys } else { "" };
        sluice.run(|| enforce("outbound", keys)).expect("entered");
    };
    let end = SocketAddr::new(address("192.0.2.1"), 5432);
    let far = street.run(|| UdpSocket::bind(end)).expect("entered").expect("bound");
    let [one_way, partner, asks] = sluice
        .run(|| [(); 3].map(|()| UdpSocket::bind("0.0.0.0:0").expect("bound")))
        .expect("entered");
    let mut bytes = [0; 64];
    compare("a UDP packet sent, no answer", PACKETS, enforce, || {
        one_way.send_to(&[0; 32], end).expect("sent");
        far.recv(&mut bytes).expect("received");
    });
    partner.connect(end).expect("connected");
    compare("the same, to a chosen partner", PACKETS, enforce, || {
        partner.send(&[0; 32]).expect("sent");
        far.recv(&mut bytes).expect("received");
    });
    compare("a question and its answer", EXCHANGES, enforce, || {
        asks.send_to(&[1; 32], end).expect("sent");
        let (length, from) = far.recv_from(&mut bytes).expect("asked");
        far.send_to(&bytes[..length], from).expect("sent");
        asks.recv(&mut bytes).expect("answered");
    });
}
