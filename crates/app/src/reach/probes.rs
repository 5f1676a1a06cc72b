//! The wire's word: real probes from vantages.

use super::far;
use super::planned::{Knock, Planned, Probe};
use super::sighting::{Seen, Sighting};
use super::vantage::{Vantage, Way};
use super::words::Request;
use crate::Failure;
use std::net::{IpAddr, SocketAddr};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tipstaff_core::space::closest;
use tipstaff_linux::probe::{Attempt, attempt, echo};
use tipstaff_linux::{Here, LinuxError, Machine, Namespace};

/// Most probes wait for silence, so many can be out at a time.
const AT_ONCE: usize = 64;

/// Sends the planned probes for which there is a vantage. `own` are this host's addresses.
///
/// # Errors
/// [`Failure`] if a vantage cannot be used.
pub(super) fn send(
    planned: &Planned,
    request: &Request<'_>,
    own: &[IpAddr],
) -> Result<Seen, Failure> {
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
    let own = Here.addresses()?;
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
        Here.way_to(likely).ok()?.is_own.then_some(likely)
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
