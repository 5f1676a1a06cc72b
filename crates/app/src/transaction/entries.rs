//! Entries of the docket: made by whoever runs this, and worked out again.

use super::super::users::Users;
use super::super::{Failure, Loaded, loaded};
use super::clock::{now, since_boot};
use crate::rules_digest::digest_of;
use crate::store::{
    Entry, Guarded, Home, InPosture, Kind, Situation, State, kept_policy, this_boot,
};
use crate::wanted::Wanted;
use std::fs;
use tipstaff_core::policy::{Host, Source, Taken, Time};
use tipstaff_linux::Machine;

/// What is to be written down.
pub(super) struct New<'n> {
    /// What it is about.
    pub kind: Kind,
    /// The policy, and the digest by which it is kept.
    pub policy: Option<(&'n Loaded, String)>,
    /// The entry that it goes back to.
    pub of: Option<u64>,
    /// What it changes, in a few words.
    pub effect: String,
    /// Whether it is to be confirmed before it stays.
    pub waits: bool,
    /// What spoke against it.
    pub despite: Vec<String>,
    /// The posture that it is in.
    pub posture: Option<InPosture>,
}

/// A new entry by whoever runs this.
pub(super) fn entry(machine: &dyn Machine, new: New<'_>) -> Entry {
    let users = Users::of(machine);
    let login =
        fs::read_to_string("/proc/self/loginuid").ok().and_then(|it| it.trim().parse().ok());
    let login = login.filter(|&uid: &u32| uid != u32::MAX).map(|uid| users.name(uid));
    let login = std::env::var("SUDO_USER").ok().or(login);
    let user = users.name(rustix::process::getuid().as_raw());
    let time = now();
    let policy = new.policy.as_ref().map(|it| it.0);
    Entry {
        id: 0,
        since: time.clone(),
        time,
        kind: new.kind,
        host: policy.map(|it| it.plan.host.clone()),
        shell: policy.map(|it| shell(machine, it)).unwrap_or_default(),
        open_on_failure: policy
            .and_then(|it| it.policy.host(&it.plan.host))
            .is_some_and(|host| host.open_on_failure),
        without_programs: policy.is_some_and(|it| it.without_programs),
        follows: policy.is_some_and(Loaded::follows),
        by_place: policy.and_then(Loaded::section).is_some_and(Host::goes_by_place),
        waits: new.waits,
        despite: new.despite,
        posture: new.posture,
        boot: Some(this_boot()),
        login: login.filter(|login| *login != user),
        user,
        from: machine.own_session().map(|session| session.client.to_string()),
        policy: new.policy.map(|it| it.1),
        of: new.of,
        rules: policy.filter(|it| !it.follows()).map(|it| digest_of(it.program())),
        effect: new.effect,
        state: State::Intended,
    }
}

/// Where the remote shell of a policy's host listens: what is written; else the port of the session
/// that asks, and what is usual.
pub(super) fn shell(machine: &dyn Machine, policy: &Loaded) -> Vec<String> {
    let host = policy.policy.host(&policy.plan.host);
    if let Some(shell) = host.and_then(|host| host.shell.as_ref()) {
        return shell.traffic.to_string().split(", ").map(str::to_owned).collect();
    }
    let mut ports = vec!["22/tcp".to_owned()];
    let session = machine.own_session().filter(|it| it.port != 22);
    ports.extend(session.map(|it| format!("{}/tcp", it.port)));
    ports
}

/// The policy of an entry, worked out for this very machine.
///
/// # Errors
/// [`Failure`] if it is not kept any more, or not what it was.
pub(super) fn recorded(
    machine: &dyn Machine,
    home: &Home,
    entry: &Entry,
) -> Result<Loaded, Failure> {
    let mut policy = as_written(home, entry)?;
    policy.place(machine)?;
    Ok(policy)
}

/// The policy of an entry, worked out.
///
/// # Errors
/// As for [`recorded`].
pub(crate) fn as_written(home: &Home, entry: &Entry) -> Result<Loaded, Failure> {
    let name = format!("entry {}", entry.id);
    let kept = kept_policy(home, entry)?;
    let made = Time::parse(&entry.time);
    worked_out(&kept, entry.without_programs, &name, made, &entry.situation())
}

/// The policy of an entry, whatever posture it was in.
///
/// # Errors
/// As for [`recorded`].
pub(super) fn in_any_posture(home: &Home, entry: &Entry) -> Result<Loaded, Failure> {
    let name = format!("entry {}", entry.id);
    read(&kept_policy(home, entry)?, entry.without_programs, &name, Time::parse(&entry.time))
}

/// A kept policy, worked out for now, or, if the clock shows a time before it was `made`, without what is
/// allowed for a time only. In the boot in which it was made it is in the posture in which it was; in a later
/// one, in that in which every boot is to begin, else in one that was taken without an end.
///
/// # Errors
/// [`Failure`] if it is none.
pub(crate) fn worked_out(
    kept: &Guarded,
    without_programs: bool,
    name: &str,
    made: Option<Time>,
    situation: &Situation,
) -> Result<Loaded, Failure> {
    let mut policy = read(kept, without_programs, name, made)?;
    policy.wanted = Wanted::This(None);
    if let Some(taken) = posture_now(&policy, situation) {
        policy.take(&taken)?;
    }
    Ok(policy)
}

fn read(
    kept: &Guarded,
    without_programs: bool,
    name: &str,
    made: Option<Time>,
) -> Result<Loaded, Failure> {
    let mut policy = loaded(name, kept.sources(), Some(&kept.host))?;
    if without_programs {
        policy.leave_out_programs();
    }
    if let Some(made) = made {
        policy.not_before(made);
    }
    Ok(policy)
}

/// The posture that a policy is in by now.
fn posture_now(policy: &Loaded, situation: &Situation) -> Option<Taken> {
    let posture = situation.posture.as_ref();
    let by_now = |of_this_boot| posture?.by_now(of_this_boot, policy.now, since_boot())?.taken();
    if situation.is_of_this_boot() {
        return by_now(true);
    }
    if let Some(name) = policy.section().and_then(|it| it.at_boot.clone()) {
        let why = "every boot begins in it".to_owned();
        return Some(Taken { name, since: policy.now, until: None, why, then: None });
    }
    by_now(false)
}

/// A policy that leaves only the baseline and the remote shell. It needs nothing but these words,
/// which may come from something damaged: those that are no traffic are passed over.
///
/// # Errors
/// [`Failure`] never, in fact.
pub(crate) fn only_shell(host: &str, shell: &[String]) -> Result<Loaded, Failure> {
    let text = |host: &str, ports: &[String]| {
        let ports: Vec<String> = ports.iter().map(|term| format!("\"{term}\"")).collect();
        let rule = match ports.is_empty() {
            true => String::new(),
            false => {
                format!("[[host.{host}.rule]]\nname = \"shell\"\nallow = [{}]\n", ports.join(", "))
            }
        };
        format!("edition = 1\n[host.{host}]\naddresses = [\"127.0.0.1\", \"::1\"]\n{rule}")
    };
    let read = |host: &str, ports: &[String]| {
        let source = Source::new("what is left", &text(host, ports));
        loaded("what is left", vec![source], Some(host))
    };
    let is_term = |term: &&String| {
        term.bytes().all(|it| it.is_ascii_alphanumeric() || it == b'/' || it == b'-')
    };
    let good = |term: &&String| is_term(term) && read("host", &[(*term).clone()]).is_ok();
    let ports: Vec<String> = shell.iter().filter(good).cloned().collect();
    read(host, &ports).or_else(|_| read("host", &ports))
}
