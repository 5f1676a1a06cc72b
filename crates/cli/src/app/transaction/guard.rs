//! Nobody shuts themselves out, or somebody else, without knowing.

use super::super::programs::Receivers;
use super::super::session::Session;
use super::super::{Failure, Loaded};
use super::stopped;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{RangeSet, TCP};
use tipstaff_linux::flows::{self, Flow};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{NetlinkSocket, Protocol, addresses, link_towards};

/// Refuses a policy under which the session that asks, or another remote shell session that lives
/// now, could not be opened again.
pub fn guard(policy: &Loaded) -> Result<(), Failure> {
    let own = Session::own().filter(|session| !session.client.is_loopback());
    let others = others(policy, own.as_ref());
    // Where that cannot be known, no program is taken to listen.
    let receivers = Receivers::look(policy).ok();
    for session in own.iter().chain(&others) {
        let mut packet = session.opening(&policy.plan);
        // By which interface it would come in is told by the way back to it.
        packet.in_interface = NetlinkSocket::open(Protocol::Route)
            .and_then(|mut routes| link_towards(&mut routes, session.client))
            .ok()
            .flatten();
        packet.program = receivers.as_ref().and_then(|it| it.at(PortProtocol::Tcp, session.port));
        let decision = policy.plan.decision(&packet);
        if decision.act.verdict() == Verdict::Allow {
            continue;
        }
        let whose = if Some(session) == own.as_ref() {
            "this would lock you out: your session"
        } else {
            "this would lock somebody out: a remote shell session"
        };
        let origin = decision.origin.as_ref().map(|it| format!(" ({it})")).unwrap_or_default();
        let (client, port) = (session.client, session.port);
        let verdict = decision.act.verdict().as_str();
        return Err(stopped(
            format!(
                "{whose}, from {client} to {port}/tcp, could not be opened again; \
                 `{}`{origin} decides {verdict}",
                decision.id
            ),
            vec![
                format!(
                    "allow it first: tipstaff rule add shell --allow {port}/tcp --from {client} \
                     --first"
                ),
                "or go on with --even-if-locked-out; without --keep, it goes back by itself".into(),
                "nothing was changed".into(),
            ],
        ));
    }
    Ok(())
}

/// Other sessions at the remote shell's ports, as far as the kernel keeps track of connections.
fn others(policy: &Loaded, own: Option<&Session>) -> Vec<Session> {
    let host = policy.policy.host(&policy.plan.host);
    let written = host.and_then(|host| host.shell.as_ref()).map(|shell| shell.traffic.tcp.clone());
    let ports = match (written, own) {
        (Some(ports), _) => ports,
        (None, Some(own)) => RangeSet::single(own.port),
        (None, None) => RangeSet::single(22),
    };
    let flows = NetlinkSocket::open(Protocol::Netfilter).and_then(|mut it| flows::flows(&mut it));
    let addresses = NetlinkSocket::open(Protocol::Route).and_then(|mut it| addresses(&mut it));
    // Where either cannot be known, the session that asks still is.
    let (flows, addresses) = (flows.unwrap_or_default(), addresses.unwrap_or_default());
    let here = |flow: &Flow| addresses.contains(&flow.destination) && !flow.source.is_loopback();
    let session = |flow: Flow| {
        let (client_port, port) = flow.ports?;
        let found = Session { client: flow.source, client_port, server: flow.destination, port };
        (flow.protocol == TCP && flow.answered && ports.contains(port)).then_some(found)
    };
    flows.into_iter().filter(here).filter_map(session).filter(|it| Some(it) != own).collect()
}
