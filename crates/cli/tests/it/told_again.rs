//! A machine that was recorded answers as the real one did, also behind a mask.

use crate::harness::{Desk, MENDED};
use serde::Serialize;
use serde_json::{Value, json};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::Path;
use tipstaff_app::store::Home;
use tipstaff_app::{Loaded, compare, cut, draft, load_here, programs, review, status};
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::{Machine, Recorded};

/// The recorded machine that is kept for tests without a kernel.
const KEPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../app/tests/machines/sluice.json");

/// The policy that was in force there.
const KEPT_POLICY: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../app/tests/machines/sluice.toml");

struct World {
    desk: Desk,
    lab: Lab,
    doors: Vec<TcpListener>,
    _datagrams: UdpSocket,
}

impl World {
    fn build() -> Self {
        let (desk, lab) = (Desk::with(MENDED), street_sluice_granary());
        let sluice = lab.node("sluice").expect("it");
        let bind = || {
            let door = |port| TcpListener::bind(("::", port)).expect("a port");
            let doors = [80, 443, 2202, 9100].map(door).into_iter().collect();
            (doors, UdpSocket::bind("[::]:443").expect("a port"))
        };
        let (doors, _datagrams) = sluice.run(bind).expect("run");
        Self { desk, lab, doors, _datagrams }
    }

    fn node(&self, name: &str) -> &Node {
        self.lab.node(name).expect("it")
    }

    /// Both ends of a new connection.
    fn connect(&self, from: &str, to: &str) -> (TcpStream, TcpStream) {
        let client = SocketAddr::new(from.parse().expect("an address"), 0);
        let server: SocketAddr = to.parse().expect("an address");
        let near = self.node("street").run(|| connect_from(client, server)).expect("run");
        let at_port =
            |it: &&TcpListener| it.local_addr().is_ok_and(|it| it.port() == server.port());
        let door = self.doors.iter().find(at_port).expect("a listener");
        (near.expect("connected"), door.accept().expect("accepted").0)
    }

    /// The command's result on sluice.
    fn json(&self, words: &[&str]) -> Value {
        let all = ["--host", "sluice", "--format", "json"].iter().chain(words);
        self.desk.on(self.node("sluice"), all).json()
    }

    fn home(&self) -> Home {
        let state = self.desk.state();
        self.node("sluice").run(|| Home::of(&state, &self.desk.note())).expect("run")
    }

    fn here(&self, machine: &dyn Machine) -> Loaded {
        load_here(machine, Path::new("policy.toml"), Some("sluice")).expect("a policy")
    }
}

fn recorded(facts: &Value) -> Recorded {
    serde_json::from_value(facts["machine"].clone()).expect("a machine")
}

/// Without what goes on while one looks: neighbours are asked for all the time.
fn still(mut report: Value) -> Value {
    for rule in report["rules"].as_array_mut().into_iter().flatten() {
        (rule["packets"], rule["bytes"]) = (Value::Null, Value::Null);
    }
    report
}

fn value(report: &impl Serialize) -> Value {
    serde_json::to_value(report).expect("a value")
}

#[test]
fn a_recorded_machine_answers_as_the_real_one_did() {
    sealed("told_again::a_recorded_machine_answers_as_the_real_one_did", || {
        let world = World::build();
        // By the same name it is the same policy.
        std::env::set_current_dir(world.desk.path()).expect("entered");
        // They live on, though the policy would not admit them.
        let living = [
            world.connect("203.0.113.66", "192.0.2.10:443"),
            world.connect("2001:db8:bad::9", "[2001:db8:2::10]:2202"),
        ];
        let welcome = world.connect("198.51.100.7", "192.0.2.10:2202");
        world.desk.on(world.node("sluice"), ["--host", "sluice", "enforce", "--keep"]).exits(0);
        let facts = world.json(&["facts"]);
        assert_eq!(facts["masked"], false);
        let machine = recorded(&facts);
        let loaded = world.here(&machine);
        let found = |it: &dyn Fn() -> Value, words: &[&str]| {
            assert_eq!(still(it()), still(world.json(words)), "{words:?}");
        };
        let home = world.home();
        found(&|| value(&status::report(&machine, &loaded, &home).expect("told")), &["status"]);
        found(&|| value(&draft::report(&machine, &drafted()).expect("told")), &["draft"]);
        found(
            &|| value(&review::report(&machine, &loaded, true).expect("told")),
            &["review", "--live"],
        );
        found(
            &|| value(&cut::report(&machine, cut::End::None).expect("told")),
            &["cut", "--dry-run"],
        );
        found(
            &|| {
                let policy = Path::new("policy.toml");
                let place = compare::Place {
                    machine: &machine,
                    home: &home,
                    policy,
                    host: Some("sluice"),
                    postures: &[],
                };
                let kernel = compare::Operand::Kernel;
                value(&compare::report(&place, Some(&kernel), None, false).expect("told"))
            },
            &["compare", "kernel"],
        );
        if let Ok(report) = programs::report(&machine) {
            found(&|| value(&report), &["programs"]);
        }
        behind_a_mask(&world, &machine);
        keep(&facts);
        drop((living, welcome));
    });
}

/// Other addresses, and the same answers.
fn behind_a_mask(world: &World, machine: &Recorded) {
    let facts = world.json(&["facts", "--mask"]);
    assert_eq!(facts["masked"], true);
    let text = facts.to_string();
    for known in ["192.0.2.", "198.51.100.", "203.0.113.", "10.44.8.", "2001:db8:", "fd44:8:"] {
        assert!(!text.contains(known), "{known} shows in {text}");
    }
    let masked = recorded(&facts);
    let living = |machine: &Recorded| {
        let mut report = value(&cut::report(machine, cut::End::None).expect("told"));
        let list = report["living"].as_array_mut().expect("a list");
        assert_eq!(list.len(), 2, "{list:?}");
        for it in list {
            (it["from"], it["to"]) = (json!("somebody"), json!("here"));
        }
        report
    };
    assert_eq!(living(&masked), living(machine), "the same rules decide about the same senders");
    let drafted = |machine: &Recorded| {
        let policy = draft::report(machine, &drafted()).expect("told").policy;
        policy.lines().filter(|it| it.starts_with("allow")).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(drafted(&masked), drafted(machine));
}

/// `TIPSTAFF_BLESS=1` keeps it for tests without a kernel. The path of the programs is no path of a machine's.
fn keep(facts: &Value) {
    if std::env::var_os("TIPSTAFF_BLESS").is_none() {
        return;
    }
    let mut machine = facts["machine"].clone();
    (machine["name"], machine["release"]) = (json!("sluice"), json!("6.12.0"));
    let text = serde_json::to_string_pretty(&machine).expect("a text") + "\n";
    let own = std::env::current_exe().expect("our file");
    let text = text.replace(own.to_str().expect("a text"), "/usr/sbin/catalogued");
    std::fs::write(KEPT, text).expect("written");
    std::fs::write(KEPT_POLICY, MENDED).expect("written");
}

fn drafted() -> draft::Wanted<'static> {
    draft::Wanted { host: Some("sluice"), ..draft::Wanted::default() }
}
