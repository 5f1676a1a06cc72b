//! What is sealed, and what is refused.

use super::world::{Office, PUBLIC};
use crate::harness::{INHERITED, MENDED};
use crate::servers::needed;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

#[test]
fn what_is_sealed_says_what_it_changes_for_whom() {
    let office = Office::new(INHERITED);
    let first = office.fleet(&["seal", "--key", "key", "--format", "json"]).exits(0).json();
    assert_eq!(first["statement"]["sequence"], 1);
    assert_eq!(first["statement"]["changes"], serde_json::Value::Null);
    office.desk.write(MENDED);
    let dry = office.fleet(&["seal", "--key", "key", "--dry-run"]).exits(0).stdout;
    assert!(dry.starts_with("would seal number 2 of the fleet tidewater, for 3 hosts\n"), "{dry}");
    assert!(!office.bundle(2).exists());
    let second = office.fleet(&["seal", "--key", "key", "--format", "json"]).exits(0).json();
    let statement = &second["statement"];
    assert_eq!((&statement["sequence"], &statement["after"]), (&2.into(), &first["sha256"]));
    let sluice = &statement["changes"][0];
    assert_eq!(sluice["hosts"], serde_json::json!(["sluice"]));
    assert_eq!((&sluice["opens"], &sluice["closes"]), (&3.into(), &3.into()), "{statement}");
    // The changes are told in full, too.
    assert_eq!(second["changes"]["changed"][0]["changes"].as_array().map(Vec::len), Some(6));
}

#[test]
fn what_this_host_would_not_take_is_told() {
    let office = Office::new(MENDED);
    office.fleet(&["seal", "--key", "key"]).exits(0);
    let file = office.bundle(1);
    let shown = file.display().to_string();
    let verify =
        |more: &[&str]| office.fleet(&[&["verify", &shown, "--format", "json"], more].concat());
    let good = verify(&[]).exits(0).json();
    assert_eq!((&good["accepted"], &good["signer"]), (&true.into(), &"duty".into()), "{good}");
    // Where there are no files, such as in a store.
    for name in ["newest", "1"] {
        let carried = office.fleet(&["verify", name, "--format", "json"]).exits(0).json();
        assert_eq!((&carried["file"], &carried["sha256"]), (&name.into(), &good["sha256"]));
    }
    let none = office.fleet(&["verify", "2"]).exits(2).stderr;
    assert!(none.contains("there is no sealed bundle `2` in"), "{none}");
    let other = verify(&["--fleet", "upland"]).exits(1).json();
    assert_eq!(other["refused"]["code"], "another-fleet");
    let bytes = fs::read(&file).expect("it");
    let mut altered = bytes.clone();
    altered[bytes.len() / 2] ^= 1;
    fs::write(&file, &altered).expect("written");
    let found = verify(&[]).exits(1).json();
    assert_eq!(found["accepted"], false, "{found}");
    fs::write(&file, &bytes[..bytes.len() - 1]).expect("written");
    let found = verify(&[]).exits(1).json();
    assert_eq!(found["refused"]["code"], "not-a-sealed-bundle");
    fs::write(&file, &bytes).expect("written");
    assert!(office.fleet(&["verify", "missing.sealed"]).exits(2).stderr.contains("missing.sealed"));
    // Whoever may write the list could let anybody sign.
    fs::set_permissions(office.path("signers"), fs::Permissions::from_mode(0o664)).expect("a mode");
    let open = verify(&[]).exits(2).stderr;
    assert!(open.contains("others may write"), "{open}");
    fs::set_permissions(office.path("signers"), fs::Permissions::from_mode(0o644)).expect("a mode");
    // Whoever signed it is taken off the list.
    fs::write(office.path("signers"), "# nobody any more\n").expect("written");
    let nobody = verify(&[]).exits(2).stderr;
    assert!(nobody.contains("no line is in"), "{nobody}");
    let visitor = include_str!("../../../../sealed/tests/it/keys/visitor.pub");
    fs::write(office.path("signers"), format!("visitor {visitor}")).expect("written");
    assert_eq!(verify(&[]).exits(1).json()["refused"]["code"], "signer-unknown");
    fs::remove_file(office.path("signers")).expect("removed");
    let none = verify(&[]).exits(2).stderr;
    assert!(none.contains("there is no") && none.contains("nobody may seal"), "{none}");
}

#[test]
fn nobody_seals_what_hosts_would_refuse() {
    let office = Office::new(MENDED);
    let refused = office.fleet(&["seal", "--key", "visitor"]).exits(1).stderr;
    assert!(
        refused.contains("would refuse it") && refused.contains("nothing was sealed"),
        "{refused}"
    );
    let past = office.fleet(&["seal", "--key", "key", "--expires", "2020-01-01T00:00:00Z"]);
    assert!(past.exits(2).stderr.contains("has been"));
    let name = office.fleet(&["seal", "--key", "key", "--fleet", "Tide Water"]).exits(2).stderr;
    assert!(name.contains("cannot be the name of a fleet"), "{name}");
    office.desk.write("edition = 1\n[host.sluice]\nbanner = 1\n");
    assert!(office.fleet(&["seal", "--key", "key"]).exits(2).stderr.contains("banner"));
    let unread = "edition = 1\n[place.p]\nfiles = [\"list.txt\"]\n[host.sluice]\n\
                  [[host.sluice.rule]]\nname = \"a\"\nallow = [\"22/tcp\"]\nfrom = [\"p\"]\n";
    office.desk.write(unread);
    office.fleet(&["seal", "--key", "key"]).exits(2);
    assert!(!office.path("carrier/sealed").exists());
    let nowhere = office.fleet(&["seal", "--key", "key", "--carrier", "no/such/folder"]);
    assert!(!nowhere.exits(2).stderr.is_empty());
}

#[test]
fn two_who_seal_at_once_do_not_seal_the_same_number() {
    let office = Office::new(MENDED);
    let seal = || {
        let mut command = office.command(&["seal", "--key", "key"]);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts")
    };
    let mut sealing: Vec<Child> = (0..8).map(|_| seal()).collect();
    let ended = sealing.iter_mut().map(|it| it.wait().expect("its end").code());
    let codes: Vec<Option<i32>> = ended.collect();
    let sealed = codes.iter().filter(|it| **it == Some(0)).count();
    assert!(codes.iter().all(|it| matches!(it, Some(0 | 1))), "{codes:?}");
    let there = fs::read_dir(office.path("carrier/sealed")).expect("a folder");
    let names: Vec<String> =
        there.map(|it| it.expect("it").file_name().to_string_lossy().into_owned()).collect();
    assert_eq!(names.len(), sealed, "{codes:?} {names:?}");
    assert!(names.iter().all(|it| it.ends_with(".sealed") && !it.starts_with('.')), "{names:?}");
}

#[test]
fn what_is_no_good_on_top_does_not_count() {
    let office = Office::new(INHERITED);
    office.fleet(&["seal", "--key", "key"]).exits(0);
    // Somebody who can write there puts something of a higher number on top.
    fs::write(office.bundle(5), "no bundle").expect("written");
    fs::copy(office.bundle(1), office.bundle(6)).expect("copied");
    office.desk.write(MENDED);
    let told = office.fleet(&["seal", "--key", "key"]).exits(0).stdout;
    assert!(told.starts_with("sealed number 7 "), "{told}");
    assert!(told.contains("from number 1 to number 7"), "{told}");
    assert!(told.contains("number 6 at the carrier does not count"), "{told}");
    assert!(told.contains("number 5 at the carrier does not count"), "{told}");
}

#[test]
fn an_agent_may_hold_the_key() {
    if needed("ssh-agent").is_none() {
        return;
    }
    let office = Office::new(MENDED);
    let folder = office.desk.path();
    fs::write(office.path("key.pub"), PUBLIC).expect("written");
    let without = office.fleet(&["seal", "--key", "key.pub"]).exits(2).stderr;
    assert!(without.contains("no agent is known"), "{without}");
    let socket = office.path("agent");
    let agent =
        Command::new("ssh-agent").args(["-D", "-a"]).arg(&socket).stdout(Stdio::null()).spawn();
    let agent = Ended(agent.expect("an agent"));
    let began = Instant::now();
    while !socket.exists() {
        assert!(began.elapsed() < Duration::from_secs(30), "no agent");
        sleep(Duration::from_millis(20));
    }
    let seal = || {
        let mut command = office.command(&["seal", "--key", "key.pub"]);
        crate::harness::finish({
            command.env("SSH_AUTH_SOCK", &socket);
            command
        })
    };
    let refused = seal().exits(2).stderr;
    assert!(refused.contains("the agent does not sign with this key"), "{refused}");
    add(folder, &socket);
    assert!(seal().exits(0).stdout.starts_with("sealed number 1"));
    let shown = office.bundle(1).display().to_string();
    office.fleet(&["verify", &shown]).exits(0);
    drop(agent);
}

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn add(folder: &Path, socket: &Path) {
    // The client takes no key that others may read.
    let script = "cp key own && chmod 600 own && ssh-add -q own";
    let mut added = Command::new("sh");
    added.args(["-c", script]).current_dir(folder).env("SSH_AUTH_SOCK", socket);
    assert!(added.status().expect("a shell").success());
}

#[test]
fn no_output_has_the_key() {
    let office = Office::new(MENDED);
    let secret = super::world::KEY.lines().nth(3).expect("a line");
    for words in [&["seal", "--key", "key"][..], &["seal", "--key", "key", "--format", "json"]] {
        let outcome = office.fleet(words).exits(0);
        assert!(!outcome.stdout.contains(secret) && !outcome.stderr.contains(secret));
    }
    let bytes = fs::read(office.bundle(1)).expect("it");
    assert!(!bytes.windows(secret.len()).any(|it| it == secret.as_bytes()));
}
