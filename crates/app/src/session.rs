//! Remote shell sessions: the one from which a command is run, and others that live now.

use crate::store::started;
use std::collections::BTreeSet;
use std::fs;
use std::net::{IpAddr, SocketAddr};
use tipstaff_linux::sockets::sessions;
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol};

/// How far up the line of parents a session is looked for.
const GENERATIONS: usize = 64;
const VARIABLE: &str = "SSH_CONNECTION";
/// The kernel tells processes' starts in ticks of this many milliseconds (`USER_HZ`).
const TICK: u64 = 10;

/// A remote shell session: the client's end, and the server's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
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

    /// The session that this process belongs to: its own environment says so, or that of one of
    /// its parents, since privilege switches clear it. It may have ended, and somebody may have
    /// come back to what it left running.
    pub fn own() -> Option<Self> {
        if let Ok(words) = std::env::var(VARIABLE) {
            return Self::parse(&words);
        }
        line_of_parents().find_map(|pid| Self::in_environment(&pid))
    }

    /// When this process's session began, in milliseconds since boot, as far as its processes tell.
    pub fn own_since() -> Option<u64> {
        let own = Self::own()?;
        let of_it = line_of_parents().filter(|pid| Self::in_environment(pid) == Some(own));
        let began = of_it.filter_map(|pid| match pid.parse() {
            Ok(pid) => started(pid),
            Err(_) => started(std::process::id()),
        });
        began.min().map(|ticks| ticks * TICK)
    }

    /// Whether its connection still stands, by a list of those that do.
    pub fn lives(&self, standing: &BTreeSet<(SocketAddr, SocketAddr)>) -> bool {
        standing.contains(&(
            SocketAddr::new(self.server, self.port),
            SocketAddr::new(self.client, self.client_port),
        ))
    }

    /// All sessions whose connection stands and that some process belongs to. A connection to the
    /// shell's port alone is none: whoever has not logged in has nothing to lose.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us list connections.
    pub fn all() -> Result<Vec<Self>, LinuxError> {
        let standing = standing()?;
        let mut found = BTreeSet::new();
        for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let name = process.file_name();
            let Some(pid) = name.to_str().filter(|it| it.bytes().all(|it| it.is_ascii_digit()))
            else {
                continue;
            };
            found.extend(Self::in_environment(pid).filter(|it| it.lives(&standing)));
        }
        found.extend(Self::own().filter(|it| it.lives(&standing)));
        found.retain(|it| !it.client.is_loopback());
        Ok(found.into_iter().collect())
    }
}

/// TCP connections that stand: this host's end, then the other.
fn standing() -> Result<BTreeSet<(SocketAddr, SocketAddr)>, LinuxError> {
    let plain = |it: SocketAddr| SocketAddr::new(it.ip().to_canonical(), it.port());
    let all = sessions(&mut NetlinkSocket::open(Protocol::SocketDiagnosis)?)?;
    Ok(all.into_iter().map(|it| (plain(it.own), plain(it.peer))).collect())
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
