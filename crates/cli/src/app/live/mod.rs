//! What listens on this machine, held against its policy.

pub mod interfaces;
mod programs;
mod rates;

use super::review::{self, Finding};
use super::session::Session;
use super::{Failure, Loaded, transaction};
use std::collections::BTreeMap;
use tipstaff_core::analysis::{
    self, Code, Mend, Obstacle, Part, Subject, obstacle, ordinary, reachable, share_of, shares,
};
use tipstaff_core::plan::{Decision, Kind};
use tipstaff_core::policy::{Severity, Verdict};
use tipstaff_core::rehearsal::sendable;
use tipstaff_core::space::{AddressSet, Direction, RangeSet, TrafficSet};
use tipstaff_linux::sockets::{Connection, Listener, PortProtocol, connections, listeners};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// Programs that serve remote shells go by such names.
const SHELLS: [&str; 2] = ["sshd", "dropbear"];
/// Of a name and another that holds it, the shorter has at least so many letters, or it tells nothing.
const TELLING: usize = 4;
/// A rule for more ports than this is not for services that listen.
const MANY_PORTS: u32 = 64;

/// Findings about listeners, and about the session that asks.
///
/// # Errors
/// [`Failure`] if the listeners cannot be listed.
pub fn findings(loaded: &Loaded) -> Result<Vec<Finding>, Failure> {
    let mut socket = NetlinkSocket::open(Protocol::SocketDiagnosis)?;
    let listening = listeners(&mut socket)?;
    let mut found = no_listener(loaded, &listening);
    found.extend(unmentioned(loaded, &listening));
    found.extend(wider_than_used(loaded, &listening, &connections(&mut socket)?));
    found.extend(programs::findings(loaded, &listening));
    found.extend(interfaces::findings(loaded));
    found.extend(rates::findings(loaded));
    found.extend(shell(loaded, &listening));
    found.extend(session(loaded));
    let host = loaded.policy.host(&loaded.plan.host);
    for finding in &mut found {
        let rule = match &finding.subject {
            Subject::Rule(id) => {
                host.and_then(|host| host.rules.iter().find(|rule| rule.name == id.name))
            }
            _ => None,
        };
        let accepted = rule.map(|it| &it.accepted).or(host.map(|it| &it.accepted));
        let accepted = accepted.into_iter().flatten().find(|it| it.code == finding.code);
        finding.accepted = accepted.map(|it| it.reason.clone());
    }
    Ok(found.into_iter().map(review::words).collect())
}

fn finding(code: Code, severity: Severity, message: String) -> analysis::Finding {
    analysis::Finding {
        code,
        severity,
        subject: Subject::Host,
        others: Vec::new(),
        origin: None,
        message,
        witness: None,
        mend: None,
        accepted: None,
    }
}

fn about(mut finding: analysis::Finding, decision: &Decision) -> analysis::Finding {
    finding.subject = Subject::Rule(decision.id.clone());
    finding.origin.clone_from(&decision.origin);
    finding
}

fn for_others(listener: &Listener) -> bool {
    !listener.address.is_loopback()
}

fn hears(traffic: &TrafficSet, listener: &Listener) -> bool {
    match listener.protocol {
        PortProtocol::Tcp => traffic.tcp.contains(listener.port),
        PortProtocol::Udp => traffic.udp.contains(listener.port),
    }
}

/// Rules that open ports at which nothing listens, or only for this machine itself.
fn no_listener(loaded: &Loaded, listening: &[Listener]) -> Vec<analysis::Finding> {
    let plan = &loaded.plan;
    let region = ordinary(plan, Direction::Inbound);
    let mut found = Vec::new();
    for decision in &plan.chain(Direction::Inbound).decisions {
        let allows = decision.act.verdict() == Verdict::Allow;
        if decision.id.kind != Kind::Rule || decision.idle.is_some() || !allows {
            continue;
        }
        let Some(open) = share_of(plan, Direction::Inbound, &decision.id, &region) else {
            continue;
        };
        let empty = TrafficSet::empty();
        let open = open.iter().fold(empty, |all, piece| all.union(&piece.traffic));
        let ports = |set: &RangeSet<u16>| -> u32 {
            set.ranges().iter().map(|it| u32::from(it.1) - u32::from(it.0) + 1).sum()
        };
        if ports(&open.tcp) + ports(&open.udp) > MANY_PORTS {
            continue;
        }
        let (mut idle, mut local) = (TrafficSet::empty(), TrafficSet::empty());
        let both = [(&open.tcp, PortProtocol::Tcp), (&open.udp, PortProtocol::Udp)];
        for (set, protocol) in both {
            for port in set.ranges().iter().flat_map(|&(first, last)| first..=last) {
                let one = match protocol {
                    PortProtocol::Tcp => TrafficSet::tcp(RangeSet::single(port)),
                    PortProtocol::Udp => TrafficSet::udp(RangeSet::single(port)),
                };
                let mut there = listening.iter().filter(|it| hears(&one, it)).peekable();
                if there.peek().is_none() {
                    idle = idle.union(&one);
                } else if !there.any(for_others) {
                    local = local.union(&one);
                }
            }
        }
        let name = &decision.id;
        if !idle.is_empty() {
            let all = idle == TrafficSet { tcp: open.tcp, udp: open.udp, ..TrafficSet::empty() };
            let moved = moved(loaded, listening, &name.name).filter(|_| all);
            let to = moved.as_ref().map_or_else(String::new, |(program, port)| {
                format!("; {program} listens at {port}, which no rule mentions")
            });
            let message = format!("allows {idle}, but nothing listens there{to}");
            let mut finding = finding(Code::NoListener, Severity::Warning, message);
            finding.mend = match moved {
                Some((_, port)) => {
                    let (rule, key, value) = (name.clone(), "allow", Some(port));
                    Some(Mend::Change { rule, key, value })
                }
                None => all.then(|| Mend::Remove(name.clone())),
            };
            found.push(about(finding, decision));
        }
        if !local.is_empty() {
            let message = format!(
                "allows {local} to others, but what listens there does so on the loopback \
                 interface only"
            );
            let finding = finding(Code::LoopbackListener, Severity::Warning, message);
            found.push(about(finding, decision));
        }
    }
    found
}

/// Where a rule's program listens instead, and which program that is: one that goes by the rule's name,
/// at a single port that no rule mentions.
fn moved(loaded: &Loaded, listening: &[Listener], rule: &str) -> Option<(String, String)> {
    let decisions = &loaded.plan.chain(Direction::Inbound).decisions;
    let name = |listener: &Listener| {
        let program = listener.owner.as_ref()?.program.as_ref()?.file_name()?;
        Some(program.to_string_lossy().into_owned())
    };
    let its = |program: &str| {
        let (short, long) =
            if program.len() < rule.len() { (program, rule) } else { (rule, program) };
        short.len() >= TELLING && long.contains(short) || rule == "shell" && is_shell(program)
    };
    let new = listening.iter().filter(|it| for_others(it) && !mentioned(decisions, it));
    let mut found: Vec<(String, String)> = new
        .filter_map(|it| Some((name(it)?, format!("{}/{}", it.port, it.protocol.as_str()))))
        .filter(|(program, _)| its(program))
        .collect();
    found.sort();
    found.dedup();
    if found.len() == 1 { found.pop() } else { None }
}

fn is_shell(program: &str) -> bool {
    SHELLS.contains(&program)
}

/// Whether an active rule is about what a listener hears in particular.
fn mentioned(decisions: &[Decision], listener: &Listener) -> bool {
    decisions.iter().any(|decision| {
        decision.id.kind != Kind::Default
            && decision.idle.is_none()
            && decision
                .conditions
                .iter()
                // What takes everything mentions nothing in particular.
                .any(|it| !it.traffic.is_any() && hears(&it.traffic, listener))
    })
}

/// Listeners for others that no rule mentions.
fn unmentioned(loaded: &Loaded, listening: &[Listener]) -> Vec<analysis::Finding> {
    let decisions = &loaded.plan.chain(Direction::Inbound).decisions;
    // A program that listens at a port over both IP versions is one.
    let mut ports: BTreeMap<(u16, &str), &Listener> = BTreeMap::new();
    for listener in listening.iter().filter(|it| for_others(it) && !mentioned(decisions, it)) {
        ports.entry((listener.port, listener.protocol.as_str())).or_insert(listener);
    }
    let default = decisions.last().map_or("deny", |it| it.act.verdict().as_str());
    let words = |((port, protocol), listener): (&(u16, &str), &&Listener)| {
        let program = listener.owner.as_ref().and_then(|owner| owner.program.as_ref());
        let program = program.map_or_else(|| "a program".into(), |it| it.display().to_string());
        let message = format!(
            "{program} listens at {port}/{protocol}, which no rule mentions; the default decides: \
             {default}"
        );
        let severity = if default == "allow" { Severity::Warning } else { Severity::Note };
        let mut finding = finding(Code::UnmentionedListener, severity, message);
        finding.mend = Some(Mend::Allow {
            name: None,
            traffic: vec![format!("{port}/{protocol}")],
            from: None,
        });
        finding
    };
    ports.iter().map(words).collect()
}

/// Rules that let anybody reach a listener that only known places use now.
fn wider_than_used(
    loaded: &Loaded,
    listening: &[Listener],
    connections: &[Connection],
) -> Vec<analysis::Finding> {
    let plan = &loaded.plan;
    let places = &loaded.policy.places;
    let named: AddressSet = places.iter().map(|place| place.addresses.clone()).collect();
    let mut found = Vec::new();
    let mut ports: Vec<(u16, PortProtocol)> =
        listening.iter().filter(|it| for_others(it)).map(|it| (it.port, it.protocol)).collect();
    ports.dedup();
    for (port, protocol) in ports {
        let here = |it: &&Connection| (it.own.port(), it.protocol) == (port, protocol);
        let peers: Vec<_> = connections
            .iter()
            .filter(here)
            .map(|it| it.peer.ip())
            .filter(|it| !it.is_loopback() && !plan.addresses.contains(it))
            .collect();
        if peers.is_empty() || peers.iter().any(|it| !named.contains(*it)) {
            continue;
        }
        let one = match protocol {
            PortProtocol::Tcp => TrafficSet::tcp(RangeSet::single(port)),
            PortProtocol::Udp => TrafficSet::udp(RangeSet::single(port)),
        };
        let strangers = sendable().difference(&named);
        let mut region = ordinary(plan, Direction::Inbound);
        region.traffic = one.clone();
        region.source = region.source.intersection(&strangers);
        let Some(shares) = shares(plan, Direction::Inbound, vec![region]) else { continue };
        let wide = |it: &&analysis::Share<'_>| {
            it.decision.id.kind == Kind::Rule && it.decision.act.verdict() == Verdict::Allow
        };
        let Some(share) = shares.iter().find(wide) else { continue };
        let mut users: Vec<&str> = Vec::new();
        for peer in &peers {
            let at = places.iter().filter(|it| it.addresses.contains(*peer));
            let smallest = at.min_by_key(|it| it.addresses.blocks().len());
            users.extend(smallest.map(|it| it.name.as_str()).filter(|it| !users.contains(it)));
        }
        // A mend names one place; with several, which ones is for the author to say.
        let from = (users.len() == 1).then(|| users[0].to_owned());
        let users = users.join(", ");
        let count = match peers.len() {
            1 => "the only connection now comes".to_owned(),
            2 => "both connections now come".to_owned(),
            count => format!("all {count} connections now come"),
        };
        let message = format!("lets anybody reach {one}; {count} from {users}");
        let mut finding = finding(Code::WiderThanUsed, Severity::Note, message);
        finding.mend =
            Some(Mend::Change { rule: share.decision.id.clone(), key: "from", value: from });
        found.push(about(finding, share.decision));
    }
    found
}

/// A remote shell that listens here and that nobody can reach.
fn shell(loaded: &Loaded, listening: &[Listener]) -> Vec<analysis::Finding> {
    let written = loaded.policy.host(&loaded.plan.host).and_then(|host| host.shell.as_ref());
    if written.is_some() {
        return Vec::new();
    }
    let is_shell = |listener: &&Listener| {
        let program = listener.owner.as_ref().and_then(|owner| owner.program.as_ref());
        let name = program.and_then(|it| it.file_name()).map(|it| it.to_string_lossy());
        name.is_some_and(|name| is_shell(&name))
    };
    let ports: RangeSet<u16> = RangeSet::from_ranges(
        listening
            .iter()
            .filter(|it| for_others(it) && it.protocol == PortProtocol::Tcp)
            .filter(is_shell)
            .map(|it| (it.port, it.port)),
    );
    if ports.is_empty() || reachable(&loaded.plan, &TrafficSet::tcp(ports.clone())) {
        return Vec::new();
    }
    let message = format!("no address can reach the remote shell that listens at {ports}/tcp");
    let mut finding = finding(Code::ShellLockout, Severity::Error, message);
    finding.mend = Some(Mend::Allow {
        name: Some("shell"),
        traffic: ports.ranges().iter().map(|it| format!("{}/tcp", it.0)).collect(),
        from: None,
    });
    vec![finding]
}

/// The session that asks, if it could not be opened again.
fn session(loaded: &Loaded) -> Option<analysis::Finding> {
    let session = Session::own().filter(|it| !it.client.is_loopback())?;
    let receivers = super::programs::Receivers::look(loaded).ok();
    let way = transaction::way(&session, receivers.as_ref());
    let Obstacle { part, packet, decision } = obstacle(&loaded.plan, &way)?;
    let port = session.port;
    let why = match part {
        Part::Opening | Part::Onward => format!("decides {}", decision.act.verdict().as_str()),
        Part::Answers => "keeps its answers in".into(),
        Part::Neighbours => "keeps IPv6 from finding the neighbour on the link".into(),
        Part::Rate(rate) => format!("allows only {rate}"),
    };
    let message = format!(
        "this session, from {} to {port}/tcp, could not be opened again: `{}` {why}",
        session.client, decision.id,
    );
    let mut finding = finding(Code::SessionCut, Severity::Error, message);
    finding.others = vec![decision.id.clone()];
    let from = AddressSet::single(session.client);
    finding.mend = Some(Mend::Allow {
        name: Some("shell"),
        traffic: vec![format!("{port}/tcp")],
        from: Some(from.to_string()),
    });
    finding.witness = Some(packet);
    Some(finding)
}
