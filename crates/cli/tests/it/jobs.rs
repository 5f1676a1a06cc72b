//! Everyday jobs, from the command line alone: each line is what somebody types, and real connections tell
//! whether it did what it was meant to.

use crate::harness::{Desk, Outcome};
use std::cell::Cell;
use std::net::{SocketAddr, TcpListener};
use tipstaff_linux::lab::testing::{address, connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

struct World {
    lab: Lab,
    desk: Desk,
    typed: Cell<usize>,
}

/// Senders, as far as the street speaks for them.
const CURATOR: [&str; 2] = ["198.51.100.7", "2001:db8:51::7"];
const STRANGER: [&str; 2] = ["203.0.113.9", "2001:db8:bad::9"];
/// Where `sluice` is reached from outside.
const SLUICE: [&str; 2] = ["192.0.2.10", "2001:db8:2::10"];

impl World {
    /// A machine whose policy is drafted: `tipstaff draft --host sluice > policy.toml`.
    fn new() -> Self {
        let world =
            Self { lab: street_sluice_granary(), desk: Desk::with(""), typed: Cell::new(0) };
        std::fs::remove_file(world.desk.path().join("policy.toml")).expect("gone");
        let listeners: Vec<TcpListener> =
            [22, 80, 443].into_iter().map(|port| world.listen(port)).collect();
        // `tipstaff draft > policy.toml`
        let draft = world.run("draft --host sluice").exits(0).stdout;
        world.desk.write(&draft);
        drop(listeners);
        world
    }

    fn node(&self, name: &str) -> &Node {
        self.lab.node(name).expect("it")
    }

    fn listen(&self, port: u16) -> TcpListener {
        let listener = self.node("sluice").run(|| TcpListener::bind(format!("[::]:{port}")));
        listener.expect("entered").expect("a port")
    }

    /// Somebody types a line.
    fn run(&self, line: &str) -> Outcome {
        self.typed.set(self.typed.get() + 1);
        let parts = line.split('"').enumerate();
        let words = parts.flat_map(|(at, part)| match at % 2 {
            0 => part.split_ascii_whitespace().collect(),
            _ => vec![part],
        });
        self.desk.on(self.node("sluice"), words)
    }

    /// Whether senders of both versions reach a port of `sluice` at those addresses.
    fn reaches(&self, machine: &str, from: [&str; 2], to: [&str; 2], port: u16) -> bool {
        let _listener = self.listen(port);
        let got = [0, 1].map(|at| {
            let (from, to) = (address(from[at]), address(to[at]));
            let connect = || connect_from(SocketAddr::new(from, 0), SocketAddr::new(to, port));
            self.node(machine).run(connect).expect("entered").is_ok()
        });
        assert_eq!(got[0], got[1], "both versions fare alike at {port} from {from:?}");
        got[0]
    }

    fn outside(&self, from: [&str; 2], port: u16) -> bool {
        self.reaches("street", from, SLUICE, port)
    }

    fn inside(&self, port: u16) -> bool {
        self.reaches("granary", ["10.44.8.20", "fd44:8::20"], ["10.44.8.10", "fd44:8::10"], port)
    }

    /// Whether `sluice` reaches a port of the street.
    fn goes_out(&self, port: u16) -> bool {
        let (sluice, street) = (self.node("sluice"), self.node("street"));
        let _listener = street.run(|| TcpListener::bind(format!("[::]:{port}"))).expect("entered");
        let got = [("192.0.2.10", "192.0.2.1"), ("2001:db8:2::10", "2001:db8:2::1")].map(|it| {
            let (from, to) = (address(it.0), address(it.1));
            let connect = || connect_from(SocketAddr::new(from, 0), SocketAddr::new(to, port));
            sluice.run(connect).expect("entered").is_ok()
        });
        assert_eq!(got[0], got[1], "both versions fare alike to {port}");
        got[0]
    }

    /// How many lines were typed since this was asked last.
    fn lines(&self) -> usize {
        self.typed.replace(0)
    }
}

/// Runs one job, in a lab of its own.
fn job(name: &str, lines: usize, work: impl FnOnce(&World)) {
    sealed(&format!("jobs::{name}"), || {
        let world = World::new();
        world.lines();
        work(&world);
        assert_eq!(world.lines(), lines, "lines typed");
    });
}

#[test]
fn a_server_that_denies_by_default_and_its_forgotten_shell() {
    job("a_server_that_denies_by_default_and_its_forgotten_shell", 7, |world| {
        world.run("rule add catalogue --allow 80/tcp 443/tcp").exits(0);
        world.run("host change sluice --shell 22/tcp").exits(0);
        let found = world.run("review").exits(1).stdout;
        assert!(found.contains("shell-lockout"), "{found}");
        let mend = "tipstaff rule add shell --allow 22/tcp --from PLACE --first";
        assert!(found.contains(mend), "{found}");
        let refused = world.run("enforce --keep").exits(1);
        assert!(
            refused.stdout.contains("22/tcp") || refused.stderr.contains("22/tcp"),
            "{refused:?}"
        );
        world.run("place add curators --addresses 198.51.100.0/27 2001:db8:51::/64").exits(0);
        let said =
            world.run("rule add shell --allow 22/tcp --from curators --first").exits(0).stdout;
        assert!(said.contains("opens") && said.contains("from curators"), "{said}");
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 22) && !world.outside(STRANGER, 22));
        assert!(world.outside(STRANGER, 443) && !world.outside(CURATOR, 8080));
    });
}

#[test]
fn a_port_shut_both_ways_while_its_secure_twin_works() {
    job("a_port_shut_both_ways_while_its_secure_twin_works", 4, |world| {
        world.run("rule add catalogue --allow 443/tcp").exits(0);
        let said = world.run("rule add no-plain --deny 80/tcp --first").exits(0).stdout;
        assert!(
            said.contains("changes nothing: all of it fared so before, by `default/inbound`"),
            "{said}"
        );
        let said =
            world.run("rule add no-plain-out --direction outbound --deny 80/tcp").exits(0).stdout;
        assert!(said.contains("closes") && said.contains("80/tcp"), "{said}");
        world.run("enforce --keep").exits(0);
        assert!(world.outside(STRANGER, 443) && !world.outside(STRANGER, 80) && !world.inside(80));
        assert!(world.goes_out(443) && !world.goes_out(80));
    });
}

#[test]
fn six_described_ports_of_one_product_from_inside_only() {
    job("six_described_ports_of_one_product_from_inside_only", 5, |world| {
        let ports =
            "5432/tcp=Queries 5433/tcp=Copies 5434/tcp=Backup 5435/tcp=Trials 5436/tcp=Watch";
        world
            .run(&format!("service add seedbase --ports {ports} \"5437/tcp=Work on it\""))
            .exits(0);
        let listed = world.run("service list").exits(0).stdout;
        assert!(listed.contains("5437/tcp: Work on it"), "{listed}");
        let said = world.run("rule add seedbase --allow seedbase --from 10.44.8.0/24 fd44:8::/64");
        let said = said.exits(0).stdout;
        assert!(said.contains("5432-5437/tcp"), "{said}");
        world.run("enforce --keep").exits(0);
        for port in [5432, 5433, 5434, 5435, 5436, 5437] {
            assert!(world.inside(port) && !world.outside(CURATOR, port), "{port}");
        }
        assert!(!world.inside(5438));
        let _held = world.listen(5432);
        let reach = world.run("reach --format json").exits(0).json();
        assert_eq!(reach["listeners"][0]["meanings"], serde_json::json!(["Queries"]));
    });
}

#[test]
fn a_wide_rule_is_found_doubted_and_removed() {
    job("a_wide_rule_is_found_doubted_and_removed", 7, |world| {
        world.run("rule add for-now --allow any --from 198.51.100.0/24 2001:db8:51::/48").exits(0);
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 8080));
        let from = "--from 198.51.100.0/27 2001:db8:51::/64";
        let said = world.run(&format!("rule add catalogue --allow 443/tcp {from}")).exits(0).stdout;
        assert!(said.contains("`for-now` above already decides all of it"), "{said}");
        world.run(&format!("rule add copies --allow 873/tcp {from}")).exits(0);
        let found = world.run("review").exits(1).stdout;
        assert!(found.contains("for-now wide-rule-above"), "{found}");
        assert!(found.contains("tipstaff rule remove for-now"), "{found}");
        let said = world.run("rule remove for-now").exits(0).stdout;
        assert!(said.contains("closes"), "{said}");
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 443) && world.outside(CURATOR, 873));
        assert!(!world.outside(CURATOR, 8080));
    });
}

#[test]
fn a_deny_goes_above_what_decides_before_it() {
    job("a_deny_goes_above_what_decides_before_it", 5, |world| {
        world.run("rule add catalogue --allow 443/tcp").exits(0);
        let said =
            world.run("rule add nuisance --deny any --from 203.0.113.0/24 2001:db8:bad::/48");
        let said = said.exits(0).stdout;
        assert!(said.contains("`catalogue` above decides a part"), "{said}");
        let found = world.run("review").exits(1).stdout;
        assert!(found.contains("tipstaff rule move nuisance --before catalogue"), "{found}");
        let said = world.run("rule move nuisance --before catalogue").exits(0).stdout;
        assert!(said.contains("closes") && said.contains("443/tcp"), "{said}");
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 443) && !world.outside(STRANGER, 443));
    });
}

#[test]
fn a_second_port_and_a_narrower_source_later() {
    job("a_second_port_and_a_narrower_source_later", 5, |world| {
        world.run("rule add catalogue --allow 80/tcp").exits(0);
        world.run("enforce --keep").exits(0);
        assert!(world.outside(STRANGER, 80) && !world.outside(STRANGER, 443));
        let said = world.run("rule change catalogue --also-allow 443/tcp").exits(0).stdout;
        assert!(
            said.contains("opens") && said.contains("443/tcp") && !said.contains("closes"),
            "{said}"
        );
        let said = world.run("rule change catalogue --not-from 203.0.113.0/24 2001:db8:bad::/48");
        assert!(said.exits(0).stdout.contains("closes"));
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 80) && world.outside(CURATOR, 443));
        assert!(!world.outside(STRANGER, 80) && !world.outside(STRANGER, 443));
    });
}

#[test]
fn labels_for_three_machines() {
    job("labels_for_three_machines", 10, |world| {
        world
            .run("host add granary --addresses 10.44.8.20/24 fd44:8::20/64 --labels shelf")
            .exits(0);
        world.run("host add bench --addresses 10.44.8.30/24 fd44:8::30/64 --labels shelf").exits(0);
        world.run("host change sluice --labels shelf").exits(0);
        world.run("label add shelf --why \"Whoever holds seeds\"").exits(0);
        let said = world
            .run("rule add gauge --label shelf --allow 9100/tcp --from 10.44.8.0/24 fd44:8::/64");
        let said = said.exits(0).stdout;
        assert!(["sluice", "granary", "bench"].iter().all(|it| said.contains(it)), "{said}");
        for host in ["sluice", "granary", "bench"] {
            let asked = format!("ask --host {host} --from 10.44.8.99 --traffic 9100/tcp");
            let answer = world.run(&asked).exits(0).stdout;
            assert!(answer.contains("allow  by gauge"), "{answer}");
        }
        world.run("expect add deny 9100/tcp --label shelf --from 203.0.113.0/24").exits(0);
        world.run("enforce --host sluice --keep").exits(0);
        assert!(world.inside(9100) && !world.outside(CURATOR, 9100));
    });
}

#[test]
fn two_interfaces_with_different_rules() {
    job("two_interfaces_with_different_rules", 7, |world| {
        // The draft names them after themselves.
        world.run("interface add outside eth0").exits(0);
        world.run("interface add stacks eth1").exits(0);
        world.run("rule add catalogue --allow 443/tcp --ingress outside").exits(0);
        world.run("rule add gauge --allow 9100/tcp --ingress stacks").exits(0);
        let both = world.run("ask --from 203.0.113.9 --traffic 443/tcp").exits(1).stdout;
        assert!(both.contains("in by eth0") && both.contains("in by not eth0"), "{both}");
        world.run("ask --from 203.0.113.9 --traffic 443/tcp --ingress outside").exits(0);
        world.run("enforce --keep").exits(0);
        assert!(world.outside(CURATOR, 443) && !world.outside(CURATOR, 9100));
        assert!(world.inside(9100) && !world.inside(443));
    });
}

#[test]
fn a_block_of_one_machine_undone() {
    job("a_block_of_one_machine_undone", 5, |world| {
        world.run("rule add catalogue --allow 443/tcp").exits(0);
        let said = world.run("host change sluice --also-turned-away 203.0.113.9 2001:db8:bad::9");
        assert!(said.exits(0).stdout.contains("closes"));
        world.run("enforce --keep").exits(0);
        // In this order: both live on one machine, which looks for its neighbour with the address of whoever speaks, and
        // those who are turned away hear nothing, not even where that is.
        assert!(world.outside(CURATOR, 443) && !world.outside(STRANGER, 443));
        let said = world.run("undo").exits(0).stdout;
        assert!(said.contains("opens") && said.contains("203.0.113.9"), "{said}");
        world.run("enforce --keep").exits(0);
        assert!(world.outside(STRANGER, 443));
    });
}

#[test]
fn a_clean_slate_and_the_way_back_from_it() {
    job("a_clean_slate_and_the_way_back_from_it", 9, |world| {
        world.run("rule add catalogue --allow 443/tcp").exits(0);
        world.run("enforce --keep").exits(0);
        assert!(!world.outside(STRANGER, 8080));
        world.run("release --keep").exits(0);
        assert!(world.outside(STRANGER, 8080), "nothing is denied any more");
        world.run("rule remove catalogue").exits(0);
        world.run("defaults --outbound deny").exits(0);
        // The way back: what was in force, and the file that says it.
        world.run("revert 1 --keep").exits(0);
        assert!(!world.outside(STRANGER, 8080) && world.outside(STRANGER, 443));
        let status = world.run("status").exits(1).stdout;
        assert!(status.contains("catalogue"), "{status}");
        let said = world.run("docket restore 1").exits(0).stdout;
        assert!(said.contains("catalogue"), "{said}");
        world.run("status").exits(0);
    });
}
