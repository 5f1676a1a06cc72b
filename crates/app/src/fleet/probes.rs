//! What a host tries, as its policy asks: connections to other hosts that have to be answered.

use super::standing::Unanswered;
use crate::Loaded;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tipstaff_core::policy::{Host, Policy};
use tipstaff_core::space::{AddressSet, PortProtocol};
use tipstaff_linux::probe::{Attempt, Observation, State, attempt};

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(2);
/// So many are tried at a time.
const AT_ONCE: usize = 16;
/// No more than these are tried, so that nobody is kept busy with it.
const MOST: usize = 64;

/// A connection to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Target {
    /// Whom it goes to.
    pub to: String,
    /// From which address; `None` leaves it to the system.
    pub source: Option<IpAddr>,
    /// The address and port.
    pub at: SocketAddr,
    /// Over which protocol.
    pub protocol: PortProtocol,
}

/// What the policy asks this host to try.
pub(super) fn asked_for(loaded: &Loaded) -> Vec<Target> {
    let policy = &loaded.policy;
    let Some(own) = loaded.section() else { return Vec::new() };
    let mut targets = Vec::new();
    for probe in policy.fleet.probes.iter().filter(|it| it.from.hosts.contains(&own.name)) {
        let within = probe.within.as_ref();
        for to in probe.to.hosts.iter().filter(|it| **it != own.name) {
            for at in ends(policy, (own, to), within) {
                let ports = probe.traffic.ports[PortProtocol::Tcp].ranges().iter();
                for port in ports.flat_map(|it| it.0..=it.1) {
                    let (source, address) = at;
                    let at = SocketAddr::new(address, port);
                    let protocol = PortProtocol::Tcp;
                    targets.push(Target { to: to.clone(), source, at, protocol });
                }
            }
        }
    }
    targets.truncate(MOST);
    targets
}

/// From which address to which one host is tried by another: to every one of which the version is spoken by both.
pub(super) fn ends(
    policy: &Policy,
    (own, to): (&Host, &str),
    within: Option<&AddressSet>,
) -> Vec<(Option<IpAddr>, IpAddr)> {
    let meant = |it: &&IpAddr| within.is_none_or(|within| within.contains(**it));
    let Some(to) = policy.host(to) else { return Vec::new() };
    let mut ends = Vec::new();
    for &address in to.addresses.iter().filter(meant) {
        let same = |it: &&IpAddr| it.is_ipv4() == address.is_ipv4();
        let mut own_ones = own.addresses.iter().filter(same);
        match within {
            // Which of them is taken is the system's to say.
            None if own.addresses.is_empty() || own_ones.clone().next().is_some() => {
                ends.push((None, address));
            }
            None => {}
            Some(_) => ends.extend(own_ones.find(meant).map(|&it| (Some(it), address))),
        }
    }
    ends
}

/// Tries them, some at a time; in their order, what each met.
pub(super) fn tried(targets: &[Target]) -> Vec<Result<Observation, String>> {
    let one = |target: &Target| {
        let (protocol, source, destination) = (target.protocol, target.source, target.at);
        let tried = attempt(&Attempt { protocol, source, destination, patience: PATIENCE });
        tried.map_err(|error| error.to_string())
    };
    let mut met = Vec::new();
    for some in targets.chunks(AT_ONCE) {
        std::thread::scope(|scope| {
            let begun: Vec<_> = some.iter().map(|it| scope.spawn(move || one(it))).collect();
            let ended = begun.into_iter().map(std::thread::ScopedJoinHandle::join);
            met.extend(ended.map(|it| it.unwrap_or_else(|_| Err("it broke off".into()))));
        });
    }
    met
}

/// Those that answer.
pub(super) fn answered(targets: Vec<Target>) -> Vec<Target> {
    let met = tried(&targets);
    let open = |it: &Result<Observation, String>| matches!(it, Ok(it) if it.state == State::Open);
    targets.into_iter().zip(met).filter(|it| open(&it.1)).map(|it| it.0).collect()
}

/// Those that do not, and what was met instead.
pub(super) fn unanswered(targets: &[Target]) -> Vec<Unanswered> {
    let met = tried(targets);
    let of = |(target, met): (&Target, Result<Observation, String>)| {
        let why = match met {
            Ok(it) if it.state == State::Open => return None,
            Ok(it) => format!("{}: {}", it.state.as_str(), it.evidence),
            Err(why) => format!("it could not be tried: {why}"),
        };
        let (to, at) = (target.to.clone(), target.at.to_string());
        Some(Unanswered { to, at, protocol: target.protocol.as_str().to_owned(), why })
    };
    targets.iter().zip(met).filter_map(of).collect()
}
