//! The probes that there is something to learn from.

use super::senders::Column;
use super::vantage::Vantage;
use super::verdicts::Fares;
use super::words::{Entry, From, Part};
use crate::Failure;
use tipstaff_core::policy::nearest;
use tipstaff_core::space::AddressSet;
use tipstaff_linux::sockets::{Listener, PortProtocol};

/// A vantage must stand for something that is asked about.
///
/// # Errors
/// [`Failure`] if it does not.
pub(crate) fn check_place(vantage: &Vantage, columns: &[Column]) -> Result<(), Failure> {
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
pub(super) struct Slot {
    listener: Option<usize>,
    from: usize,
    part: usize,
}

impl Slot {
    /// The part of the report.
    pub(super) fn of<'r>(&self, listeners: &'r mut [Entry], pings: &'r mut [From]) -> &'r mut Part {
        let from = match self.listener {
            Some(listener) => &mut listeners[listener].from,
            None => pings,
        };
        &mut from[self.from].parts[self.part]
    }
}

/// How a probe knocks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Knock {
    /// At a port of a protocol.
    Port(PortProtocol, u16),
    /// By an echo request.
    Ping,
}

impl Knock {
    /// The word for it between the two ends of a check.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Port(protocol, _) => protocol.as_str(),
            Self::Ping => "icmp",
        }
    }

    /// The port; 0 where there is none.
    pub(super) fn port(self) -> u16 {
        match self {
            Self::Port(_, port) => port,
            Self::Ping => 0,
        }
    }
}

/// A probe that could be sent if there were a vantage for it.
#[derive(Clone, Debug)]
pub(super) struct Probe {
    /// Where its outcome belongs.
    pub slot: Slot,
    /// The place that it speaks for.
    pub place: String,
    /// The port or ping by which it knocks.
    pub knock: Knock,
    /// From one of these.
    pub senders: AddressSet,
    /// What they meet by the rules.
    pub fares: Fares,
    /// Every interface that rules name.
    pub known_ways: Vec<Option<String>>,
}

/// The probes that could be sent if there were a vantage for each.
#[derive(Debug, Default)]
pub(super) struct Planned {
    /// The probes, in the order of the report.
    pub probes: Vec<Probe>,
    listener: usize,
}

impl Planned {
    /// Plans a probe for each part of some senders. A listener on a loopback address cannot be
    /// probed from elsewhere.
    pub(super) fn plan(
        &mut self,
        listener: &Listener,
        column: &Column,
        fares: &[Fares],
        from: usize,
    ) {
        if !listener.address.is_loopback() {
            let knock = Knock::Port(listener.protocol, listener.port);
            self.add(Some(self.listener), knock, column, fares, from);
        }
    }

    /// Plans a probe of a port at which nobody listens, likewise.
    pub(super) fn plan_port(
        &mut self,
        protocol: PortProtocol,
        port: u16,
        column: &Column,
        fares: &[Fares],
        from: usize,
    ) {
        self.add(Some(self.listener), Knock::Port(protocol, port), column, fares, from);
    }

    /// Plans a ping for each part of some senders.
    pub(crate) fn plan_ping(&mut self, column: &Column, fares: &[Fares], from: usize) {
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
    pub(crate) fn next_listener(&mut self) {
        self.listener += 1;
    }
}
