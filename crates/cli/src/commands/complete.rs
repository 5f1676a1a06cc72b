//! What a shell offers to go on with: the policy's own names.

use crate::render::clean;
use clap_complete::CompletionCandidate;
use std::ffi::OsString;
use std::path::PathBuf;
use std::{env, fs};
use tipstaff_app::load_all;
use tipstaff_core::policy::Policy;

/// Where the policy is if nothing else is said.
pub const POLICY: &str = "/etc/tipstaff/policy.toml";

/// The policy that the line speaks of; clap has not read it yet.
fn path() -> PathBuf {
    let mut words = env::args_os().skip_while(|it| it != "--").skip(1);
    while let Some(word) = words.next() {
        if word == "--policy" {
            return words.next().unwrap_or_default().into();
        }
        if let Some(path) = word.to_str().and_then(|it| it.strip_prefix("--policy=")) {
            return path.into();
        }
    }
    env::var_os("TIPSTAFF_POLICY").unwrap_or_else(|| OsString::from(POLICY)).into()
}

/// Nothing is offered where there is no policy that can be read: whoever runs the command will be told.
fn offer(names: impl Fn(&Policy) -> Vec<(String, Option<String>)>) -> Vec<CompletionCandidate> {
    let path = path();
    // Nobody who waits for a shell's answer waits for what comes through a pipe.
    if !fs::metadata(&path).is_ok_and(|it| it.is_file() || it.is_dir()) {
        return Vec::new();
    }
    let Ok((_, policy, _)) = load_all(&path) else { return Vec::new() };
    names(&policy)
        .into_iter()
        .map(|(name, why)| CompletionCandidate::new(name).help(why.map(|it| clean(&it).into())))
        .collect()
}

/// Names and why they are there; each name once.
fn offer_of<T>(
    all: &[T],
    name_and_why: impl Fn(&T) -> (String, Option<String>),
) -> Vec<(String, Option<String>)> {
    let mut offered: Vec<(String, Option<String>)> = Vec::new();
    for it in all.iter().map(name_and_why) {
        if offered.iter().all(|other| other.0 != it.0) {
            offered.push(it);
        }
    }
    offered
}

/// The hosts of the policy.
pub fn hosts() -> Vec<CompletionCandidate> {
    offer(|policy| offer_of(&policy.hosts, |it| (it.name.clone(), None)))
}

/// The rules of all its hosts, as the commands that edit them know them.
pub fn rules() -> Vec<CompletionCandidate> {
    offer(|policy| {
        let rules: Vec<_> = policy.hosts.iter().flat_map(|it| &it.rules).collect();
        offer_of(&rules, |it| (it.name.clone(), it.why.clone()))
    })
}

/// The postures of all its hosts.
pub fn postures() -> Vec<CompletionCandidate> {
    offer(|policy| {
        let postures: Vec<_> = policy.hosts.iter().flat_map(|it| &it.postures).collect();
        offer_of(&postures, |it| (it.name.clone(), it.why.clone()))
    })
}

/// The bundles of the policy.
pub fn bundles() -> Vec<CompletionCandidate> {
    offer(|policy| offer_of(&policy.bundles, |it| (it.name.clone(), it.why.clone())))
}

/// The labels of the policy that have a section.
pub fn labels() -> Vec<CompletionCandidate> {
    offer(|policy| offer_of(&policy.labels, |it| (it.name.clone(), it.why.clone())))
}

/// The places of the policy.
pub fn places() -> Vec<CompletionCandidate> {
    offer(|policy| offer_of(&policy.places, |it| (it.name.clone(), it.why.clone())))
}

/// The services of the policy.
pub fn services() -> Vec<CompletionCandidate> {
    offer(|policy| offer_of(&policy.services, |it| (it.name.clone(), it.why.clone())))
}

/// Both, for what takes either away.
pub fn places_and_services() -> Vec<CompletionCandidate> {
    places().into_iter().chain(services()).collect()
}
