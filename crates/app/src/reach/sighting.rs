//! What became of probes.

use super::planned::{Knock, Probe};
use super::words::{Entry, From, ProbeWords};
use crate::vocabulary as say;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tipstaff_linux::probe::{Observation, State};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{LinuxError, Machine};

/// The outcome of one probe.
#[derive(Debug)]
pub(super) struct Sighting {
    /// The probe that met this.
    pub probe: Probe,
    /// The address that it was sent from.
    pub source: IpAddr,
    /// The address and port that it was sent to.
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
pub(super) struct Seen {
    /// What each of the probes met.
    pub sightings: Vec<Sighting>,
    /// What could not be seen.
    pub unseen: Vec<String>,
}

impl Sighting {
    /// Whether the probe came in by an interface that its part is about, as far as the way back
    /// to its sender tells.
    ///
    /// # Errors
    /// [`LinuxError`] if the routes cannot be read.
    pub(crate) fn came_this_way(&self, machine: &dyn Machine) -> Result<bool, LinuxError> {
        let ways = &self.probe.fares.interfaces;
        if ways.is_empty() {
            return Ok(true);
        }
        let way = machine.way_to(self.source)?.link;
        Ok(ways.contains(&way) || ways.contains(&None) && !self.probe.known_ways.contains(&way))
    }

    /// Puts what was seen where it belongs; gives the knock and whether it is certain, if something on
    /// the way stopped the probe.
    pub(super) fn note(
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
            met: observation.state.into(),
            evidence: observation.evidence,
            micros: u64::try_from(self.time.as_micros()).unwrap_or(u64::MAX),
            explained: self.explained.clone(),
        });
        if part.policy == say::Word::Unknown {
            return None;
        }
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
pub(super) struct Stopped {
    /// The place that it was sent from.
    pub place: String,
    /// The port or ping by which it knocked.
    pub knock: Knock,
    /// Whether that is certain.
    pub certain: bool,
}

/// Whether an observation is what the verdict leads one to expect, given that somebody listens.
/// A service may be silent over UDP although it was reached, and beyond a rate everything is.
fn fits(verdict: say::Word, limited: bool, knock: Knock, state: State) -> bool {
    match (verdict, state) {
        (say::Word::Allow, State::Open)
        | (say::Word::Deny, State::Silent)
        | (say::Word::Reject, State::Refused | State::Prohibited) => true,
        (say::Word::Allow, State::Silent) => {
            limited || matches!(knock, Knock::Port(PortProtocol::Udp, _))
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::{Knock, fits, say};
    use tipstaff_linux::probe::State;
    use tipstaff_linux::sockets::PortProtocol;

    const TCP: Knock = Knock::Port(PortProtocol::Tcp, 443);
    const UDP: Knock = Knock::Port(PortProtocol::Udp, 443);

    #[test]
    fn silence_contradicts_an_allowance_only_over_tcp() {
        assert!(fits(say::Word::Allow, false, UDP, State::Silent));
        assert!(!fits(say::Word::Allow, false, TCP, State::Silent));
        assert!(!fits(say::Word::Deny, false, TCP, State::Refused));
        assert!(fits(say::Word::Reject, false, UDP, State::Prohibited));
        assert!(!fits(say::Word::Reject, false, TCP, State::Open));
    }
}
