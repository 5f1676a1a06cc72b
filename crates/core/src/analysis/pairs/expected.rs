//! Whether what must hold between hosts does.

use super::ways::Way;
use super::words::{HostWord, Met, met};
use crate::policy::{FleetExpectation, Verdict};

/// How an expectation between hosts fares.
#[derive(Clone, Debug)]
pub struct Judged {
    /// The pairs of hosts it was proven for: who sends, and who receives.
    pub proven: Vec<(String, String)>,
    /// The pairs for which it does not hold.
    pub failing: Vec<FailingPair>,
    /// Hosts that are meant and of which nothing is known, since their addresses are not listed.
    pub unknown: Vec<String>,
}

/// A pair of hosts for which an expectation does not hold.
#[derive(Clone, Debug)]
pub struct FailingPair {
    /// Who sends.
    pub from: String,
    /// Who receives.
    pub to: String,
    /// What packets meet.
    pub met: Met,
}

/// Judges an expectation for all pairs that it is about, every packet; a host is no pair with itself. `word` finds what a
/// host says of just that traffic among just those addresses, `None` if its addresses are not known; `ways` how packets go.
///
/// That packets are allowed does not hold where there are none: hosts with addresses of different IP versions.
pub fn judge<'w, 'p>(
    expectation: &FleetExpectation,
    word: impl Fn(&str) -> Option<&'w HostWord>,
    ways: impl Fn(&HostWord, &HostWord) -> Vec<Way<'p>>,
) -> Judged {
    let mut judged = Judged { proven: Vec::new(), failing: Vec::new(), unknown: Vec::new() };
    let meant = expectation.from.hosts.iter().chain(&expectation.to.hosts);
    for host in meant.filter(|it| word(it).is_none()) {
        if !judged.unknown.contains(host) {
            judged.unknown.push(host.clone());
        }
    }
    let known = |hosts: &[String]| -> Vec<&'w HostWord> {
        hosts.iter().filter_map(|it| word(it)).filter(|it| !it.own.is_empty()).collect()
    };
    let (from, to) = (known(&expectation.from.hosts), known(&expectation.to.hosts));
    for sender in from {
        for receiver in to.iter().filter(|it| it.host != sender.host) {
            let met = met(sender, receiver, &ways(sender, receiver), &word);
            let vacuous = met.nothing() && expectation.verdict != Verdict::Allow;
            let (from, to) = (sender.host.clone(), receiver.host.clone());
            if met.all(expectation.verdict) || vacuous {
                judged.proven.push((from, to));
            } else {
                judged.failing.push(FailingPair { from, to, met });
            }
        }
    }
    judged
}
