//! A real etcd of one or more members, over TLS with certificates on both sides.

use super::mishap::disk;
use super::world::World;
use crate::harness::{Outcome, finish};
use serde_json::{Value, json};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

/// A certificate authority, and what it vouches for: the members of the store, and the fleet's.
fn certificates(folder: &Path, addresses: &[&str]) {
    let names: Vec<String> = addresses.iter().map(|it| format!("IP:{it}")).collect();
    let script = format!(
        r#"
        new="-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes"
        openssl req -x509 $new -keyout ca.key -out ca.pem -days 2 -subj "/CN=Tidewater fleet"
        echo "subjectAltName={}" > names
        for who in store member; do
            openssl req $new -keyout $who.key -out $who.csr -subj "/CN=$who"
            openssl x509 -req -in $who.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out $who.pem -days 2 -extfile names
        done"#,
        names.join(",")
    );
    let mut made = Command::new("sh");
    made.args(["-ec", &script]).current_dir(folder).stderr(Stdio::null());
    assert!(made.status().expect("a shell").success(), "no certificates");
}

/// A store.
pub struct Store {
    program: PathBuf,
    /// Its members: the machine, its address, and the process while it runs.
    members: Vec<(String, String, Option<Child>)>,
}

impl Drop for Store {
    fn drop(&mut self) {
        for at in 0..self.members.len() {
            self.end(at);
        }
    }
}

impl Store {
    /// With a member on each of those machines; the office and the hosts are told of it.
    pub fn on(world: &mut World, program: PathBuf, machines: &[(&str, &str)]) -> Self {
        // Where disks may run full, they are not that of everybody.
        for at in 0..machines.len() {
            disk(&Self::folder(world, at));
        }
        let addresses: Vec<&str> = machines.iter().map(|it| it.1).collect();
        certificates(world.office.desk.path(), &addresses);
        let members: Vec<String> = addresses.iter().map(|it| format!("{it}:2379")).collect();
        let path = |name: &str| world.office.path(name).display().to_string();
        world.office.carrier = [
            ("TIPSTAFF_CARRIER", format!("etcd+https://{}/tidewater", members.join(","))),
            ("TIPSTAFF_CARRIER_CA", path("ca.pem")),
            ("TIPSTAFF_CARRIER_CERT", path("member.pem")),
            ("TIPSTAFF_CARRIER_KEY", path("member.key")),
        ]
        .map(|(name, value)| (name.to_owned(), value))
        .to_vec();
        let member = |it: &(&str, &str)| (it.0.to_owned(), it.1.to_owned(), None);
        let mut store = Self { program, members: machines.iter().map(member).collect() };
        for at in 0..machines.len() {
            store.start(world, at);
        }
        store
    }

    /// Where a member has what it has.
    pub fn folder(world: &World, at: usize) -> PathBuf {
        world.office.path(&format!("store-{at}"))
    }

    /// Starts a member, on what it had.
    pub fn start(&mut self, world: &World, at: usize) {
        let all: Vec<String> =
            self.members.iter().map(|it| format!("{}=http://{}:2380", it.0, it.1)).collect();
        let (name, address, child) = &mut self.members[at];
        let folder = Self::folder(world, at);
        let _ = fs::create_dir_all(&folder);
        let url = |scheme: &str, port: u16| format!("{scheme}://{address}:{port}");
        let mut command = Command::new(&self.program);
        command.args(["--name", name, "--log-level", "error", "--client-cert-auth"]);
        command.arg("--data-dir").arg(&folder);
        command.args([
            "--cert-file",
            "store.pem",
            "--key-file",
            "store.key",
            "--trusted-ca-file",
            "ca.pem",
        ]);
        command.args(["--listen-client-urls", &url("https", 2379)]);
        command.args(["--advertise-client-urls", &url("https", 2379)]);
        command.args(["--listen-peer-urls", &url("http", 2380)]);
        command.args(["--initial-advertise-peer-urls", &url("http", 2380)]);
        command.args(["--initial-cluster", &all.join(",")]);
        command.current_dir(world.office.desk.path()).stdout(Stdio::null()).stderr(Stdio::null());
        world.node(name).start_here(&mut command).expect("it can start there");
        *child = Some(command.spawn().expect("etcd starts"));
    }

    /// Ends a member as nobody can prevent.
    pub fn end(&mut self, at: usize) {
        if let Some(mut child) = self.members[at].2.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// The member that leads; `None` if none is known to.
    pub fn leader(&self, world: &World, machine: &str) -> Option<usize> {
        (0..self.members.len()).find(|&at| {
            let member = format!("https://{}:2379", self.members[at].1);
            let status = "/v3/maintenance/status";
            let said = asked_of(world, machine, &[member], status, &json!({}));
            let said = &said["body"];
            said["leader"].is_string() && said["leader"] == said["header"]["member_id"]
        })
    }

    /// Waits until it answers who asks from a machine.
    #[track_caller]
    pub fn answers(&self, world: &World, machine: &str) {
        let began = Instant::now();
        loop {
            let asked = at(world, machine, &["status"]);
            // What has no hosts to tell of is all right.
            if asked.code < 2 {
                return;
            }
            assert!(began.elapsed() < Duration::from_secs(90), "no answer: {asked:?}");
            sleep(Duration::from_millis(200));
        }
    }
}

/// What the office does, from a machine of the lab.
pub fn at(world: &World, machine: &str, words: &[&str]) -> Outcome {
    let mut command = world.office.command(words);
    world.node(machine).start_here(&mut command).expect("it can start there");
    finish(command)
}

/// Asks the store by itself, as its client would, from a machine of the lab; gives what it answers.
#[track_caller]
pub fn asked(world: &World, machine: &str, path: &str, body: &Value) -> Value {
    let members = told(world, "TIPSTAFF_CARRIER");
    let members = members.trim_start_matches("etcd+https://").split('/').next().expect("members");
    let members: Vec<String> = members.split(',').map(|it| format!("https://{it}")).collect();
    asked_of(world, machine, &members, path, body)
}

fn told(world: &World, key: &str) -> String {
    world.office.carrier.iter().find(|it| it.0 == key).expect("it is told").1.clone()
}

fn asked_of(world: &World, machine: &str, members: &[String], path: &str, body: &Value) -> Value {
    let told = |key| told(world, key);
    let store = json!({
        "members": members, "ca": told("TIPSTAFF_CARRIER_CA"),
        "own": [told("TIPSTAFF_CARRIER_CERT"), told("TIPSTAFF_CARRIER_KEY")],
    });
    let mut command = world.office.desk.command(["carry"]);
    command.stdin(Stdio::piped()).stdout(Stdio::piped());
    world.node(machine).start_here(&mut command).expect("it can start there");
    let mut child = command.spawn().expect("it starts");
    let lines = format!("{store}\n{}\n", json!({ "path": path, "body": body }));
    child.stdin.take().expect("piped").write_all(lines.as_bytes()).expect("asked");
    let said = child.wait_with_output().expect("it ends").stdout;
    serde_json::from_slice(&said).expect("an answer")
}

/// Has the store forget all that was before now.
#[track_caller]
pub fn compact(world: &World, machine: &str) {
    let now = asked(world, machine, "/v3/kv/range", &json!({ "key": "AA==" }));
    let revision = now["body"]["header"]["revision"].clone();
    let done = asked(
        world,
        machine,
        "/v3/kv/compaction",
        &json!({ "revision": revision, "physical": true }),
    );
    // One that was asked before may have done it, and been cut off before it said so.
    let before = done["failed"].as_str().is_some_and(|it| it.contains("has been compacted"));
    // Where no member answers, there is nothing to forget.
    assert!(done["body"].is_object() || before || now["body"].is_null(), "{now} {done}");
}
