//! What has come to ports of this machine, as the kernel remembers it.

use serde::Serialize;
use std::collections::BTreeSet;
use tipstaff_core::space::{Direction, ICMP, ICMPV6};
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::{Caller, Wanted, Who};

/// What has come to a port.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Came {
    /// How many packets were admitted, of each connection the first; `null` if that is not remembered.
    pub admitted: Option<u64>,
    /// From how many different senders.
    pub admitted_senders: Option<usize>,
    /// How many packets were turned away.
    pub denied: u64,
    /// From how many different senders.
    pub denied_senders: usize,
    /// How many seconds ago the last one came; `null` if none did.
    pub last_seconds_ago: Option<u64>,
}

/// What comes to a port, or a range of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Door {
    /// Of the protocol of this number, from the first to the last.
    Ports(u8, u16, u16),
    /// Questions whether somebody is there (ICMP echo requests: RFC 792, RFC 4443).
    Ping,
}

impl Door {
    fn is_for(self, wanted: Wanted) -> bool {
        match (self, wanted) {
            (Self::Ports(protocol, first, last), Wanted::Port(of, port)) => {
                protocol == of && (first..=last).contains(&port)
            }
            (Self::Ping, wanted) => {
                matches!(wanted, Wanted::Icmp(ICMP, 8, _) | Wanted::Icmp(ICMPV6, 128, _))
            }
            _ => false,
        }
    }
}

/// All that came to this machine.
pub(crate) struct Comers {
    list: Vec<Caller>,
    admitted_too: bool,
    /// For how many seconds it is remembered.
    pub keeps: u32,
}

impl Comers {
    /// Looks; `None` if nothing is remembered, or it may not be read: then nothing is said of it.
    pub(crate) fn look(machine: &dyn Machine) -> Option<Self> {
        let callers = machine.callers().ok().flatten()?;
        let inbound = |it: &Caller| it.direction == Direction::Inbound;
        let list = callers.list.into_iter().filter(inbound).collect();
        Some(Self { list, admitted_too: callers.admitted, keeps: callers.keeps })
    }

    /// What has come to one of these.
    pub(crate) fn at(&self, doors: &[Door]) -> Came {
        let here = |it: &&Caller| doors.iter().any(|door| door.is_for(it.wanted));
        let here: Vec<&Caller> = self.list.iter().filter(here).collect();
        let of = |admitted: bool| {
            let its = || here.iter().filter(move |it| it.admitted == admitted);
            let senders: BTreeSet<Who> = its().map(|it| it.who).collect();
            (its().map(|it| it.count).sum::<u64>(), senders.len())
        };
        let ((admitted, admitted_senders), (denied, denied_senders)) = (of(true), of(false));
        let last = here.iter().map(|it| it.last / 1_000).min();
        Came {
            admitted: self.admitted_too.then_some(admitted),
            admitted_senders: self.admitted_too.then_some(admitted_senders),
            denied,
            denied_senders,
            last_seconds_ago: last,
        }
    }
}
