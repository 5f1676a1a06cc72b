//! The key that somebody seals with: in a file, or held by an agent.

use super::agent;
use crate::Failure;
use std::fs;
use std::path::{Path, PathBuf};
use tipstaff_sealed::{KeyMistake, SigningWith};

/// A key, as its owner names it.
///
/// # Errors
/// [`Failure`] if it cannot be used.
pub(super) fn signing_with(
    path: &Path,
    agent: Option<&Path>,
) -> Result<SigningWith<'static>, Failure> {
    let shown = path.display();
    let text = fs::read_to_string(path).map_err(|error| {
        let message = format!("cannot read the key {shown}: {error}");
        Failure::usage(
            message,
            "--key names an SSH key, or its public part if an agent holds the key",
        )
    })?;
    if text.starts_with("-----BEGIN") {
        return SigningWith::key(&text).map_err(|mistake| unusable(path, &mistake));
    }
    let Some(socket) = agent.map(Path::to_owned) else {
        return Err(Failure::usage(
            format!("{shown} is no private key, and no agent is known that could have it"),
            "name the private key, or set SSH_AUTH_SOCK to the socket of the agent that has it",
        ));
    };
    asking(&text, socket).map_err(|why| {
        Failure::usage(
            format!("{shown} is neither a private nor a public key: {why}"),
            "a public one is a line such as: ssh-ed25519 AAAA... duty administrator",
        )
    })
}

fn asking(text: &str, socket: PathBuf) -> Result<SigningWith<'static>, String> {
    let text = text.trim();
    let key = SigningWith::asking(text, |_| Err(String::new()))?.public()?;
    SigningWith::asking(text, move |data| agent::sign(&socket, &key, data))
}

fn unusable(path: &Path, mistake: &KeyMistake) -> Failure {
    let shown = path.display();
    match mistake {
        KeyMistake::Locked => Failure::usage(
            format!("the key {shown} is kept under a pass phrase"),
            format!("give it to your SSH agent, and name its public part: --key {shown}.pub"),
        ),
        KeyMistake::NotOne(why) => Failure::usage(
            format!("the key {shown} cannot be used: {why}"),
            "a key of the sort ed25519 or ecdsa (nistp256, nistp384) is needed, as OpenSSH keeps it",
        ),
    }
}
