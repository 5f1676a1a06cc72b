//! What is asked, and what is told.

use crate::vocabulary as say;
use crate::{By, Outcome, PacketWords};
use serde::Serialize;
use std::net::IpAddr;
use tipstaff_core::rehearsal::CLIENT_PORT;
use tipstaff_core::space::RangeSet;

/// What is to be rehearsed, and where.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// Whether a copy of this machine is tried, rather than the policy.
    pub live: bool,
    /// Places and addresses to try from; everybody if empty.
    pub from: &'a [String],
    /// The traffic to try; every port and ICMP type if left out.
    pub traffic: Option<&'a str>,
    /// Whether only ports are tried that rules tell apart: seconds become moments.
    pub quick: bool,
    /// What a copy holds instead of the rules that are there; those if left out.
    pub instead: Option<Instead>,
}

/// The rules that a copy of a machine holds instead of those that are there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Instead {
    /// The tables of others, by family (`nfgen_family`) and name.
    pub tables: Vec<(u8, String)>,
    /// Whether the policy is enforced.
    pub policy: bool,
    /// The ports at which those tables may change something.
    pub ports: RangeSet<u16>,
}

/// What can be reached, by trying.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose policy was rehearsed.
    pub host: String,
    /// The posture in which it is taken; `null`: in none.
    pub posture: Option<String>,
    /// `policy` for the policy on this kernel, `copy` for a copy of this machine as it stands.
    pub tried: say::Tried,
    /// How it was seen.
    pub evidence: &'static str,
    /// How many packets were tried.
    pub packets: u64,
    /// How many were sent for that: packets of which one was lost on the way are sent again.
    pub sent: u64,
    /// How long that took, in seconds.
    pub seconds: f64,
    /// Whether every port was tried, and not only those that rules tell apart; of SCTP they are, unless a rule
    /// or the one who asks names some.
    pub every_port: bool,
    /// What became of the packets, by sender, receiver and interface.
    pub rows: Vec<Row>,
    /// Besides those who spoke for all that fare alike: how many other senders, at the ends of ranges,
    /// were tried at the ports that rules tell apart.
    pub members: usize,
    /// How many of those were left out, because there are too many.
    pub members_left_out: usize,
    /// How many packets met something else than the policy says.
    pub disagreements: u64,
    /// Packets of which it cannot be told where others lead them: what the copy showed is all that is known.
    pub not_known: u64,
    /// The first of them.
    pub witnesses: Vec<Witness>,
    /// What could not be copied, in words.
    pub missing: Vec<String>,
    /// What leaves the host, and what passes through it; `null`: that was not tried.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub crossed: Option<Crossed>,
}

/// What became of packets that leave the host, or pass through it.
#[derive(Clone, Debug, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Crossed {
    /// How many outbound ones were tried.
    pub outbound: u64,
    /// How many forwarded ones were tried.
    pub forwarded: u64,
    /// How many more rules tell apart that were left out, as they would be too many.
    pub left_out: u64,
    /// How many never came to the rules, such as forwarded ones where the machine forwards nothing.
    pub never_came: u64,
    /// How many met something else than the policy says.
    pub disagreements: u64,
    /// The first of them.
    pub witnesses: Vec<Witness>,
}

impl Report {
    /// Whether all agreed, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.disagreements > 0 { Outcome::Found } else { Outcome::Fine }
    }
}

/// What senders that fare alike meet.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// What they are called.
    pub from: String,
    /// All senders for whom it speaks, as networks; behind `except` what is left out of one, behind `but` what
    /// of that is meant again.
    pub senders: String,
    /// The one that spoke for all.
    pub source: IpAddr,
    /// The host's address that was tried.
    pub destination: IpAddr,
    /// The interface by which the packets came in.
    pub interface: String,
    /// The port they came from; from others than the usual one only the ports that rules tell apart
    /// are tried.
    pub source_port: u16,
    /// The program that listened, one that rules name; `null` if nobody did.
    pub program: Option<String>,
    /// The user whose socket listened, one that rules name; `null` if it was nobody's of them.
    pub user: Option<String>,
    /// The IP version that was used.
    pub version: say::Version,
    /// How many packets were tried.
    pub packets: u64,
    /// What got through; on a copy, where somebody listens.
    pub open: String,
    /// On a copy: what got through to where nobody listens.
    pub closed: String,
    /// What gets through up to a rate.
    pub limited: String,
    /// What was refused with an answer.
    pub rejected: String,
    /// What got through to another machine behind the host.
    pub passed_on: String,
    /// What was stopped before any inbound rule.
    pub stopped_early: String,
}

impl Row {
    /// Whether the packets came from the port from which all do unless rules tell those apart.
    pub fn is_usual(&self) -> bool {
        self.source_port == CLIENT_PORT
    }

    /// What the packets met, in the order of the fields.
    pub fn fates(&self) -> [&str; 6] {
        let Self { open, closed, limited, rejected, passed_on, stopped_early, .. } = self;
        [open, closed, limited, rejected, passed_on, stopped_early].map(String::as_str)
    }

    /// Whether every packet met silence.
    pub fn nothing(&self) -> bool {
        self.fates().iter().all(|traffic| traffic.is_empty())
    }
}

/// A packet that met something else than the policy says.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Witness {
    /// The packet that was sent.
    pub packet: PacketWords,
    /// What the policy says of it.
    pub policy: say::Verdict,
    /// Who decides by the policy.
    pub decided_by: By,
    /// What became of it in the lab.
    pub met: say::Fate,
}
