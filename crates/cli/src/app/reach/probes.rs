//! The wire's word: real probes from vantages.

use super::far;
use super::senders::Column;
use super::vantage::{Vantage, Way};
use super::verdicts::Fares;
use super::{Entry, From, Part, ProbeWords, Request};
use crate::app::Failure;
use std::net::{IpAddr, SocketAddr};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tipstaff_core::policy::nearest;
use tipstaff_core::space::{AddressSet, closest};
use tipstaff_linux::probe::{Attempt, Observation, State, attempt, echo};
use tipstaff_linux::sockets::{Listener, PortProtocol};
use tipstaff_linux::{
    LinuxError, Namespace, NetlinkSocket, Protocol, addresses, is_own, link_towards,
};

/// Most probes wait for silence, so many can be out at a time.
const AT_ONCE: usize = 64;

/// A vantage must stand for something that is asked about.
///
/// # Errors
/// [`Failure`] if it does not.
pub fn check_place(vantage: &Vantage, columns: &[Column]) -> Result<(), Failure> {
    let mut names = columns.iter().map(|column| column.name.as_str());
    if names.clone().any(|name| name == vantage.place) {
        return Ok(());
    }
    let help = match nearest(&vantage.place, names.clone()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => {
            format!("the places asked about are: {}", names.by_ref().collect::<Vec<_>>().join(", "))
        }
    };
    let message =
        format!("the vantage `{}` is at no place asked about", vantage.place.escape_debug());
    Err(Failure::usage(message, help))
}

/// Where a probe's outcome belongs: listener (`None`: the pings), entry of it, part of that.
#[derive(Clone, Copy, Debug)]
pub struct Slot {
    listener: Option<usize>,
    from: usize,
    part: usize,
}

impl Slot {
    /// The part of the report.
    pub fn of<'r>(&self, listeners: &'r mut [Entry], pings: &'r mut [From]) -> &'r mut Part {
        let from = match self.listener {
            Some(listener) => &mut listeners[listener].from,
            None => pings,
        };
        &mut from[self.from].parts[self.part]
    }
}

/// How a probe knocks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Knock {
    /// At a port.
    Port(PortProtocol, u16),
    /// By an echo request.
    Ping,
}

impl Knock {
    /// The word for it between the two ends of a check.
    pub fn word(self) -> &'static str {
        match self {
            Self::Port(protocol, _) => protocol.as_str(),
            Self::Ping => "icmp",
        }
    }

    /// The port; 0 where there is none.
    pub fn port(self) -> u16 {
        match self {
            Self::Port(_, port) => port,
            Self::Ping => 0,
        }
    }
}

/// A probe that could be sent if there were a vantage for it.
#[derive(Clone, Debug)]
pub struct Probe {
    /// Where its outcome belongs.
    pub slot: Slot,
    place: String,
    /// How.
    pub knock: Knock,
    /// From one of these.
    pub senders: AddressSet,
    /// What they meet by the rules.
    pub fares: Fares,
    /// Every interface that rules name.
    known_ways: Vec<Option<String>>,
}

/// The probes that could be sent if there were a vantage for each.
#[derive(Debug, Default)]
pub struct Planned {
    /// The probes.
    pub probes: Vec<Probe>,
    listener: usize,
}

impl Planned {
    /// Plans a probe for each part of some senders. A listener on a loopback address cannot be
    /// probed from elsewhere.
    pub fn plan(&mut self, listener: &Listener, column: &Column, fares: &[Fares], from: usize) {
        if !listener.address.is_loopback() {
            let knock = Knock::Port(listener.protocol, listener.port);
            self.add(Some(self.listener), knock, column, fares, from);
        }
    }

    /// Plans a ping for each part of some senders.
    pub fn plan_ping(&mut self, column: &Column, fares: &[Fares], from: usize) {
        self.add(None, Knock::Ping, column, fares, from);
    }

    fn add(
        &mut self,
        listener: Option<usize>,
        knock: Knock,
        column: &Column,
        fares: &[Fares],
        from: usize,
    ) {
        let known_ways: Vec<Option<String>> =
            fares.iter().flat_map(|it| &it.interfaces).filter(|it| it.is_some()).cloned().collect();
        for (part, fares) in fares.iter().enumerate() {
            self.probes.push(Probe {
                slot: Slot { listener, from, part },
                place: column.name.clone(),
                knock,
                senders: fares.senders.clone(),
                fares: fares.clone(),
                known_ways: known_ways.clone(),
            });
        }
    }

    /// What is planned next belongs to the next listener.
    pub fn next_listener(&mut self) {
        self.listener += 1;
    }
}

/// The outcome of one probe.
#[derive(Debug)]
pub struct Sighting {
    /// The probe.
    pub probe: Probe,
    /// Its sender.
    pub source: IpAddr,
    /// Where it went.
    pub destination: SocketAddr,
    /// What it met; in words, why it could not be sent.
    pub outcome: Result<Observation, String>,
    /// How long that took.
    pub time: Duration,
    /// Of silence: what became of the probe, in words.
    pub explained: Option<String>,
    /// Of silence: whether the probe arrived; `None` if that is not known.
    pub arrived: Option<bool>,
}

/// What vantages saw, and what they could not see, in words.
#[derive(Debug, Default)]
pub struct Seen {
    /// The outcomes.
    pub sightings: Vec<Sighting>,
    /// What could not be seen.
    pub unseen: Vec<String>,
}

/// Sends the planned probes for which there is a vantage. `own` are this host's addresses.
///
/// # Errors
/// [`Failure`] if a vantage cannot be used.
pub fn send(planned: &Planned, request: &Request<'_>, own: &[IpAddr]) -> Result<Seen, Failure> {
    let one = |vantage: &Vantage| -> Result<Seen, Failure> {
        let probes: Vec<&Probe> =
            planned.probes.iter().filter(|probe| probe.place == vantage.place).collect();
        match &vantage.way {
            Way::Namespace(path) => {
                let namespace = Namespace::open(path)?;
                let sightings = namespace.run(|| from_here(&probes, request.patience))??;
                Ok(Seen { sightings, unseen: Vec::new() })
            }
            Way::Far(command) => far::send(&vantage.place, command, &probes, own, request.patience),
        }
    };
    let outcomes: Vec<Result<Seen, Failure>> = std::thread::scope(|scope| {
        let threads: Vec<_> =
            request.vantages.iter().map(|vantage| scope.spawn(|| one(vantage))).collect();
        let join = |thread: std::thread::ScopedJoinHandle<'_, _>| {
            thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        threads.into_iter().map(join).collect()
    });
    let mut seen = Seen::default();
    for outcome in outcomes {
        let Seen { sightings, unseen } = outcome?;
        seen.sightings.extend(sightings);
        seen.unseen.extend(unseen);
    }
    Ok(seen)
}

/// Sends probes from the calling thread's namespace, several at a time.
fn from_here(probes: &[&Probe], patience: Duration) -> Result<Vec<Sighting>, LinuxError> {
    let own = addresses(&mut NetlinkSocket::open(Protocol::Route)?)?;
    let next = AtomicUsize::new(0);
    let sightings = Mutex::new(Vec::with_capacity(probes.len()));
    // Threads begin in the namespace of the thread that starts them.
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(probes.len()) {
            scope.spawn(|| {
                while let Some(probe) = probes.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let Some(sighting) = one(probe, &own, patience) else {
                        continue;
                    };
                    if let Ok(mut sightings) = sightings.lock() {
                        sightings.push(sighting);
                    }
                }
            });
        }
    });
    Ok(sightings.into_inner().unwrap_or_default())
}

/// Sends one probe, from an address of this machine among the senders. Where it has none, nobody
/// of that part is here, and there is no sighting.
fn one(probe: &Probe, own: &[IpAddr], patience: Duration) -> Option<Sighting> {
    let spoken_for = || {
        let likely = probe.senders.likely(probe.fares.family)?;
        let mut socket = NetlinkSocket::open(Protocol::Route).ok()?;
        is_own(&mut socket, likely).ok()?.then_some(likely)
    };
    let here = own.iter().copied().find(|&it| probe.senders.contains(it));
    let source = here.or_else(spoken_for)?;
    let receiver = closest(probe.fares.receivers.iter().copied(), source)?;
    let destination = SocketAddr::new(receiver, probe.knock.port());
    let begun = Instant::now();
    let outcome = match probe.knock {
        Knock::Port(protocol, _) => {
            attempt(&Attempt { protocol, source: Some(source), destination, patience })
        }
        Knock::Ping => echo(Some(source), receiver, patience),
    };
    Some(Sighting {
        probe: probe.clone(),
        source,
        destination,
        outcome: outcome.map_err(|error| error.to_string()),
        time: begun.elapsed(),
        explained: None,
        arrived: None,
    })
}

impl Sighting {
    /// Whether the probe came in by an interface that its part is about, as far as the way back
    /// to its sender tells.
    ///
    /// # Errors
    /// [`LinuxError`] if the routes cannot be read.
    pub fn came_this_way(&self, routes: &mut NetlinkSocket) -> Result<bool, LinuxError> {
        let ways = &self.probe.fares.interfaces;
        if ways.is_empty() {
            return Ok(true);
        }
        let way = link_towards(routes, self.source)?;
        Ok(ways.contains(&way) || ways.contains(&None) && !self.probe.known_ways.contains(&way))
    }

    /// Puts what was seen where it belongs; gives the knock and whether it is certain, if something on
    /// the way stopped the probe.
    pub fn note(
        self,
        entries: &mut [Entry],
        pings: &mut [From],
        unknown: &mut Vec<String>,
    ) -> Option<Stopped> {
        let part = self.probe.slot.of(entries, pings);
        let observation = match self.outcome {
            Ok(observation) => observation,
            Err(error) => {
                unknown.push(format!("from {}: {error}", self.probe.place));
                return None;
            }
        };
        part.probes.push(ProbeWords {
            source: self.source,
            destination: self.destination,
            met: observation.state.as_str(),
            evidence: observation.evidence,
            micros: u64::try_from(self.time.as_micros()).unwrap_or(u64::MAX),
            explained: self.explained.clone(),
        });
        let others_agree = part.agree.unwrap_or(true);
        let fits = fits(part.policy, part.limited, self.probe.knock, observation.state);
        if !fits && self.explained.is_some() && self.arrived != Some(true) {
            // What never came says nothing about the rules here.
            let (place, knock) = (self.probe.place, self.probe.knock);
            return Some(Stopped { place, knock, certain: self.arrived == Some(false) });
        }
        part.agree = Some(others_agree && fits);
        None
    }
}

/// A probe that never arrived.
#[derive(Clone, Debug)]
pub struct Stopped {
    /// From where.
    pub place: String,
    /// How it knocked.
    pub knock: Knock,
    /// Whether that is certain.
    pub certain: bool,
}

/// Whether an observation is what the verdict leads one to expect, given that somebody listens.
/// A service may be silent over UDP although it was reached, and beyond a rate everything is.
fn fits(verdict: &str, limited: bool, knock: Knock, state: State) -> bool {
    match (verdict, state) {
        ("allow", State::Open)
        | ("deny", State::Silent)
        | ("reject", State::Refused | State::Prohibited) => true,
        ("allow", State::Silent) => limited || matches!(knock, Knock::Port(PortProtocol::Udp, _)),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::{Knock, fits};
    use tipstaff_linux::probe::State;
    use tipstaff_linux::sockets::PortProtocol;

    const TCP: Knock = Knock::Port(PortProtocol::Tcp, 443);
    const UDP: Knock = Knock::Port(PortProtocol::Udp, 443);

    #[test]
    fn silence_contradicts_an_allowance_only_over_tcp() {
        assert!(fits("allow", false, UDP, State::Silent));
        assert!(!fits("allow", false, TCP, State::Silent));
        assert!(!fits("deny", false, TCP, State::Refused));
        assert!(fits("reject", false, UDP, State::Prohibited));
        assert!(!fits("reject", false, TCP, State::Open));
    }
}
