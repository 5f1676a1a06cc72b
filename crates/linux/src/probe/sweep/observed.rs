//! What the observer tells of packets.

/// What became of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Met {
    /// It got through, and a socket waits for it.
    Open,
    /// It got through, and nobody listens.
    Closed,
    /// It got through to another machine behind the host.
    PassedOn,
    /// It was stopped, and the host answered that.
    Rejected,
    /// It was stopped, and the host answered with another error than a refusal by rules.
    StoppedOddly,
    /// It was stopped in silence.
    Denied,
    /// It never reached any rule.
    Lost,
}

/// How many packets the observer has met, by the kernel's count.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub(super) struct Counts {
    pub arrived: u64,
    pub reported: [u64; GROUPS.len()],
}

/// Where and as what packets are reported.
pub(super) struct Group {
    pub number: u16,
    pub chain: &'static str,
    pub met: Option<Met>,
}

pub(super) const OPEN: Group = Group { number: 40, chain: "through-open", met: Some(Met::Open) };
pub(crate) const CLOSED: Group =
    Group { number: 41, chain: "through-closed", met: Some(Met::Closed) };
pub(super) const ELSEWHERE: Group =
    Group { number: 42, chain: "elsewhere", met: Some(Met::PassedOn) };
pub(crate) const ANSWERS: Group = Group { number: 43, chain: "answers", met: None };
pub(crate) const GROUPS: [Group; 4] = [OPEN, CLOSED, ELSEWHERE, ANSWERS];
