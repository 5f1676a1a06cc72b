//! A machine whose rules somebody wrote by hand, and the policy that does what they do.

mod sieve;

use crate::harness::{Desk, Outcome, give};
use serde_json::Value;
use sieve::{accept, marked, sieve, to_port};
use std::net::TcpListener;
use tipstaff_linux::lab::testing::{address, connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_wire::nf_tables::Batch;

struct World {
    lab: Lab,
    desk: Desk,
    _listeners: Vec<TcpListener>,
}

impl World {
    fn with(batch: Batch) -> Self {
        let lab = street_sluice_granary();
        let listeners = lab
            .node("sluice")
            .expect("it")
            .run(|| {
                give(batch);
                let listen = |port: u16| TcpListener::bind(("::", port)).expect("bound");
                [80, 443, 2202, 9100].map(listen).into()
            })
            .expect("entered");
        Self { lab, desk: Desk::with("edition = 1\n[host.sluice]\n"), _listeners: listeners }
    }

    fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    fn run(&self, words: &[&str]) -> Outcome {
        self.desk.on(self.sluice(), ["--host", "sluice"].iter().chain(words))
    }

    /// Which of some doors open to somebody outside.
    fn open(&self, from: &str) -> Vec<u16> {
        let own = if from.contains(':') { "2001:db8:2::10" } else { "192.0.2.10" };
        let street = self.lab.node("street").expect("it");
        let opens = |port: &u16| {
            let connect = || connect_from((address(from), 0).into(), (address(own), *port).into());
            street.run(connect).expect("entered").is_ok()
        };
        [80, 443, 2202, 9100].into_iter().filter(opens).collect()
    }
}

fn texts(list: &Value) -> Vec<&str> {
    list.as_array().expect("a list").iter().filter_map(Value::as_str).collect()
}

#[test]
fn rules_of_others_become_a_policy_that_takes_their_place() {
    sealed("adopting::rules_of_others_become_a_policy_that_takes_their_place", || {
        let world = World::with(sieve(Vec::new()));
        let callers = ["198.51.100.7", "203.0.113.9", "2001:db8:51::7", "2001:db8:bad::9"];
        let before = callers.map(|it| world.open(it));
        let told = world.run(&["adopt", "--hand-over"]);
        println!("{}\n{}", told.stdout, told.stderr);
        let report = world.run(&["adopt", "--format", "json", "--untried"]).json();
        println!("{report:#}");
        println!("{before:?} {:?}", texts(&report["idle"]));
        let _ = (marked(1), to_port(1), accept());
    });
}
