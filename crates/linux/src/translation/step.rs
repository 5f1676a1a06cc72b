//! What a packet on its way through chains carries, and what becomes of it.

use super::held::Others;
use super::registers::{Known, Registers};
use crate::addresses::Link;
use std::net::IpAddr;
use tipstaff_wire::nf_tables::Verdict;

/// `RTN_UNICAST` (linux/rtnetlink.h).
pub(super) const UNICAST: u32 = 1;

/// How a chain leaves a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum End {
    /// Undecided, as far as its end.
    Behind,
    /// Let through, by this chain.
    Accepted,
    /// Kept out.
    Dropped,
    /// Sent elsewhere: where, as far as an address is said, and at which port, if one is.
    Translated(Option<IpAddr>, Option<u16>),
    /// It is not known, for this reason, as the end of a sentence.
    Unknown(String),
}

/// Whether a rule goes on to its next expression.
pub(super) enum Step {
    On,
    Off,
    Ends(End),
    Leads(Verdict),
    /// Whether it goes on is not known.
    Perhaps(String),
}

/// One packet, and what is written down of it on its way.
pub(super) struct Run<'o> {
    pub others: &'o Others,
    pub links: &'o [Link],
    /// The packet's mark, as far as it is known.
    pub mark: [Known; 4],
    /// Whether connection tracking has been told to let it alone; `None` if that is not known.
    pub untracked: Option<bool>,
    /// Whether it comes to connection tracking only later, so that it can still be let alone; `None` if that is not known.
    pub before_tracking: Option<bool>,
}

/// What may do something with a packet for good, where it is not understood.
pub(super) fn may_end(name: &str) -> bool {
    ["target", "tproxy", "queue", "synproxy", "nat", "redir"].contains(&name)
}

/// Something that is not understood: a test whose outcome is not known, or, if it `ends`, what may lead a packet anywhere.
pub(super) fn not_followed(registers: &mut Registers, name: &str, ends: bool) -> Step {
    registers.forget();
    let why = format!("`{name}` is not followed");
    if ends { Step::Ends(End::Unknown(why)) } else { Step::Perhaps(why) }
}

/// It leads elsewhere, and where that is depends on what is not known here.
pub(super) fn several() -> Step {
    Step::Ends(End::Unknown("it leads to one of several".into()))
}

pub(super) fn led_by_unknown() -> Step {
    Step::Ends(End::Unknown("it leads to what is not known of a packet".into()))
}

pub(super) fn of_its_own() -> Step {
    Step::Ends(End::Unknown("it leads to one of this host's own addresses".into()))
}

pub(super) fn unseen() -> Step {
    Step::Perhaps("it looks at what is not known of a packet".into())
}

pub(super) fn goes_on(does: bool) -> Step {
    if does { Step::On } else { Step::Off }
}
