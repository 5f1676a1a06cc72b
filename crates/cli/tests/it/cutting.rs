//! What the rules do not admit is ended, and nothing else.

use crate::harness::{Desk, Outcome, finish};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

const WAIT: Option<Duration> = Some(Duration::from_millis(400));

fn policy(rules: &str) -> String {
    format!(
        "edition = 1\n[place.strangers]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
         [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n{rules}"
    )
}

fn allow(ports: &str) -> String {
    policy(&format!("[[host.sluice.rule]]\nname = \"services\"\nallow = [{ports}]\n"))
}

struct World {
    desk: Desk,
    lab: Lab,
}

impl World {
    fn with(policy: &str) -> Self {
        Self { desk: Desk::with(policy), lab: street_sluice_granary() }
    }

    fn node(&self, name: &str) -> &Node {
        self.lab.node(name).expect("it")
    }

    fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.node("sluice"), ["--host", "sluice"].iter().chain(args))
    }

    fn listen(&self, at: &str) -> TcpListener {
        let listener = self.node("sluice").run(|| TcpListener::bind(at));
        listener.expect("run").expect("a port")
    }

    fn connect(&self, from: &str, to: &str, listener: &TcpListener) -> (TcpStream, TcpStream) {
        let client: SocketAddr = format!("{from}:0").parse().expect("an address");
        let server: SocketAddr = to.parse().expect("an address");
        let stream = self.node("street").run(|| connect_from(client, server));
        let stream = stream.expect("run").expect("connected");
        stream.set_read_timeout(WAIT).expect("a time");
        let accepted = listener.accept().expect("accepted").0;
        accepted.set_read_timeout(WAIT).expect("a time");
        (stream, accepted)
    }
}

fn flows((client, server): &mut (TcpStream, TcpStream)) -> bool {
    let mut bytes = [0; 4];
    let there = client.write_all(b"seed").and_then(|()| server.read_exact(&mut bytes));
    let back = server.write_all(b"seed").and_then(|()| client.read_exact(&mut bytes));
    there.is_ok() && back.is_ok()
}

fn living(report: &Outcome) -> Vec<String> {
    words(&report.json())
}

fn words(report: &serde_json::Value) -> Vec<String> {
    let list = report["living"].as_array().expect("a list").iter();
    list.map(|it| {
        let word = |key: &str| it[key].as_str().expect("a word").to_owned();
        format!("{} {} {}", word("direction"), word("from"), word("traffic"))
    })
    .collect()
}

#[test]
fn connections_that_live_on_are_told_and_ended() {
    sealed("cutting::connections_that_live_on_are_told_and_ended", || {
        let world = World::with(&allow("\"2202/tcp\", \"5432/tcp\""));
        world.run(&["enforce", "--keep"]).exits(0);
        let shells = world.listen("0.0.0.0:2202");
        let stores = world.listen("[::]:5432");
        let mut shell = world.connect("192.0.2.1", "192.0.2.10:2202", &shells);
        let mut old = [
            world.connect("192.0.2.1", "192.0.2.10:5432", &stores),
            world.connect("[2001:db8:2::1]", "[2001:db8:2::10]:5432", &stores),
        ];
        // One that is over, and one that is closed by one side alone.
        drop(world.connect("203.0.113.9", "192.0.2.10:5432", &stores));
        world.desk.write(allow("\"443/tcp\""));
        let client = shell.0.local_addr().expect("an address");
        let asked = |args: &[&str]| {
            let mut command = world.desk.command(["--host", "sluice"].iter().chain(args));
            let session = format!("{} {} 192.0.2.10 2202", client.ip(), client.port());
            command.env("SSH_CONNECTION", session);
            world.node("sluice").start_here(&mut command).expect("it can start there");
            finish(command)
        };
        // Not in force yet: what is in force decides, and it admits them.
        let before = asked(&["--format", "json", "cut", "--dry-run"]).exits(0);
        assert_eq!(living(&before), Vec::<String>::new());
        let said = asked(&["enforce", "--keep", "--even-if-locked-out"]).exits(0).stdout;
        assert!(said.contains("3 connections live on"), "{said}");
        // An old connection hides that the port is closed.
        assert!(old.iter_mut().all(flows) && flows(&mut shell));
        let listed = asked(&["--format", "json", "cut", "--dry-run"]).exits(0);
        assert_eq!(living(&listed).len(), 3);
        assert!(old.iter_mut().all(flows), "only listed");
        let said = asked(&["cut"]).exits(0).stdout;
        assert!(said.contains("your session") && said.contains("5432/tcp"), "{said}");
        assert!(!old.iter_mut().any(flows), "they are ended");
        assert!(flows(&mut shell), "the session that asks lives on");
        // Nobody listens less than before.
        world.desk.write(allow("\"2202/tcp\", \"5432/tcp\""));
        world.run(&["enforce", "--keep"]).exits(0);
        assert!(flows(&mut world.connect("192.0.2.1", "192.0.2.10:5432", &stores)));
        assert!(flows(&mut world.connect("[2001:db8:2::1]", "[2001:db8:2::10]:5432", &stores)));
        let after = asked(&["--format", "json", "cut"]).exits(0);
        assert_eq!(living(&after), Vec::<String>::new());
        world.run(&["release", "--keep"]).exits(0);
        let nothing = asked(&["cut"]).exits(1);
        assert!(nothing.stderr.contains("no rules are in force"), "{}", nothing.stderr);
    });
}

#[test]
fn what_was_there_before_the_first_rules_is_found_whoever_speaks() {
    sealed("cutting::what_was_there_before_the_first_rules_is_found_whoever_speaks", || {
        let world = World::with(&policy(
            "[[host.sluice.rule]]\nname = \"not-they\"\ndeny = [\"any\"]\nfrom = [\"strangers\"]\n\
             [[host.sluice.rule]]\nname = \"services\"\nallow = [\"5432/tcp\"]\n",
        ));
        let stores = world.listen("[::]:5432");
        let mut denied = [
            world.connect("203.0.113.9", "192.0.2.10:5432", &stores),
            world.connect("[2001:db8:bad::9]", "[2001:db8:2::10]:5432", &stores),
        ];
        let mut admitted = world.connect("198.51.100.7", "192.0.2.10:5432", &stores);
        world.run(&["enforce", "--keep"]).exits(0);
        // The server speaks first: tracking takes the connection for the host's own.
        for (client, server) in &mut denied {
            server.write_all(b"seed").expect("sent");
            let mut bytes = [0; 4];
            client.read_exact(&mut bytes).expect("received");
        }
        assert!(denied.iter_mut().all(flows), "they go on");
        let cut = world.run(&["--format", "json", "cut"]).exits(0);
        let expected = ["inbound 203.0.113.9 5432/tcp", "inbound 2001:db8:bad::9 5432/tcp"];
        let mut found = living(&cut);
        found.sort();
        assert_eq!(found, [expected[1], expected[0]]);
        let until = Instant::now() + Duration::from_secs(2);
        while Instant::now() < until {
            assert!(!denied.iter_mut().any(flows), "they are ended for good");
        }
        assert!(flows(&mut admitted), "whoever is admitted goes on");
        let again = world.run(&["--format", "json", "cut", "--dry-run"]).exits(0);
        assert_eq!(living(&again), Vec::<String>::new());
    });
}

/// A UDP server that speaks to everybody who once spoke to it, again and again.
fn speak_by_itself(socket: &UdpSocket, ends: &AtomicBool) {
    socket.set_read_timeout(Some(Duration::from_millis(10))).expect("a time");
    let mut known: Vec<SocketAddr> = Vec::new();
    let mut bytes = [0; 64];
    while !ends.load(Ordering::Relaxed) {
        if let Ok((_, from)) = socket.recv_from(&mut bytes)
            && !known.contains(&from)
        {
            known.push(from);
        }
        for peer in &known {
            let _ = socket.send_to(b"tide", peer);
        }
    }
}

#[test]
fn a_udp_server_that_speaks_by_itself_is_kept_quiet() {
    sealed("cutting::a_udp_server_that_speaks_by_itself_is_kept_quiet", || {
        let world = World::with(&allow("\"5353/udp\""));
        world.run(&["enforce", "--keep"]).exits(0);
        let server = world.node("sluice").run(|| UdpSocket::bind("0.0.0.0:5353"));
        let server = server.expect("run").expect("a port");
        let client = |address: &str| {
            let socket = world.node("street").run(|| UdpSocket::bind(address));
            let socket = socket.expect("run").expect("a port");
            socket.set_read_timeout(WAIT).expect("a time");
            socket.send_to(b"seed", "192.0.2.10:5353").expect("sent");
            socket
        };
        let ends = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| speak_by_itself(&server, &ends));
            let denied = client("203.0.113.9:4000");
            let admitted = client("198.51.100.7:4000");
            let mut bytes = [0; 64];
            denied.recv(&mut bytes).expect("it speaks");
            admitted.recv(&mut bytes).expect("it speaks");
            world.desk.write(policy(
                "[[host.sluice.rule]]\nname = \"not-they\"\ndeny = [\"any\"]\n\
                 from = [\"strangers\"]\n[[host.sluice.rule]]\nname = \"tides\"\n\
                 allow = [\"5353/udp\"]\n",
            ));
            world.run(&["enforce", "--keep"]).exits(0);
            denied.recv(&mut bytes).expect("it goes on");
            let cut = world.run(&["--format", "json", "cut"]).exits(0);
            assert_eq!(living(&cut), ["inbound 203.0.113.9 5353/udp"]);
            while denied.recv(&mut bytes).is_ok() {}
            // It goes on speaking, and the peer asking: none of it arrives.
            for _ in 0..5 {
                denied.send_to(b"seed", "192.0.2.10:5353").expect("sent");
                denied.recv(&mut bytes).expect_err("it is ended");
            }
            admitted.recv(&mut bytes).expect("whoever is admitted goes on");
            let status = world.run(&["--format", "json", "status"]).exits(0).json();
            assert_eq!(status["others"], serde_json::json!([]), "what keeps it quiet is ours");
            ends.store(true, Ordering::Relaxed);
        });
    });
}

/// One short connection after the other, and questions.
fn come_and_go(world: &World, from: &str, ends: &AtomicBool) {
    let street = world.node("street");
    let asks = street.run(|| UdpSocket::bind(format!("{from}:0"))).expect("run").expect("a port");
    while !ends.load(Ordering::Relaxed) {
        let client = format!("{from}:0").parse().expect("an address");
        let server = "192.0.2.10:80".parse().expect("an address");
        let made = street.run(|| connect_from(client, server));
        if let Ok(mut stream) = made.expect("run") {
            let _ = stream.set_read_timeout(WAIT);
            let _ = stream.read(&mut [0; 4]);
        }
        let _ = asks.send_to(b"name?", "192.0.2.10:53");
        if from == "203.0.113.9" {
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

#[test]
fn cutting_under_load_never_ends_a_listener() {
    sealed("cutting::cutting_under_load_never_ends_a_listener", || {
        let world = World::with(&policy(
            "[[host.sluice.rule]]\nname = \"not-they\"\ndeny = [\"any\"]\nfrom = [\"strangers\"]\n\
             [[host.sluice.rule]]\nname = \"services\"\nallow = [\"80/tcp\", \"53/udp\"]\n",
        ));
        let web = world.listen("[::]:80");
        web.set_nonblocking(false).expect("it waits");
        let names = world.node("sluice").run(|| UdpSocket::bind("[::]:53"));
        let names = names.expect("run").expect("a port");
        names.set_read_timeout(Some(Duration::from_millis(50))).expect("a time");
        let (ends, served) = (AtomicBool::new(false), AtomicU32::new(0));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                while !ends.load(Ordering::Relaxed) {
                    // One that was ended before it was accepted is an error of its own.
                    let Ok((mut stream, _)) = web.accept() else { continue };
                    let _ = stream.write_all(b"seed");
                    served.fetch_add(1, Ordering::Relaxed);
                }
            });
            scope.spawn(|| {
                let mut bytes = [0; 64];
                while !ends.load(Ordering::Relaxed) {
                    if let Ok((_, from)) = names.recv_from(&mut bytes) {
                        let _ = names.send_to(b"name", from);
                    }
                }
            });
            // Short connections by everybody, denied or not, over TCP and UDP.
            for from in ["203.0.113.9", "198.51.100.7"] {
                let (world, ends) = (&world, &ends);
                scope.spawn(move || come_and_go(world, from, ends));
            }
            world.run(&["release", "--keep"]).exits(0);
            let until = Instant::now() + Duration::from_secs(6);
            while Instant::now() < until {
                world.run(&["enforce", "--keep"]).exits(0);
                world.run(&["cut"]);
                world.run(&["release", "--keep"]).exits(0);
            }
            world.run(&["enforce", "--keep"]).exits(0);
            world.run(&["cut"]);
            let before = served.load(Ordering::Relaxed);
            // A SYN that was lost in a full queue is sent again after a second.
            let until = Instant::now() + Duration::from_secs(5);
            while served.load(Ordering::Relaxed) == before && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(20));
            }
            let after = served.load(Ordering::Relaxed);
            ends.store(true, Ordering::Relaxed);
            // The last accept is woken up.
            let wake = || TcpStream::connect("127.0.0.1:80").is_ok();
            let woken = world.node("sluice").run(wake).expect("run");
            assert!(woken && after > before, "the listener is there: {before} {after}");
        });
        let asks = world.node("street").run(|| UdpSocket::bind("198.51.100.7:0"));
        let asks = asks.expect("run").expect("a port");
        let still = std::thread::scope(|scope| {
            scope.spawn(|| {
                let mut bytes = [0; 64];
                for _ in 0..40 {
                    if let Ok((_, from)) = names.recv_from(&mut bytes) {
                        let _ = names.send_to(b"name", from);
                    }
                }
            });
            asks.set_read_timeout(Some(Duration::from_secs(1))).expect("a time");
            asks.send_to(b"name?", "192.0.2.10:53").expect("sent");
            asks.recv(&mut [0; 64]).is_ok()
        });
        assert!(still, "the name server is there");
    });
}

/// Who is turned away loses what is open, at once and without being asked twice; everybody else keeps theirs,
/// and so does the session that turns them away.
#[test]
fn what_those_who_are_turned_away_have_open_is_ended() {
    sealed("cutting::what_those_who_are_turned_away_have_open_is_ended", || {
        let rules = "[[host.sluice.rule]]\nname = \"services\"\nallow = [\"5432/tcp\"]\n";
        let world = World::with(&policy(rules));
        world.run(&["enforce", "--keep"]).exits(0);
        let stores = world.listen("[::]:5432");
        let mut theirs = [
            world.connect("203.0.113.9", "192.0.2.10:5432", &stores),
            world.connect("[2001:db8:bad::9]", "[2001:db8:2::10]:5432", &stores),
        ];
        let mut other = world.connect("192.0.2.1", "192.0.2.10:5432", &stores);
        assert!(theirs.iter_mut().all(flows) && flows(&mut other));
        world.desk.write(policy(&format!("turned-away = [\"strangers\"]\n{rules}")));
        let json = world.run(&["--format", "json", "enforce", "--keep"]).exits(0).json();
        let mut ended = words(&json["living"]);
        ended.sort();
        assert_eq!(ended, ["inbound 2001:db8:bad::9 5432/tcp", "inbound 203.0.113.9 5432/tcp"]);
        assert_eq!((&json["living_on"], &json["living"]["cut"]), (&0.into(), &true.into()));
        assert!(
            json["living"]["living"]
                .as_array()
                .expect("a list")
                .iter()
                .all(|it| { it["by"] == "baseline/turned-away" && it["ended"] == true })
        );
        assert!(!theirs.iter_mut().any(flows) && flows(&mut other));
        // With --cut, those are told beside all others that are ended.
        world.desk.write(policy(rules));
        world.run(&["enforce", "--keep"]).exits(0);
        let _theirs = world.connect("203.0.113.9", "192.0.2.10:5432", &stores);
        world.desk.write(policy("turned-away = [\"strangers\"]\n"));
        let json = world.run(&["--format", "json", "enforce", "--keep", "--cut"]).exits(0).json();
        let mut ended = words(&json["living"]);
        ended.sort();
        assert_eq!(ended, ["inbound 192.0.2.1 5432/tcp", "inbound 203.0.113.9 5432/tcp"]);
        let again = world.node("street").run(|| {
            connect_from(
                "203.0.113.9:0".parse().expect("it"),
                "192.0.2.10:5432".parse().expect("it"),
            )
        });
        assert!(again.expect("run").is_err(), "nobody answers them");
    });
}
