//! `reach`: which listeners can be reached, from where, and whether the witnesses agree.

mod copy;
mod far;
mod probes;
pub(in crate::app) mod senders;
mod silence;
mod vantage;
pub(in crate::app) mod verdicts;

pub use vantage::{Vantage, Way};

use super::programs::Names;
use super::review::Finding;
use super::users::Users;
use super::{By, Failure, Loaded, live};
use crate::exit::Exit;
use probes::{Knock, Planned, Stopped};
use senders::Column;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tipstaff_core::analysis::Code;
use tipstaff_core::space::Family;
use tipstaff_linux::ruleset;
use tipstaff_linux::sockets::{self, Listener};
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol, addresses};
use verdicts::Wanted;

/// What is asked.
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
pub struct Report {
    /// The host.
    pub host: String,
    /// Its listeners, by port.
    pub listeners: Vec<Entry>,
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
    /// The exit code that belongs to the report.
    pub fn exit(&self) -> Exit {
        let views = self.listeners.iter().flat_map(|it| &it.from).chain(&self.pings);
        if views.into_iter().any(|it| it.agree == Some(false)) {
            Exit::Found
        } else if self.kernel_unreadable {
            Exit::Refused
        } else {
            Exit::Fine
        }
    }
}

/// A listener, and who can reach it.
#[derive(Clone, Debug, Serialize)]
pub struct Entry {
    /// `tcp` or `udp`.
    pub protocol: &'static str,
    /// The address it is bound to.
    pub address: String,
    /// Its port.
    pub port: u16,
    /// `IPv4`, `IPv6`, or both, by the versions it takes.
    pub versions: Vec<&'static str>,
    /// The program's file.
    pub program: Option<String>,
    /// The program that the kernel's rules take its socket to belong to, if that is another one:
    /// a path, or `nobody`.
    pub taken_for: Option<String>,
    /// The process.
    pub pid: Option<u32>,
    /// The user who made the socket.
    pub user: String,
    /// One entry for each place and IP version.
    pub from: Vec<From>,
}

/// How a listener is seen from one place.
#[derive(Clone, Debug, Serialize)]
pub struct From {
    /// The place or address.
    pub place: String,
    /// `IPv4` or `IPv6`.
    pub version: &'static str,
    /// The policy's word: `allow`, `deny`, `reject`, or `partly` if not all senders or own
    /// addresses fare alike.
    pub policy: &'static str,
    /// The kernel's word, likewise; `unknown` if its rules are not understood or not readable.
    pub kernel: &'static str,
    /// The wire's word: `open`, `refused`, `prohibited`, `silent`, `unreachable`, or `partly`;
    /// `null` where no probe was possible.
    pub observed: Option<&'static str>,
    /// Who decides by the policy; `null` for `partly`.
    pub decided_by: Option<By>,
    /// Whether the witnesses that spoke agree; `null` if only one did.
    pub agree: Option<bool>,
    /// The senders that fare alike, where not all do, or where a probe was sent.
    pub parts: Vec<Part>,
}

/// Senders of one place that fare alike.
#[derive(Clone, Debug, Serialize)]
pub struct Part {
    /// The senders.
    pub senders: String,
    /// At which of the host's addresses.
    pub receivers: Vec<String>,
    /// Coming in by which interfaces, `another` standing for one that no rule names; `null` if
    /// that makes no difference.
    pub interfaces: Option<Vec<String>>,
    /// The policy's word.
    pub policy: &'static str,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// The kernel's word.
    pub kernel: &'static str,
    /// Who decides by the policy.
    pub decided_by: By,
    /// Who decides by the kernel's rules, if that is somebody else.
    pub kernel_decided_by: Option<String>,
    /// What it met in a copy of this machine in a lab: `open`, `closed` where nobody listens,
    /// `rejected`, `denied`, `stopped-early` before any inbound rule, `stopped-oddly`, `passed-on`
    /// to another machine; `null` if that was not tried.
    pub copy: Option<&'static str>,
    /// The wire's word.
    pub observed: Option<&'static str>,
    /// How that was seen.
    pub probes: Vec<ProbeWords>,
    /// Whether the witnesses that spoke agree; `null` if only one did.
    pub agree: Option<bool>,
}

/// A real probe.
#[derive(Clone, Debug, Serialize)]
pub struct ProbeWords {
    /// Its sender.
    pub source: IpAddr,
    /// Where it went.
    pub destination: SocketAddr,
    /// What it met.
    pub met: &'static str,
    /// How that was seen.
    pub evidence: String,
    /// How long that took, in microseconds.
    pub micros: u64,
    /// Of silence: what this host's own counters say became of the probe.
    pub explained: Option<String>,
}

/// Makes the report for the calling thread's network namespace.
///
/// # Errors
/// [`Failure`] if an argument is not understood, or the sockets cannot be listed.
pub fn report(loaded: &Loaded, request: &Request<'_>) -> Result<Report, Failure> {
    let columns = senders::columns(&loaded.policy, request.from)?;
    for vantage in request.vantages {
        probes::check_place(vantage, &columns)?;
    }
    let mut diagnosis = NetlinkSocket::open(Protocol::SocketDiagnosis)?;
    let listeners = sockets::listeners(&mut diagnosis)?;
    let mut unknown = Vec::new();
    let mut kernel_unreadable = false;
    let snapshot = match NetlinkSocket::open(Protocol::Netfilter)
        .and_then(|mut kernel| ruleset::read(&mut kernel))
    {
        Ok(snapshot) => snapshot,
        Err(error @ LinuxError::NotPermitted { .. }) => {
            unknown.push(format!("the kernel's rules: {error}; run it as root"));
            kernel_unreadable = true;
            None
        }
        Err(error) => return Err(error.into()),
    };
    let before = snapshot.as_ref().map(|it| it.tallies.clone()).unwrap_or_default();
    let kernel = if kernel_unreadable {
        verdicts::Kernel::Unreadable
    } else {
        verdicts::Kernel::of(snapshot)
    };
    if listeners.iter().any(|listener| listener.owner.is_none()) {
        unknown.push("some programs: the system shows them to root only".into());
    }
    let mut planned = Planned::default();
    let users = Users::read();
    let names = Names::of(loaded);
    let mut entries: Vec<Entry> = listeners
        .iter()
        .map(|listener| {
            let wanted = Wanted::of(listener, names.known(listener.owner.as_ref()), &kernel);
            let from = views(listener, &wanted, loaded, &kernel, &columns, &mut planned);
            entry(listener, taken_for(wanted, &names), users.name(listener.uid), from)
        })
        .collect();
    let mut pings = pings(loaded, &kernel, &columns, &mut planned);
    let mut copied = false;
    if !kernel_unreadable {
        match copy::try_all(loaded, &planned, &mut entries, &mut pings) {
            Ok(missing) => {
                copied = true;
                unknown.extend(missing.into_iter().map(|it| format!("in the copy: {it}")));
            }
            Err(failure) => unknown.push(format!("what a copy would meet: {}", failure.line())),
        }
    }
    let mut routes = NetlinkSocket::open(Protocol::Route)?;
    let own = addresses(&mut routes)?;
    let own: Vec<IpAddr> = own.into_iter().filter(|it| !it.is_loopback()).collect();
    let mut seen = probes::send(&planned, request, &own)?;
    unknown.append(&mut seen.unseen);
    if matches!(kernel, verdicts::Kernel::Rules(..)) && !seen.sightings.is_empty() {
        let after = ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?)?;
        silence::explain(&mut seen.sightings, &before, &after.map_or(Vec::new(), |it| it.tallies));
    }
    let mut stopped = Vec::new();
    for sighting in seen.sightings {
        if sighting.came_this_way(&mut routes)? {
            stopped.extend(sighting.note(&mut entries, &mut pings, &mut unknown));
        }
    }
    for from in entries.iter_mut().flat_map(|entry| &mut entry.from).chain(&mut pings) {
        from.sum_up();
    }
    let about_listeners =
        |it: &Finding| ABOUT_LISTENERS.iter().any(|code| code.as_str() == it.code);
    let findings = live::findings(loaded)?.into_iter().filter(about_listeners).collect();
    let host = loaded.plan.host.clone();
    let stopped_on_the_way = on_the_way(&stopped);
    Ok(Report {
        host,
        listeners: entries,
        pings,
        findings,
        copied,
        stopped_on_the_way,
        unknown,
        kernel_unreadable,
    })
}

/// What never arrived, one sentence for each way of knocking.
fn on_the_way(stopped: &[Stopped]) -> Vec<String> {
    let mut groups: Vec<(String, bool, Vec<&str>)> = Vec::new();
    for Stopped { place, knock, certain } in stopped {
        let what = match knock {
            Knock::Ping => "ping".to_owned(),
            Knock::Port(..) => format!("{}/{}", knock.port(), knock.word()),
        };
        match groups.iter_mut().find(|it| it.0 == what && it.1 == *certain) {
            Some(group) if group.2.contains(&place.as_str()) => {}
            Some(group) => group.2.push(place),
            None => groups.push((what, *certain, vec![place])),
        }
    }
    let words = |(what, certain, places): (String, bool, Vec<&str>)| {
        let perhaps = if certain { "never arrived here" } else { "perhaps never arrived here" };
        format!("{what} from {} {perhaps}", places.join(", "))
    };
    groups.into_iter().map(words).collect()
}

const ABOUT_LISTENERS: [Code; 5] = [
    Code::NoListener,
    Code::LoopbackListener,
    Code::UnmentionedListener,
    Code::WiderThanUsed,
    Code::OtherProgram,
];

/// Whom the host answers pings.
fn pings(
    loaded: &Loaded,
    kernel: &verdicts::Kernel,
    columns: &[Column],
    planned: &mut Planned,
) -> Vec<From> {
    let own = |family| loaded.plan.addresses.iter().any(|it| Family::of(*it) == family);
    let mut pings = Vec::new();
    for column in columns {
        for family in Family::BOTH {
            if !column.senders.has(family) || !own(family) {
                continue;
            }
            let wanted = Wanted::ping(family);
            let parts = verdicts::parts(&wanted, family, loaded, kernel, &column.senders);
            planned.plan_ping(column, &parts, pings.len());
            let parts = parts.iter().map(|part| part.words(&loaded.plan)).collect();
            pings.push(From::of(column.name.clone(), version(family), parts));
        }
    }
    pings
}

fn version(family: Family) -> &'static str {
    match family {
        Family::V4 => "IPv4",
        Family::V6 => "IPv6",
    }
}

/// The program that the kernel's rules take a socket for, if it is not who holds it; only rules that
/// name a program take note of whose a socket is.
fn taken_for(wanted: Wanted, names: &Names) -> Option<String> {
    let Wanted { program, marked, .. } = wanted;
    let matters = marked.is_some() || program.as_ref().is_some_and(|it| names.is_named(it));
    (matters && program != marked).then(|| marked.unwrap_or_else(|| "nobody".into()))
}

/// How a listener is seen from each place.
fn views(
    listener: &Listener,
    wanted: &Wanted,
    loaded: &Loaded,
    kernel: &verdicts::Kernel,
    columns: &[Column],
    planned: &mut Planned,
) -> Vec<From> {
    let families = families(listener);
    let mut from = Vec::new();
    for column in columns {
        for &family in &families {
            if !column.senders.has(family) {
                continue;
            }
            let parts = verdicts::parts(wanted, family, loaded, kernel, &column.senders);
            planned.plan(listener, column, &parts, from.len());
            let parts = parts.iter().map(|part| part.words(&loaded.plan)).collect();
            from.push(From::of(column.name.clone(), version(family), parts));
        }
    }
    planned.next_listener();
    from
}

/// The IP versions that a listener takes.
fn families(listener: &Listener) -> Vec<Family> {
    match (listener.address.is_ipv4(), listener.dual) {
        (true, _) => vec![Family::V4],
        (false, false) => vec![Family::V6],
        (false, true) => Family::BOTH.to_vec(),
    }
}

fn entry(listener: &Listener, taken_for: Option<String>, user: String, from: Vec<From>) -> Entry {
    let owner = listener.owner.as_ref();
    Entry {
        protocol: listener.protocol.as_str(),
        address: listener.address.to_string(),
        port: listener.port,
        versions: families(listener).into_iter().map(version).collect(),
        program: owner.and_then(|it| it.program.as_ref()).map(|it| it.display().to_string()),
        taken_for,
        pid: owner.map(|it| it.pid),
        user,
        from,
    }
}

/// The value that all share, `partly` if they differ.
fn shared(values: impl Iterator<Item = &'static str>) -> Option<&'static str> {
    values.reduce(|a, b| if a == b { a } else { "partly" })
}

impl From {
    /// Whether a part is about all senders of the place, of which others are parts by interface.
    pub fn covers_all(&self, part: usize) -> bool {
        let senders = &self.parts[part].senders;
        self.parts.iter().all(|other| other.senders == *senders)
    }

    fn of(place: String, version: &'static str, parts: Vec<Part>) -> Self {
        Self {
            place,
            version,
            policy: shared(parts.iter().map(|it| it.policy)).unwrap_or("deny"),
            kernel: shared(parts.iter().map(|it| it.kernel)).unwrap_or("unknown"),
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
    fn sum_up(&mut self) {
        for part in &mut self.parts {
            part.observed = shared(part.probes.iter().map(|it| it.met));
        }
        self.observed = shared(self.parts.iter().filter_map(|it| it.observed));
        self.agree = self.parts.iter().filter_map(|it| it.agree).reduce(|a, b| a && b);
    }
}
