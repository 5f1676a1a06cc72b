//! What is asked, and what is told.

use super::vantage::Vantage;
use crate::vocabulary as say;
use crate::{By, Came, Finding, Outcome};
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// What is to be found out, and how.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// Places and addresses; all places of the policy if empty.
    pub from: &'a [String],
    /// Where real probes can be sent from.
    pub vantages: &'a [Vantage],
    /// How long a probe waits for an answer.
    pub patience: Duration,
}

/// Which listeners can be reached from where.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose policy it is.
    pub host: String,
    /// Its listeners, by port.
    pub listeners: Vec<Entry>,
    /// For how many seconds the kernel remembers what has come; `null` if it is to remember nothing.
    pub came_within_seconds: Option<u32>,
    /// Whom it answers pings, one entry for each place and IP version.
    pub pings: Vec<From>,
    /// Rules that no listener needs, listeners that no rule mentions or that are open wider than
    /// anyone uses.
    pub findings: Vec<Finding>,
    /// Whether a copy of the machine was tried in a lab.
    pub copied: bool,
    /// Probes that the rules here would have let in or answered, and that never arrived: something on
    /// the way stops them.
    pub stopped_on_the_way: Vec<String>,
    /// What could not be found out, in words.
    pub unknown: Vec<String>,
    /// Whether the kernel's rules could not be read.
    pub kernel_unreadable: bool,
}

impl Report {
    /// Whether the witnesses agree, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let views = self.listeners.iter().flat_map(|it| &it.from).chain(&self.pings);
        if views.into_iter().any(|it| it.agree == Some(false)) {
            Outcome::Found
        } else if self.kernel_unreadable {
            Outcome::Refused
        } else {
            Outcome::Fine
        }
    }
}

/// A listener, and who can reach it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Entry {
    /// The protocol by which it can be reached.
    pub protocol: say::PortProtocol,
    /// The address it is bound to.
    pub address: String,
    /// The port that it listens at.
    pub port: u16,
    /// What the policy's services say that the port is for; none if nothing.
    pub meanings: Vec<String>,
    /// `IPv4`, `IPv6`, or both, by the versions it takes.
    pub versions: Vec<say::Version>,
    /// The file that the listening process runs.
    pub program: Option<String>,
    /// The program that the kernel's rules take its socket to belong to, if that is another one:
    /// a path, or `nobody`.
    pub taken_for: Option<String>,
    /// The number of the process that listens.
    pub pid: Option<u32>,
    /// The user who made the socket; empty where nobody listens.
    pub user: String,
    /// The ports that others lead elsewhere, such as `8000-8010`, if it is no listener but such a port.
    pub published: Option<String>,
    /// What has come to it, as the kernel remembers; `null` if it is to remember nothing.
    pub came: Option<Came>,
    /// One entry for each place and IP version.
    pub from: Vec<From>,
}

impl Entry {
    /// The ports that are led elsewhere, the first and the last.
    pub(crate) fn ports(&self) -> Option<(u16, u16)> {
        let ports = self.published.as_ref()?;
        let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
        Some((first.parse().ok()?, last.parse().ok()?))
    }
}

/// How a listener is seen from one place.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct From {
    /// The place or address.
    pub place: String,
    /// The IP version that the senders use.
    pub version: say::Version,
    /// The policy's word: `allow`, `deny`, `reject`, or `partly` if not all senders or own
    /// addresses fare alike.
    pub policy: say::Word,
    /// The kernel's word, likewise; `unknown` if its rules are not understood or not readable.
    pub kernel: say::Word,
    /// The wire's word: `open`, `refused`, `prohibited`, `silent`, `unreachable`, or `partly`;
    /// `null` where no probe was possible.
    pub observed: Option<say::Sight>,
    /// Who decides by the policy; `null` for `partly`.
    pub decided_by: Option<By>,
    /// Whether the witnesses that spoke agree; `null` if only one did.
    pub agree: Option<bool>,
    /// The senders that fare alike, where not all do, or where a probe was sent.
    pub parts: Vec<Part>,
}

/// Senders of one place that fare alike.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Part {
    /// The senders that fare alike, as networks; behind `except` what is left out of one, behind `but` what
    /// of that is meant again.
    pub senders: String,
    /// At which of the host's addresses.
    pub receivers: Vec<String>,
    /// Coming in by which interfaces, `another` standing for one that no rule names; `null` if
    /// that makes no difference.
    pub interfaces: Option<Vec<String>>,
    /// What the policy says of them, where they are led; `unknown` if that cannot be told.
    pub policy: say::Word,
    /// Where others' rules lead them before anything is decided, as address and port; `null` if nowhere else, or if
    /// that cannot be told.
    pub led_to: Option<String>,
    /// The file that the process runs that waits there, where that is in another network namespace of this machine,
    /// such as a container's; `null` if it is not, or may not be looked into.
    pub led_to_program: Option<String>,
    /// The number of that process.
    pub led_to_pid: Option<u32>,
    /// The table that leads them elsewhere, or of which that cannot be told; `null` if none does.
    pub led_by: Option<String>,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// What the kernel's rules say of them.
    pub kernel: say::Word,
    /// Who decides by the policy.
    pub decided_by: By,
    /// Who decides by the kernel's rules, if that is somebody else.
    pub kernel_decided_by: Option<String>,
    /// What it met in a copy of this machine in a lab: `open`, `closed` where nobody listens,
    /// `rejected`, `denied`, `stopped-early` before any inbound rule, `stopped-oddly`, `passed-on`
    /// to another machine; `null` if that was not tried.
    pub copy: Option<say::Fate>,
    /// What real probes from them met; `null` if none was sent.
    pub observed: Option<say::Sight>,
    /// How that was seen.
    pub probes: Vec<ProbeWords>,
    /// Whether the witnesses that spoke agree; `null` if only one did.
    pub agree: Option<bool>,
}

/// A real probe, and what came of it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ProbeWords {
    /// The address that it was sent from.
    pub source: IpAddr,
    /// The address and port that it was sent to.
    pub destination: SocketAddr,
    /// What it met, seen from the far end.
    pub met: say::Sight,
    /// How that was seen.
    pub evidence: String,
    /// How long that took, in microseconds.
    pub micros: u64,
    /// Of silence: what this host's own counters say became of the probe.
    pub explained: Option<String>,
}

/// The value that all share, `partly` if they differ.
fn shared<T: Copy + PartialEq>(partly: T, values: impl Iterator<Item = T>) -> Option<T> {
    values.reduce(|a, b| if a == b { a } else { partly })
}

impl From {
    /// Whether a part is about all senders of the place, of which others are parts by interface.
    pub fn covers_all(&self, part: usize) -> bool {
        let senders = &self.parts[part].senders;
        self.parts.iter().all(|other| other.senders == *senders)
    }

    /// From one place, as its parts fare.
    pub fn of(place: String, version: say::Version, parts: Vec<Part>) -> Self {
        Self {
            place,
            version,
            policy: shared(say::Word::Partly, parts.iter().map(|it| it.policy))
                .unwrap_or(say::Word::Deny),
            kernel: shared(say::Word::Partly, parts.iter().map(|it| it.kernel))
                .unwrap_or(say::Word::Unknown),
            observed: None,
            decided_by: match &parts[..] {
                [] => None,
                [first, rest @ ..] => rest
                    .iter()
                    .all(|it| it.decided_by == first.decided_by)
                    .then(|| first.decided_by.clone()),
            },
            agree: None,
            parts,
        }
    }

    /// Draws the conclusions from what the parts say.
    pub(crate) fn sum_up(&mut self) {
        for part in &mut self.parts {
            part.observed = shared(say::Sight::Partly, part.probes.iter().map(|it| it.met));
        }
        self.observed = shared(say::Sight::Partly, self.parts.iter().filter_map(|it| it.observed));
        self.agree = self.parts.iter().filter_map(|it| it.agree).reduce(|a, b| a && b);
    }
}
