//! Three hosts, each with its own folder of a policy, and who seals for them.

use crate::harness::{Desk, Outcome, finish, named};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::street_sluice_granary_bench;
use tipstaff_linux::lab::{Lab, Node};

pub const HOSTS: [&str; 3] = ["sluice", "granary", "bench"];

/// Keys made for tests, and nothing else.
pub const KEY: &str = include_str!("../../../../sealed/tests/it/keys/duty");
pub const PUBLIC: &str = include_str!("../../../../sealed/tests/it/keys/duty.pub");
pub const VISITOR: &str = include_str!("../../../../sealed/tests/it/keys/visitor");

/// As long as a busy machine may take for what takes some seconds.
pub const MOST: Duration = Duration::from_secs(90);

/// The desk of whoever seals.
pub struct Office {
    pub desk: Desk,
    /// What is said to every command about the carrier.
    pub carrier: Vec<(String, String)>,
}

impl Office {
    /// With a folder as the carrier.
    pub fn new(policy: &str) -> Self {
        let desk = Desk::with(policy);
        let path = |name: &str| desk.path().join(name);
        fs::write(path("key"), KEY).expect("written");
        fs::write(path("visitor"), VISITOR).expect("written");
        fs::write(path("signers"), format!("duty {PUBLIC}")).expect("written");
        fs::create_dir(path("carrier")).expect("a folder");
        let carrier = path("carrier").display().to_string();
        Self { desk, carrier: vec![("TIPSTAFF_CARRIER".into(), carrier)] }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.desk.path().join(name)
    }

    /// What is sealed under a number, in a folder as the carrier.
    pub fn bundle(&self, number: u64) -> PathBuf {
        self.path(&format!("carrier/sealed/{number:012}.sealed"))
    }

    /// The program with words behind `fleet`.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = self.desk.command(["fleet"].iter().chain(words));
        self.tell(&mut command);
        command
    }

    /// Which fleet it is, where its carrier is, and who may sign.
    pub fn tell(&self, command: &mut Command) {
        command.env("TIPSTAFF_FLEET", "tidewater").env("TIPSTAFF_SIGNERS", self.path("signers"));
        command.envs(self.carrier.iter().map(|it| (&it.0, &it.1)));
    }

    pub fn fleet(&self, words: &[&str]) -> Outcome {
        finish(self.command(words))
    }

    #[track_caller]
    pub fn seals(&self, policy: &str) {
        self.desk.write(policy);
        self.fleet(&["seal", "--key", "key"]).exits(0);
    }
}

/// The office, and a lab with the three hosts.
pub struct World {
    pub office: Office,
    pub lab: Lab,
    attending: BTreeMap<String, Attending>,
    /// What is loaded ahead of the program on hosts whose clocks are off.
    pub clocks: BTreeMap<String, PathBuf>,
}

/// Somebody who attends.
pub struct Attending(Child);

impl Drop for Attending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl World {
    pub fn new(policy: &str) -> Self {
        Self::of(policy, street_sluice_granary_bench(), &HOSTS)
    }

    pub fn of<H: AsRef<str>>(policy: &str, lab: Lab, hosts: &[H]) -> Self {
        let (attending, clocks) = (BTreeMap::new(), BTreeMap::new());
        let world = Self { office: Office::new(policy), lab, attending, clocks };
        for host in hosts {
            named(host.as_ref(), world.node(host.as_ref()));
        }
        world
    }

    pub fn node(&self, host: &str) -> &Node {
        self.lab.node(host).expect("it")
    }

    /// Where a host has its policy.
    pub fn policy(&self, host: &str) -> PathBuf {
        self.office.path(&format!("{host}-policy"))
    }

    /// Writes an order by hand, as whoever can write at the carrier could.
    pub fn order(&self, by: u64, number: u64, hosts: &[&str]) {
        let folder = self.office.path("carrier/orders");
        fs::create_dir_all(&folder).expect("a folder");
        let order = serde_json::json!({
            "number": number, "hosts": hosts, "all": false, "held": false,
            "attempt": by, "why": "", "at": "2026-12-01T09:00:00Z",
        });
        fs::write(folder.join(format!("{by:012}.json")), order.to_string()).expect("written");
    }

    pub fn host(&self, host: &str, words: &[&str]) -> Command {
        let policy = self.policy(host).display().to_string();
        let before = ["--host", host, "--policy", &policy];
        let mut command = self.office.desk.command(before.iter().chain(words));
        self.office.tell(&mut command);
        command.envs(self.clocks.get(host).map(|it| ("LD_PRELOAD", it)));
        self.node(host).start_here(&mut command).expect("it can start there");
        command
    }

    pub fn on(&self, host: &str, words: &[&str]) -> Outcome {
        finish(self.host(host, words))
    }

    pub fn attend(&mut self, host: &str) {
        let mut command = self.host(host, &["attend"]);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        let attending = Attending(command.spawn().expect("it starts"));
        self.attending.insert(host.to_owned(), attending);
    }

    /// Whoever attends there is ended as nobody can prevent.
    pub fn end(&mut self, host: &str) {
        self.attending.remove(host);
    }

    /// How a host stands, by what `fleet status` says.
    pub fn stands(&self, host: &str) -> Value {
        let found = self.office.fleet(&["status", "--format", "json"]).json();
        let hosts = found["hosts"].as_array().expect("hosts").clone();
        hosts
            .into_iter()
            .find(|it| it["host"] == host)
            .unwrap_or_else(|| panic!("no {host}: {found}"))
    }

    /// Waits until a host stands so.
    #[track_caller]
    pub fn until(&self, host: &str, stands: &str, has: u64) -> Value {
        let began = Instant::now();
        loop {
            let now = self.stands(host);
            if now["stands"] == stands && now["said"]["has"]["number"] == has {
                return now;
            }
            assert!(began.elapsed() < MOST, "{host} does not stand {stands}: {now}");
            sleep(Duration::from_millis(200));
        }
    }

    /// Whether the kernel of a host holds what its policy means.
    #[track_caller]
    pub fn in_force(&self, host: &str) {
        let found = self.on(host, &["status", "--format", "json"]).json();
        assert_eq!((&found["in_force"], &found["equal"]), (&true.into(), &true.into()), "{host}");
    }
}
