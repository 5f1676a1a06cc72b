//! A machine whose rules somebody wrote by hand, and the policy that does what they do.

mod sieve;

use crate::harness::{Desk, Outcome, give};
use serde_json::Value;
use sieve::{TABLE, accept, deny, equal, marked, out_by, sieve, to_port};
use std::io::Write;
use std::net::TcpListener;
use tipstaff_linux::lab::testing::{address, connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node, lead_elsewhere};
use tipstaff_wire::nf_tables::{self as nf, Base, Batch, Expression, MetaKey};

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
        let opens = |port: u16| {
            let connect = || connect_from((address(from), 0).into(), (address(own), port).into());
            street.run(connect).expect("entered").is_ok()
        };
        // Silence takes its time: all at once.
        std::thread::scope(|scope| {
            let all = [80, 443, 2202, 9100].map(|port| (port, scope.spawn(move || opens(port))));
            all.into_iter()
                .filter_map(|(port, it)| it.join().expect("done").then_some(port))
                .collect()
        })
    }
}

const CALLERS: [&str; 4] = ["198.51.100.7", "203.0.113.9", "2001:db8:51::7", "2001:db8:bad::9"];

fn count(list: &Value) -> usize {
    list.as_array().expect("a list").len()
}

/// Takes a table out, as its owner does.
fn take_out(world: &World, table: &str) {
    let mut batch = Batch::begin(1);
    batch.delete_table(table);
    world.sluice().run(|| give(batch)).expect("entered");
}

#[test]
fn rules_of_others_become_a_policy_that_takes_their_place() {
    sealed("adopting::rules_of_others_become_a_policy_that_takes_their_place", || {
        let world = World::with(sieve(Vec::new()));
        let before = CALLERS.map(|it| world.open(it));
        assert_eq!(
            before,
            [vec![80, 443, 2202], vec![80, 443], vec![80, 443, 2202], vec![80, 443]]
        );
        let told = world.run(&["adopt"]).exits(0);
        // What was counted is told with the rules; how much of it others sent is not for this test.
        let policy: String = told
            .stdout
            .lines()
            .filter(|it| !it.starts_with("names = "))
            .map(|it| match it.rsplit_once(": ") {
                Some((place, _)) if it.starts_with("# ") => format!("{place}: ...\n"),
                _ => format!("{it}\n"),
            })
            .collect();
        insta::assert_snapshot!(policy);
        assert!(told.stderr.contains("of 10 rules of others in 1 table, 5 are said"), "{told:?}");
        assert!(told.stderr.contains("met what the policy says"), "{}", told.stderr);

        // The whole way, with a connection that lives through it.
        let street = world.lab.node("street").expect("it");
        let connect = || connect_from((address("203.0.113.9"), 0).into(), shop_door());
        let mut visit = street.run(connect).expect("entered").expect("connected");
        world.desk.write(&told.stdout);
        world.run(&["compare", "others"]).exits(0);
        world.run(&["enforce", "--keep"]).exits(0);
        assert_eq!(CALLERS.map(|it| world.open(it)), before, "both");
        take_out(&world, TABLE);
        assert_eq!(CALLERS.map(|it| world.open(it)), before, "the policy alone");
        visit.write_all(b"x").expect("sent");
        let status = world.run(&["status", "--format", "json"]).json();
        assert_eq!(
            (&status["equal"], &status["others"]),
            (&Value::Bool(true), &Value::Array(vec![]))
        );
        let nothing = world.run(&["adopt"]).exits(1);
        assert!(nothing.stderr.contains("nobody else has rules here"), "{}", nothing.stderr);
    });
}

fn shop_door() -> std::net::SocketAddr {
    (address("192.0.2.10"), 443).into()
}

#[test]
fn what_a_policy_cannot_say_is_named() {
    sealed("adopting::what_a_policy_cannot_say_is_named", || {
        let with = |tests: Vec<Expression>, end: Expression| [tests, vec![end]].concat();
        let world = World::with(sieve(vec![
            (with(marked(7), deny()), "marked by a probe"),
            (with(to_port(9100), accept()), "gauge \u{1b}[2J\nand [[host.sluice.rule]]"),
            (with(to_port(443), deny()), "never"),
        ]));
        // Ahead of routing, where no policy is.
        let mut batch = Batch::begin(1);
        batch.new_table(&nf::Table { name: "early".into(), ..nf::Table::default() });
        batch.new_chain(&nf::Chain {
            table: "early".into(),
            name: "first".into(),
            kind: Some("filter".into()),
            hook: Some(nf::Hook { number: nf::Hook::PRE_ROUTING, priority: -300 }),
            policy: Some(1),
            ..nf::Chain::default()
        });
        batch.new_rule(&nf::Rule {
            table: "early".into(),
            chain: "first".into(),
            expressions: with(to_port(23), deny()),
            ..nf::Rule::default()
        });
        world.sluice().run(|| give(batch)).expect("entered");
        let report = world.run(&["adopt", "--untried", "--format", "json"]).exits(1).json();
        assert_eq!(
            report["not_taken"].to_string(),
            serde_json::json!([{
                "rule": "sieve/arrivals, rule 10",
                "why": "it looks at its mark",
                "keeps_out": true,
            }])
            .to_string()
        );
        assert_eq!(
            report["beside"].to_string(),
            serde_json::json!([{
                "chain": "early/first",
                "hook": "before routing",
                "sure": true,
            }])
            .to_string()
        );
        assert_eq!(
            report["idle"].to_string(),
            serde_json::json!(["sieve/arrivals, rule 12"]).to_string()
        );
        assert!(report["tried"].is_null() && report["hand_over"].is_null());
        assert_eq!(report["differs"].to_string(), "[]");
        let text = world.run(&["adopt", "--untried"]).exits(1);
        assert!(text.stderr.contains("without it, the policy may let in"), "{}", text.stderr);
        // Words of others are words.
        assert!(!text.stdout.contains('\u{1b}') && !text.stderr.contains('\u{1b}'), "{text:?}");
        world.desk.write(&text.stdout);
        world.run(&["show"]).exits(0);
        // The policy can be held against them again, without what no policy says.
        let same = world.run(&["compare", "others", "--format", "json"]).exits(0).json();
        assert_eq!(
            same["first"],
            "the rules of others in the kernel, without the 2 that no policy says"
        );
        world.run(&["rule", "add", "probe", "--allow", "161/udp"]).exits(0);
        let other = world.run(&["compare", "others"]).exits(1).stdout;
        assert!(other.contains("161/udp"), "{other}");
        assert_eq!(world.desk.text().matches("\n[[host.sluice.rule]]").count(), 6);
    });
}

#[test]
fn what_leaves_and_what_passes_through_is_tried_too() {
    sealed("adopting::what_leaves_and_what_passes_through_is_tried_too", || {
        let with = |tests: Vec<Expression>, end: Expression| [tests, vec![end]].concat();
        let chains = |more: Vec<(Vec<Expression>, &str)>| {
            let mut batch = sieve(Vec::new());
            let name = "departures";
            batch.new_chain(&nf::Chain {
                table: TABLE.into(),
                name: name.into(),
                kind: Some("filter".into()),
                hook: Some(nf::Hook { number: nf::Hook::LOCAL_OUT, priority: 0 }),
                policy: Some(1),
                ..nf::Chain::default()
            });
            let known = [
                (name, with(to_port(25), deny())),
                ("through", with([out_by("eth1"), to_port(873)].concat(), accept())),
            ];
            let more = more.into_iter().map(|it| (name, it.0));
            for (chain, expressions) in known.into_iter().chain(more) {
                let (table, chain) = (TABLE.into(), chain.into());
                batch.new_rule(&nf::Rule { table, chain, expressions, ..nf::Rule::default() });
            }
            batch
        };
        let world = World::with(chains(Vec::new()));
        let report = world.run(&["adopt", "--format", "json"]).json();
        let tried = &report["tried"];
        let number = |key: &str| tried[key].as_u64().expect("a number");
        assert!(number("outbound") > 30 && number("forwarded") > 200, "{tried:#}");
        assert_eq!((number("left_out"), number("disagreements")), (0, 0));

        // Of a rule that no policy can say, the copy shows what it does.
        let lifetime = vec![
            Expression::Payload { register: 1, base: Base::Network, offset: 8, length: 1 },
            equal([64]),
        ];
        let of_v4 = vec![Expression::Meta { register: 1, key: MetaKey::Family }, equal([2])];
        let odd = with([of_v4, to_port(80), lifetime].concat(), deny());
        let world = World::with(chains(vec![(odd, "")]));
        let told = world.run(&["adopt"]).exits(1);
        let shown = told.stderr.replace('\n', " ");
        assert!(shown.contains("outbound and"), "{shown}");
        let packet = "80/tcp from 192.0.2.10 to ";
        assert!(shown.contains(packet) && shown.contains("it was denied"), "{shown}");
    });
}

#[test]
fn the_order_of_steps_is_tried_on_copies() {
    sealed("adopting::the_order_of_steps_is_tried_on_copies", || {
        let world = World::with(sieve(Vec::new()));
        let lead = || lead_elsewhere("porter", 8088, (address("10.44.8.20"), 80).into());
        world.sluice().run(lead).expect("entered").expect("led");
        let report = world.run(&["adopt", "--hand-over", "--format", "json"]).json();
        let steps = report["hand_over"].as_array().expect("steps");
        assert_eq!(steps.len(), 4, "{report:#}");
        assert_eq!(count(&report["tables"]), 2);
        for at in [0, 2] {
            let tried = &steps[at]["tried"];
            assert_eq!(tried["disagreements"], 0, "{tried:#}");
            assert!(tried["packets"].as_u64().expect("a number") > 100_000, "{tried:#}");
        }
        assert!(steps[2]["what"].as_str().expect("words").contains("take out the table `sieve`"));
        // Nothing of all that has touched the machine.
        assert_eq!(world.open("203.0.113.9"), [80, 443]);
        let status = world.run(&["status", "--format", "json"]).json();
        assert_eq!((&status["in_force"], count(&status["others"])), (&Value::Bool(false), 2));
    });
}
