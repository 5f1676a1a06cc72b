//! Remote shell sessions, as the environments of processes tell of them.

use serde::{Deserialize, Serialize};
use std::fs;
use std::net::IpAddr;

/// How far up the line of parents a session is looked for.
const GENERATIONS: usize = 64;
const VARIABLE: &str = "SSH_CONNECTION";

/// A remote shell session: the client's end, and the server's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Session {
    /// The address that the session comes from.
    pub client: IpAddr,
    /// The port that the session comes from.
    pub client_port: u16,
    /// The address of this machine that it uses.
    pub server: IpAddr,
    /// The port of this machine that it uses.
    pub port: u16,
}

/// An address as a remote shell writes it: one of the link has the link's name behind it.
fn address(word: &str) -> Option<IpAddr> {
    let address = word.split('%').next()?.parse::<IpAddr>().ok()?;
    Some(address.to_canonical())
}

impl Session {
    /// Reads what a remote shell leaves in the environment.
    ///
    /// # References
    /// ssh(1), ENVIRONMENT: `SSH_CONNECTION` holds the client's address and port, then the server's.
    fn parse(words: &str) -> Option<Self> {
        let mut words = words.split_whitespace();
        Some(Self {
            client: address(words.next()?)?,
            client_port: words.next()?.parse().ok()?,
            server: address(words.next()?)?,
            port: words.next()?.parse().ok()?,
        })
    }

    fn in_environment(pid: &str) -> Option<Self> {
        let found = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
        let mut words = found
            .split(|&byte| byte == 0)
            .filter_map(|it| it.strip_prefix(VARIABLE.as_bytes())?.strip_prefix(b"="));
        words.find_map(|it| Self::parse(std::str::from_utf8(it).ok()?))
    }

    /// The processes of this one's line of parents that belong to the session, this one first, as numbers; this
    /// process is `self`.
    pub fn of_own_line(self) -> impl Iterator<Item = String> {
        line_of_parents().filter(move |pid| Self::in_environment(pid) == Some(self))
    }
}

/// The session that this process belongs to: its own environment says so, or that of one of its parents, since
/// privilege switches clear it. It may have ended, and somebody may have come back to what it left running.
pub(crate) fn own() -> Option<Session> {
    if let Ok(words) = std::env::var(VARIABLE) {
        return Session::parse(&words);
    }
    line_of_parents().find_map(|pid| Session::in_environment(&pid))
}

/// The sessions that the environments of all processes tell of, each once.
pub(crate) fn told() -> Vec<Session> {
    let mut found = Vec::new();
    for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let name = process.file_name();
        let pid = name.to_str().filter(|it| it.bytes().all(|it| it.is_ascii_digit()));
        found.extend(pid.and_then(Session::in_environment));
    }
    found.sort_unstable();
    found.dedup();
    found
}

/// This process, its parent, and so on.
fn line_of_parents() -> impl Iterator<Item = String> {
    let parent = |pid: &String| {
        // The name in parentheses may hold anything; the parent is the second word behind it.
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        let parent = stat.rsplit(')').next()?.split_whitespace().nth(1)?.to_owned();
        (parent != "0").then_some(parent)
    };
    std::iter::successors(Some("self".to_owned()), parent).take(GENERATIONS)
}
