//! What a packet on its way through chains carries, and what becomes of it.

use super::held::Others;
use super::registers::Known;
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
    /// Whether connection tracking has been told to let it alone.
    pub untracked: bool,
}
