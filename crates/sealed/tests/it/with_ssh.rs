//! What OpenSSH and other programs make of it.

use crate::world::{FLEET, KEY, PUBLIC, now, sealed, signers};
use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use tipstaff_sealed::{KeyMistake, Refusal, SigningWith, Unsealed};

/// Whether OpenSSH is here; under CI it must be.
fn is_here() -> bool {
    let here = Command::new("ssh-keygen").arg("-?").output().is_ok();
    if !here {
        println!("NOT RUN: ssh-keygen is missing");
        assert!(std::env::var_os("CI").is_none(), "that would be a check that did not happen");
    }
    here
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a folder")
}

fn run(folder: &Path, command: &str, input: &[u8]) -> (bool, String) {
    let mut child = Command::new("sh")
        .args(["-ec", command])
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("a shell");
    child.stdin.take().expect("its input").write_all(input).expect("taken");
    let done = child.wait_with_output().expect("its end");
    (
        done.status.success(),
        String::from_utf8_lossy(&[done.stdout, done.stderr].concat()).into_owned(),
    )
}

#[test]
fn tar_and_ssh_keygen_open_and_verify_it() {
    if !is_here() {
        return;
    }
    let folder = folder();
    fs::write(folder.path().join("it.sealed"), sealed(7)).expect("written");
    fs::write(folder.path().join("signers"), format!("duty {PUBLIC}")).expect("written");
    let verify = "tar xf it.sealed; ssh-keygen -Y verify -f signers -I duty -n tipstaff-bundle \
                  -s bundle.tar.sig < bundle.tar; tar tf bundle.tar";
    let (good, said) = run(folder.path(), verify, &[]);
    assert!(good, "{said}");
    assert!(said.contains("Good \"tipstaff-bundle\" signature for duty"), "{said}");
    assert!(
        said.ends_with("policy/mended.toml\npolicy/places/nuisance.snapshot\nstatement.json\n"),
        "{said}"
    );
}

#[test]
fn a_signature_that_ssh_keygen_made_for_something_else_is_refused() {
    if !is_here() {
        return;
    }
    let folder = folder();
    let bytes = sealed(7);
    fs::write(folder.path().join("it.sealed"), &bytes).expect("written");
    fs::write(folder.path().join("key"), KEY).expect("written");
    let swap = |namespace: &str| {
        let sign = format!(
            "chmod 600 key; tar xf it.sealed; rm bundle.tar.sig; \
             ssh-keygen -q -Y sign -f key -n {namespace} bundle.tar; cat bundle.tar.sig"
        );
        let (good, said) = run(folder.path(), &sign, &[]);
        assert!(good, "{said}");
        let signature = &said[said.find("-----BEGIN").expect("a signature")..];
        let begins = bytes.windows(10).position(|it| it == b"-----BEGIN").expect("one");
        let mut swapped = bytes.clone();
        // The same length: it stands where the other stood.
        let end = begins + signature.len();
        swapped[begins..end].copy_from_slice(signature.as_bytes());
        Unsealed::read(&swapped)
            .and_then(|it| it.open(&signers(), FLEET, now()))
            .map(|it| it.signer)
    };
    assert_eq!(swap("tipstaff-bundle").as_deref(), Ok("duty"));
    assert_eq!(swap("tipstaff-bundlf"), Err(Refusal::Altered));
}

#[test]
fn keys_that_cannot_be_used_are_named() {
    if !is_here() {
        return;
    }
    let folder = folder();
    let make =
        "ssh-keygen -q -t ed25519 -N 'pass phrase' -f locked; ssh-keygen -q -t rsa -N '' -f other";
    let (good, said) = run(folder.path(), make, &[]);
    assert!(good, "{said}");
    let read = |name: &str| {
        let text = fs::read_to_string(folder.path().join(name)).expect("a key");
        SigningWith::key(&text).map(|it| it.fingerprint())
    };
    assert_eq!(read("locked"), Err(KeyMistake::Locked));
    let other = read("other").expect_err("not understood");
    assert!(matches!(&other, KeyMistake::NotOne(why) if why.contains("ssh-rsa")), "{other:?}");
    assert!(matches!(SigningWith::key("no key"), Err(KeyMistake::NotOne(_))));
}
