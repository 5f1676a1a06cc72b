//! What it costs that the kernel remembers who came: the same rules with and without the record, measured
//! alternately in one run, since a machine's speed drifts.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};
use tipstaff_core::generate::{HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::lower;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{Rain, address, sealed_benchmark, street_sluice_granary};
use tipstaff_linux::ruleset::{callers, enforce, release};
use tipstaff_linux::watching::{Logged, Watch};
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::packet::{Payload, build};

const ROUNDS: usize = 15;
const LOTS: usize = 40;
const PACKETS: u32 = 200;
const CONNECTIONS: u32 = 5;
const EXCHANGES: u32 = 25;
/// How many entries the record has room for.
const ROOM: u32 = 65_536;

fn main() {
    sealed_benchmark(report);
}

fn kernel() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a socket")
}

/// Puts ten rules in force before one for the port that is asked for.
fn put(record: &str) {
    put_with(&format!("record = \"{record}\"\n"));
}

fn put_with(keys: &str) {
    let mut text = format!(
        "edition = 1\n[host.{HOST_NAME}]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n{keys}"
    );
    for number in 0..10 {
        text += &format!(
            "[[host.{HOST_NAME}.rule]]\nname = \"other-{number}\"\nallow = [\"{}/tcp+udp\"]\n",
            7_000 + number
        );
    }
    text += &format!("[[host.{HOST_NAME}.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp+udp\"]\n");
    let policy = read(&Source::new("bench.toml", &text)).expect("a policy");
    let plan = resolve(&policy, HOST_NAME, NOW).expect("the host");
    let mut kernel = kernel();
    // What was remembered before is not carried over.
    release(&mut kernel).expect("released");
    enforce(&mut kernel, HOST_NAME, &lower(&plan)).expect("enforced");
}

/// Measures the same work under both policies in turn, in short lots. Of each turn the time counts that a
/// quarter of its lots are faster than, since what disturbs a lot only ever makes it slower; of all rounds the
/// median, and the median of the ratios within one round.
fn compare(name: &str, times: u32, mut turn_to: impl FnMut(bool), mut work: impl FnMut(u32)) {
    let mut number = 0;
    let mut turn = |with: bool| {
        turn_to(with);
        // The kernel tidies up behind a replaced table for a while.
        std::thread::sleep(Duration::from_millis(60));
        let mut lots = [Duration::ZERO; LOTS];
        for lot in &mut lots {
            let begun = Instant::now();
            for _ in 0..times {
                work(number);
                number += 1;
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
        let (remembered, not) = if round % 2 == 0 { (first, second) } else { (second, first) };
        without.push(not);
        with.push(remembered);
        ratios.push(remembered / not);
    }
    let [without, with, ratio] = [without, with, ratios].map(|mut all| {
        all.sort_unstable_by(f64::total_cmp);
        all[ROUNDS / 2]
    });
    println!("{name:<44}  {without:>6.2}µs  {with:>6.2}µs   {ratio:>14.3}");
}

/// A UDP packet from an invented sender.
fn invented(number: u32, port: u16) -> Vec<u8> {
    let source: IpAddr = Ipv4Addr::from_bits((11 << 24) | (number & 0x00ff_ffff)).into();
    build(source, address("192.0.2.10"), Payload::Udp { source: 2_000, destination: port }, number)
}

fn report() {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    println!(
        "{ROUNDS} rounds of {LOTS} lots, medians                 without      with   with : without"
    );
    turned_away(sluice, street);
    admitted(sluice, street);
    told(sluice, street);
}

fn turned_away(sluice: &Node, street: &Node) {
    let denied = |with: bool| {
        sluice.run(|| put(if with { "denied" } else { "off" })).expect("entered");
    };
    for (name, near, far) in [
        ("a denied packet of a known sender", "192.0.2.1:0", "192.0.2.10"),
        ("the same over IPv6", "[2001:db8:2::1]:0", "2001:db8:2::10"),
    ] {
        let caller = street.run(|| UdpSocket::bind(near)).expect("entered").expect("bound");
        let end = SocketAddr::new(address(far), 9);
        compare(name, PACKETS, denied, |_| {
            caller.send_to(&[0; 32], end).expect("sent");
        });
    }
    let rain = Rain::open((sluice, "eth0"), (street, "eth0"));
    compare("a denied packet of a new sender, with room", PACKETS, denied, |number| {
        rain.send(&invented(number, 9));
    });
    let full = |with: bool| {
        denied(with);
        let known = || {
            let found = sluice.run(|| callers(&mut kernel())).expect("entered").expect("read");
            found.map(|it| u32::try_from(it.list.len()).expect("few"))
        };
        let sent = |from: u32, to: u32| {
            (from..to).for_each(|number| rain.send(&invented(0x0080_0000 + number, 9)));
        };
        sent(0, ROOM);
        // Some are lost in queues, and in the end not all are looked at. Where the kernel had no memory at hand for
        // an element in one of the sets, its place in the other is taken all the same.
        let more = (0..100).find(|part| {
            let before = known();
            std::thread::sleep(Duration::from_millis(100));
            sent(ROOM + part * 500, ROOM + part * 500 + 500);
            before == known()
        });
        assert!(more.is_some(), "{:?} entries", known());
        assert!(!with || known() > Some(ROOM / 10 * 8), "{:?} entries", known());
    };
    compare("a denied packet of a new sender, no room", PACKETS, full, |number| {
        rain.send(&invented(number & 0x007f_ffff, 9));
    });
}

/// What is told of denied packets, all of them being remembered.
fn told(sluice: &Node, street: &Node) {
    let caller = street.run(|| UdpSocket::bind("192.0.2.1:0")).expect("entered").expect("bound");
    let end = SocketAddr::new(address("192.0.2.10"), 9);
    let send = |_| {
        caller.send_to(&[0; 32], end).expect("sent");
    };
    let log = |with: bool, most: &str| {
        let level = if with { "denied" } else { "nothing" };
        let keys = format!("log = \"{level}\"\nlog-at-most = [{most}]\n");
        sluice.run(|| put_with(&keys)).expect("entered");
    };
    let beyond = |with| log(with, "\"1/day\", \"1/day per source\"");
    compare("a denied packet, beyond what is logged", PACKETS, beyond, send);
    let most = "\"1000000/second\", \"1000000/second per source\"";
    compare("a denied packet that is logged, for nobody", PACKETS, |with| log(with, most), send);
    let mut taken: Option<Logged> = None;
    let take = |with| {
        drop(taken.take());
        log(with, most);
        taken = with.then(|| sluice.run(Logged::open).expect("entered").expect("taken"));
    };
    compare("a denied packet that is logged, and taken", PACKETS, take, send);
    let mut watched: Option<Watch> = None;
    let watch = |with: bool| {
        drop(watched.take());
        log(false, most);
        watched = with.then(|| sluice.run(Watch::open).expect("entered").expect("watched"));
    };
    compare("a denied packet that is watched", PACKETS, watch, send);
}

fn admitted(sluice: &Node, street: &Node) {
    let all = |with: bool| {
        sluice.run(|| put(if with { "all" } else { "off" })).expect("entered");
    };
    let end = SocketAddr::new(address("192.0.2.10"), 5432);
    let (server, listener) = sluice
        .run(|| (UdpSocket::bind(end).expect("bound"), TcpListener::bind(end).expect("bound")))
        .expect("entered");
    let caller = street.run(|| UdpSocket::bind("192.0.2.1:0")).expect("entered").expect("bound");
    let mut bytes = [0; 64];
    street
        .run(|| {
            compare("a TCP connection, made and closed", CONNECTIONS, all, |_| {
                let made = TcpStream::connect(end).expect("connected");
                drop(listener.accept().expect("accepted"));
                drop(made);
            });
        })
        .expect("entered");
    compare("a UDP packet of a flow without answers", PACKETS, all, |_| {
        caller.send_to(&[0; 32], end).expect("sent");
        server.recv(&mut bytes).expect("received");
    });
    compare("a question and its answer", EXCHANGES, all, |_| {
        caller.send_to(&[1; 32], end).expect("sent");
        let (length, from) = server.recv_from(&mut bytes).expect("asked");
        server.send_to(&bytes[..length], from).expect("sent");
        caller.recv(&mut bytes).expect("answered");
    });
}
