//! A machine whose addresses the policy leaves out, and that are others from one moment to the next.

use crate::harness::{Desk, Outcome};
use std::net::{SocketAddr, TcpListener};
use tipstaff_linux::lab::changing::{gain, lose};
use tipstaff_linux::lab::testing::{address, connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

/// 443 at whatever address the host has, 80 at one of them, 22 from whoever is on its links, and 25 from
/// whoever is not.
const POLICY: &str = r#"
edition = 1

[host.sluice.default]
inbound = "reject"

[[host.sluice.rule]]
name = "catalogue"
allow = ["443/tcp"]
to = ["this-host"]

[[host.sluice.rule]]
name = "one-of-them"
allow = ["80/tcp"]
at = ["192.0.2.77", "2001:db8:2::77"]

[[host.sluice.rule]]
name = "shell"
allow = ["22/tcp"]
from = ["on-link"]

[[host.sluice.rule]]
name = "strangers-only"
allow = ["25/tcp"]
from = ["!on-link", "!this-host"]
"#;

struct World {
    lab: Lab,
    desk: Desk,
}

impl World {
    fn new(policy: &str) -> Self {
        Self { lab: street_sluice_granary(), desk: Desk::with(policy) }
    }

    fn node(&self, name: &str) -> &Node {
        self.lab.node(name).expect("it")
    }

    fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.node("sluice"), ["--host", "sluice"].iter().chain(args))
    }

    /// Whether a machine gets from one address to a port at another, by a connection.
    fn gets_in(&self, machine: &str, from: &str, to: &str, port: u16) -> bool {
        let to = SocketAddr::new(address(to), port);
        let listener = self.node("sluice").run(|| TcpListener::bind(to)).expect("entered");
        let _listener = listener.expect("a listener");
        let from = SocketAddr::new(address(from), 0);
        self.node(machine).run(|| connect_from(from, to)).expect("entered").is_ok()
    }

    fn moves(&self, change: impl FnOnce() + Send) {
        self.node("sluice").run(change).expect("entered");
    }
}

#[test]
fn rules_hold_while_the_addresses_change() {
    sealed("moving::rules_hold_while_the_addresses_change", || {
        let world = World::new(POLICY);
        let stopped = world.run(&["enforce", "--keep"]).exits(1).stderr;
        assert!(stopped.contains("nothing says that `sluice` is this machine"), "{stopped}");
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        // Where its rules depend on where it is, they are not known by what they were.
        let docket = world.run(&["docket", "--format", "json"]).exits(0).json();
        let entry = &docket["entries"][0];
        assert_eq!((entry["follows"].as_bool(), &entry["rules"]), (Some(true), &().into()));
        // The ends of both versions: the street's, the host's first, and what it has later.
        let versions = [
            ("192.0.2.1", "192.0.2.10", "192.0.2.77", 24, "198.51.100.7"),
            ("2001:db8:2::1", "2001:db8:2::10", "2001:db8:2::77", 64, "2001:db8:51::7"),
        ];
        for (street, first, later, prefix, stranger) in versions {
            for (from, port, gets_in) in [
                (street, 443, true),
                (stranger, 443, true),
                (street, 80, false),
                (street, 22, true),
                (stranger, 22, false),
                (street, 25, false),
                (stranger, 25, true),
            ] {
                let got = world.gets_in("street", from, first, port);
                assert_eq!(got, gets_in, "{from} to {first}:{port}");
            }
            // A new address is the host's own at once, without any command; and so is the loss of one.
            world.moves(move || gain("eth0", address(later), prefix));
            assert!(world.gets_in("street", street, later, 443));
            assert!(world.gets_in("street", street, later, 80), "at one of its own addresses now");
            assert!(!world.gets_in("street", street, first, 80));
        }
        // Another network: who is on it is known with the next command.
        world.moves(|| {
            gain("eth0", address("198.51.100.1"), 24);
            gain("eth0", address("2001:db8:51::1"), 64);
        });
        for (stranger, first) in
            [("198.51.100.7", "192.0.2.10"), ("2001:db8:51::7", "2001:db8:2::10")]
        {
            assert!(!world.gets_in("street", stranger, first, 22));
        }
        let again = world.run(&["enforce", "--boot", "--if-gone"]).exits(1).stdout;
        assert!(again.contains("on other networks"), "{again}");
        for (stranger, first) in
            [("198.51.100.7", "192.0.2.10"), ("2001:db8:51::7", "2001:db8:2::10")]
        {
            assert!(world.gets_in("street", stranger, first, 22));
            assert!(!world.gets_in("street", stranger, first, 25));
        }
        world.run(&["status"]).exits(0);
        let same = world.run(&["compare", "kernel"]).exits(0).stdout;
        assert!(same.contains("every packet fares the same"), "{same}");
        // And back: whichever command comes next sees to it.
        world.moves(|| {
            lose("eth0", address("198.51.100.1"), 24);
            lose("eth0", address("2001:db8:51::1"), 64);
        });
        world.run(&["show"]).exits(0);
        assert!(!world.gets_in("street", "198.51.100.7", "192.0.2.10", 22));
        assert!(world.gets_in("street", "198.51.100.7", "192.0.2.10", 25));
    });
}

/// What is for many is not for one of the host's own addresses, and whoever asks about this very machine is
/// answered by what it has now.
#[test]
fn questions_are_answered_by_what_the_machine_has_now() {
    sealed("moving::questions_are_answered_by_what_the_machine_has_now", || {
        let world = World::new(POLICY);
        let ask = |from: &str, traffic: &str| {
            let asked = ["ask", "--from", from, "--traffic", traffic];
            world.desk.on(world.node("sluice"), asked)
        };
        let shell = ask("192.0.2.1", "22/tcp").exits(0).stdout;
        assert!(shell.contains("by shell") && shell.contains("to 192.0.2.10"), "{shell}");
        let stranger = ask("198.51.100.7", "22/tcp").exits(0).stdout;
        assert!(stranger.contains("by default/inbound"), "{stranger}");
        world.moves(|| gain("eth0", address("198.51.100.1"), 24));
        let near = ask("198.51.100.7", "22/tcp").exits(0).stdout;
        assert!(near.contains("by shell"), "{near}");
        // Of a machine that is not here nobody knows which networks it is on.
        world.desk.write(POLICY.replace("host.sluice", "host.elsewhere"));
        let asked = ["ask", "--host", "elsewhere", "--from", "198.51.100.7", "--traffic", "22/tcp"];
        let both = world.desk.on(world.node("sluice"), asked).exits(1).stdout;
        assert!(both.contains("whether it is on a link of the host"), "{both}");
        assert!(both.contains("allow") && both.contains("reject"), "{both}");
        let who = ["ask", "--host", "elsewhere", "--who", "22/tcp"];
        let who = world.desk.on(world.node("sluice"), who).exits(0).stdout;
        assert!(who.contains("on-link"), "{who}");
        assert!(
            !world
                .desk
                .on(world.node("sluice"), ["rehearse", "--host", "elsewhere"])
                .exits(0)
                .stdout
                .is_empty()
        );
    });
}

#[test]
fn what_cannot_be_said_of_such_a_host_is_a_mistake() {
    let refused = |rest: &str| {
        let desk = Desk::with(format!("edition = 1\n[host.sluice]\n{rest}"));
        desk.run(["show"]).exits(2).stderr
    };
    let away = refused("turned-away = [\"on-link\"]\n");
    assert!(away.contains("who `on-link` is changes with the host's addresses"), "{away}");
    let nobody = refused(
        "[[host.sluice.rule]]\nname = \"it\"\nallow = [\"443/tcp\"]\n\
         from = [\"192.0.2.0/24\", \"!192.0.2.0/24\", \"!this-host\"]\n",
    );
    assert!(nobody.contains("leaves out all that it names"), "{nobody}");
    // What is wrong with a list is told once, although it is read for several cases.
    let once = refused(
        "[[host.sluice.rule]]\nname = \"it\"\nallow = [\"443/tcp\"]\n\
         from = [\"this-host\", \"192.0.2.300\"]\n",
    );
    assert_eq!(once.matches("192.0.2.300").count(), 2, "the message and the line: {once}");
}
