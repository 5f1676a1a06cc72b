//! What is loaded at boot.

use super::super::{Failure, Loaded, enforce, loaded, programs};
use super::{now, recorded, settle};
use crate::exit::Exit;
use crate::store::{Docket, Entry, Kind, State};
use serde::Serialize;
use std::path::Path;
use tipstaff_core::policy::Source;
use tipstaff_linux::programs::lacking;
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol};

/// What `enforce --boot` did.
#[derive(Debug, Serialize)]
pub struct Booted {
    /// `loaded`, `nothing-confirmed`, `released`, or what was done since loading failed:
    /// `loaded-without-programs`, `loaded-earlier`, `closed` or `open`.
    pub done: &'static str,
    /// The entry whose policy is in force.
    pub entry: Option<u64>,
    /// The host.
    pub host: Option<String>,
    /// What went wrong, if anything did.
    pub trouble: Vec<String>,
}

impl Booted {
    /// The exit code that belongs to it.
    pub fn exit(&self) -> Exit {
        if matches!(self.done, "loaded" | "released") { Exit::Fine } else { Exit::Found }
    }
}

/// Loads the last confirmed policy, from the docket, not the file. If that fails, an earlier
/// confirmed one; if none can be loaded, only the baseline and the remote shell stay open, unless
/// the policy chose otherwise.
///
/// # Errors
/// [`Failure`] if the docket cannot be used, or the kernel refuses even that.
pub fn boot(state: &Path) -> Result<Booted, Failure> {
    let mut docket = Docket::open(state)?;
    if let Some(pending) = Docket::pending(state) {
        docket.became(pending.id, State::Reverted, &now())?;
        docket.set_pending(None)?;
    }
    settle(state, &mut docket)?;
    let mut booted =
        Booted { done: "nothing-confirmed", entry: None, host: None, trouble: Vec::new() };
    let confirmed: Vec<Entry> =
        docket.entries().iter().rev().filter(|it| it.state == State::Confirmed).cloned().collect();
    let Some(last) = confirmed.first() else { return Ok(booted) };
    if last.kind == Kind::Release {
        booted.done = "released";
        return Ok(booted);
    }
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    for entry in confirmed.iter().filter(|it| it.kind != Kind::Release) {
        let done = recorded(state, entry).and_then(|mut policy| {
            if let Err(failure) = enforce::can_tell_programs(&policy) {
                // All other rules are in force all the same.
                let why = lacking().join("; ");
                booted.trouble.push(format!("{}; there is lacking: {why}", failure.line()));
                policy.leave_out_programs();
            }
            let mut outcome = programs::load(&mut kernel, &policy);
            if let Err(LinuxError::Lacking { .. }) = &outcome {
                // What a kernel cannot test in packets shows only when it is given the rules.
                booted.trouble.extend(outcome.err().map(|it| it.to_string()));
                policy.leave_out_programs();
                outcome = programs::load(&mut kernel, &policy);
            }
            outcome.map_err(|error| Failure::in_kernel(error, &policy.sources, &policy.plan))?;
            Ok(policy)
        });
        match done {
            Ok(policy) => {
                booted.done = match (entry.id == last.id, booted.trouble.is_empty()) {
                    (true, true) => "loaded",
                    (true, false) => "loaded-without-programs",
                    (false, _) => "loaded-earlier",
                };
                booted.entry = Some(entry.id);
                booted.host = Some(policy.plan.host.clone());
                let mut note = entry.clone();
                (note.kind, note.of, note.state) = (Kind::Boot, Some(entry.id), State::Intended);
                (note.time, note.effect) = (now(), booted.done.to_owned());
                let id = docket.add(note)?;
                docket.became(id, State::Confirmed, &now())?;
                return Ok(booted);
            }
            Err(failure) => booted.trouble.push(format!("entry {}: {}", entry.id, failure.line())),
        }
    }
    booted.host.clone_from(&last.host);
    if last.open_on_failure {
        booted.done = "open";
        return Ok(booted);
    }
    let policy = only_shell(last)?;
    programs::load(&mut kernel, &policy)?;
    booted.done = "closed";
    Ok(booted)
}

/// A policy that leaves only the baseline and the remote shell.
fn only_shell(entry: &Entry) -> Result<Loaded, Failure> {
    let host = entry.host.as_deref().unwrap_or("host");
    let ports: Vec<String> = entry.shell.iter().map(|term| format!("\"{term}\"")).collect();
    let text = format!(
        "edition = 1\n[host.{host}]\naddresses = [\"127.0.0.1\", \"::1\"]\n\
         [[host.{host}.rule]]\nname = \"shell\"\nallow = [{}]\n",
        ports.join(", ")
    );
    loaded("what is left", vec![Source::new("what is left", &text)], Some(host))
}
