//! A real etcd as the carrier, over TLS with certificates on both sides.

use super::world::{HOSTS, World};
use crate::harness::MENDED;
use crate::servers::needed;
use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

/// The mended policy, in which the stacks may reach the store on granary.
fn with_store(more: &str) -> String {
    format!(
        "{MENDED}\n[[host.granary.rule]]\nname = \"store\"\nallow = [\"2379/tcp\"]\nfrom = [\"stacks\"]\n{more}"
    )
}

/// A certificate authority, and what it vouches for: granary, and a member.
fn certificates(folder: &Path) {
    let script = r#"
        new="-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes"
        openssl req -x509 $new -keyout ca.key -out ca.pem -days 2 -subj "/CN=Tidewater fleet"
        echo "subjectAltName=IP:10.44.8.20" > names
        for who in granary member; do
            openssl req $new -keyout $who.key -out $who.csr -subj "/CN=$who"
            openssl x509 -req -in $who.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out $who.pem -days 2 -extfile names
        done"#;
    let made =
        Command::new("sh").args(["-ec", script]).current_dir(folder).stderr(Stdio::null()).status();
    assert!(made.expect("a shell").success(), "no certificates");
}

struct Etcd(Child);

impl Drop for Etcd {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn start(world: &World, etcd: &Path) -> Etcd {
    let folder = world.office.desk.path();
    let mut command = Command::new(etcd);
    command.args(["--data-dir", "store", "--log-level", "error", "--cert-file", "granary.pem"]);
    command.args([
        "--key-file",
        "granary.key",
        "--trusted-ca-file",
        "ca.pem",
        "--client-cert-auth",
    ]);
    command.args(["--listen-client-urls", "https://10.44.8.20:2379"]);
    command.args(["--advertise-client-urls", "https://10.44.8.20:2379"]);
    command.args(["--listen-peer-urls", "http://127.0.0.1:2380"]);
    command.args(["--initial-advertise-peer-urls", "http://127.0.0.1:2380"]);
    command.args(["--initial-cluster", "default=http://127.0.0.1:2380"]);
    command.current_dir(folder).stdout(Stdio::null()).stderr(Stdio::null());
    world.node("granary").start_here(&mut command).expect("it can start there");
    Etcd(command.spawn().expect("etcd starts"))
}

/// What the office does, on bench: it is a machine like others.
fn at_the_office(world: &World, words: &[&str]) -> crate::harness::Outcome {
    let mut command = world.office.command(words);
    world.node("bench").start_here(&mut command).expect("it can start there");
    crate::harness::finish(command)
}

#[test]
fn etcd_carries_it_and_who_is_shut_off_from_it_goes_back() {
    sealed("fleet::by_etcd::etcd_carries_it_and_who_is_shut_off_from_it_goes_back", || {
        let (Some(program), Some(_)) = (needed("etcd"), needed("openssl")) else { return };
        let mut world = World::new(&with_store(""));
        certificates(world.office.desk.path());
        world.office.carrier = [
            ("TIPSTAFF_CARRIER", "etcd+https://10.44.8.20:2379/tidewater".to_owned()),
            ("TIPSTAFF_CARRIER_CA", world.office.path("ca.pem").display().to_string()),
            ("TIPSTAFF_CARRIER_CERT", world.office.path("member.pem").display().to_string()),
            ("TIPSTAFF_CARRIER_KEY", world.office.path("member.key").display().to_string()),
        ]
        .map(|(name, value)| (name.to_owned(), value))
        .to_vec();
        let etcd = start(&world, &program);
        let began = Instant::now();
        while at_the_office(&world, &["status"]).code != 0 {
            assert!(began.elapsed() < Duration::from_secs(60), "etcd does not answer");
            sleep(Duration::from_millis(100));
        }
        at_the_office(&world, &["seal", "--key", "key"]).exits(0);
        for host in HOSTS {
            world.attend(host);
        }
        let steps = ["roll-out", "--steps", "1,100%", "--format", "json"];
        let done = at_the_office(&world, &steps).exits(0).json();
        assert_eq!(done["have"], serde_json::json!(HOSTS), "{done}");
        HOSTS.iter().for_each(|it| world.in_force(it));
        // One that no host could take back from there: sluice, the first, finds out, and nobody else takes it.
        world.office.desk.write(with_store(
            "[[host.sluice.rule]]\nname = \"no-store\"\ndeny = [\"2379/tcp\"]\ndirection = \"outbound\"\n\
             [[host.bench.rule]]\nname = \"no-store\"\ndeny = [\"2379/tcp\"]\ndirection = \"outbound\"\n",
        ));
        at_the_office(&world, &["seal", "--key", "key"]).exits(0);
        let stopped = at_the_office(&world, &steps).exits(1).json();
        assert_eq!(stopped["have"], serde_json::json!([]), "{stopped}");
        assert_eq!(stopped["have_not"][0]["host"], "sluice", "{stopped}");
        assert_eq!(stopped["have_not"][0]["stands"], "went-back", "{stopped}");
        assert_eq!(stopped["wait"], serde_json::json!(["granary", "bench"]), "{stopped}");
        HOSTS.iter().for_each(|it| world.in_force(it));
        // Without a certificate nobody learns anything; and where no store is, nothing is said to be none.
        let stranger = [("TIPSTAFF_CARRIER_CERT", ""), ("TIPSTAFF_CARRIER_KEY", "")];
        let mut command = world.office.command(&["status"]);
        stranger.iter().for_each(|it| _ = command.env_remove(it.0));
        world.node("bench").start_here(&mut command).expect("it can start there");
        crate::harness::finish(command).exits(3);
        drop(etcd);
        assert!(at_the_office(&world, &["status"]).exits(3).stderr.contains("cannot look in etcd"));
        // What is in force does not depend on the store.
        HOSTS.iter().for_each(|it| world.in_force(it));
        assert!(fs::read_dir(world.policy("sluice")).expect("its policy").count() > 0);
    });
}
