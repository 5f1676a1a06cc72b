//! What a policy calls an interface, and what the machine calls it.

use crate::harness::{Desk, Outcome};
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use tipstaff_linux::lab::changing::{bridge, call_also, rename};
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::{Here, Machine};

/// Everybody may reach 5432/tcp, but for who comes by the interface.
fn closed_by(interface: &str) -> String {
    format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
         interfaces = {{ outside = \"{interface}\" }}\n[host.sluice.default]\n\
         inbound = \"allow\"\n[[host.sluice.rule]]\nname = \"closed\"\n\
         deny = [\"5432/tcp\"]\ningress = [\"outside\"]\n"
    )
}

/// Nobody may reach 5432/tcp, but for who comes by the interface.
fn open_by(interface: &str) -> String {
    closed_by(interface).replace("\"allow\"", "\"deny\"").replace("deny = [", "allow = [")
}

struct World {
    lab: Lab,
    desk: Desk,
}

impl World {
    fn new(policy: &str) -> Self {
        Self { lab: street_sluice_granary(), desk: Desk::with(policy) }
    }

    fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.sluice(), ["--host", "sluice"].iter().chain(args))
    }

    fn hardware(&self, link: &str) -> String {
        let links = self.sluice().run(|| Here.links_seen());
        let links = links.expect("entered").expect("a list");
        let link = links.iter().find(|it| it.name == link).expect("the link");
        link.hardware.expect("an address").to_string()
    }

    /// Whether the street gets in.
    fn gets_in(&self) -> bool {
        self.lets_in("street", "192.0.2.1:0", "192.0.2.10:5432")
    }

    fn lets_in(&self, machine: &str, from: &str, to: &str) -> bool {
        let at = |text: &str| text.parse::<SocketAddr>().expect("an address");
        let listener = self.sluice().run(|| TcpListener::bind(at(to))).expect("entered");
        let _listener = listener.expect("a listener");
        let machine = self.lab.node(machine).expect("it");
        machine.run(|| connect_from(at(from), at(to))).expect("entered").is_ok()
    }
}

#[test]
fn those_that_are_not_there_are_said() {
    sealed("interfaces::those_that_are_not_there_are_said", || {
        let world = World::new(&closed_by("eth0"));
        let said = world.run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(!said.contains("names the interface"), "{said}");
        for (missing, words) in [
            ("wan0", "`closed` names the interface wan0, and there is none of that name here"),
            (
                "52:54:00:ff:ff:ff",
                "`closed` names the interface outside (52:54:00:ff:ff:ff), and none here has that",
            ),
        ] {
            world.desk.write(closed_by(missing));
            let said = world.run(&["enforce", "--keep"]).exits(0).stdout;
            assert!(said.contains(words), "{said}");
            assert!(world.run(&["status"]).exits(0).stdout.contains(words));
            let found = world.run(&["review", "--live"]).stdout;
            assert!(found.contains("interface-missing"), "{found}");
        }
        assert!(world.gets_in());
    });
}

#[test]
fn rules_by_a_hardware_address_follow_a_rename() {
    sealed("interfaces::rules_by_a_hardware_address_follow_a_rename", || {
        let world = World::new("");
        world.desk.write(closed_by(&world.hardware("eth0")));
        world.run(&["enforce", "--keep"]).exits(0);
        assert!(!world.gets_in());
        world.run(&["status"]).exits(0);
        world.sluice().run(|| rename("eth0", "wan0")).expect("entered");
        assert!(world.gets_in(), "the kernel knows names only");
        // Whichever command comes next.
        world.run(&["show"]).exits(0);
        assert!(!world.gets_in());
        world.run(&["status"]).exits(0);
        // What waits follows nothing before it is decided; a role may be the name of another.
        world.sluice().run(|| rename("eth1", "eth0")).expect("entered");
        world.sluice().run(|| rename("wan0", "outside")).expect("entered");
        let again = world.run(&["enforce", "--boot", "--if-gone"]).exits(1).stdout;
        assert!(again.contains("interfaces have other names"), "{again}");
        assert!(!world.gets_in());
        let again = world.run(&["--format", "json", "enforce", "--boot", "--if-gone"]).exits(0);
        assert_eq!(again.json()["done"], "there");
        let asked = world.run(&["compare", "kernel"]).exits(0).stdout;
        assert!(asked.contains("every packet fares the same"), "{asked}");
    });
}

#[test]
fn a_change_that_waits_is_kept_over_a_rename() {
    sealed("interfaces::a_change_that_waits_is_kept_over_a_rename", || {
        let world = World::new("");
        world.desk.write(closed_by(&world.hardware("eth0")));
        world.run(&["enforce", "--confirm-within", "120"]).exits(0);
        world.sluice().run(|| rename("eth0", "wan0")).expect("entered");
        world.run(&["confirm"]).exits(0);
        world.run(&["status"]).exits(0);
        assert!(!world.gets_in());
    });
}

#[test]
fn rules_mean_the_interface_of_another_name() {
    sealed("interfaces::rules_mean_the_interface_of_another_name", || {
        let world = World::new(&open_by("towards-the-street"));
        world.sluice().run(|| call_also("eth0", "towards-the-street")).expect("entered");
        // Longer than a name may be.
        world.run(&["enforce", "--keep"]).exits(2);
        world.sluice().run(|| call_also("eth0", "to-the-street")).expect("entered");
        world.desk.write(open_by("to-the-street"));
        let said = world.run(&["enforce", "--keep"]).exits(0).stdout;
        assert!(!said.contains("names the interface"), "{said}");
        assert!(world.gets_in());
    });
}

#[test]
fn rules_mean_the_whole_where_the_kernel_sees_only_that() {
    sealed("interfaces::rules_mean_the_whole_where_the_kernel_sees_only_that", || {
        let world = World::new(&closed_by("eth1"));
        world
            .sluice()
            .run(|| bridge("eth1", "joined", Ipv4Addr::new(10, 44, 8, 20)))
            .expect("entered");
        let get_in = || world.lets_in("granary", "10.44.8.20:0", "10.44.8.10:5432");
        assert!(get_in(), "the bridge carries packets");
        let words = "rules that deny mean all of joined, rules that allow nothing";
        let said = world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0).stdout;
        assert!(said.contains(words), "{said}");
        let found = world.run(&["review", "--live"]).stdout;
        assert!(found.contains("interface-enslaved") && found.contains(words), "{found}");
        assert!(!get_in());
        world.run(&["compare", "kernel"]).exits(0);
        // To let in all parts of a bridge is more than was asked for.
        world.desk.write(open_by("eth1"));
        world.run(&["enforce", "--keep"]).exits(0);
        assert!(!get_in());
        world.desk.write(open_by("joined"));
        world.run(&["enforce", "--keep"]).exits(0);
        assert!(get_in());
    });
}
