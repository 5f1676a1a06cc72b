//! The form of the document.

use crate::Written;
use crate::vocabulary as say;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// What the document says of itself; another number is another form.
pub const FORM: &str = "tipstaff-plan/1";

/// What a policy means for a host, whole.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Document {
    /// `tipstaff-plan/1`.
    pub form: String,
    /// The host whose plan it is.
    pub host: String,
    /// The moment for which it was worked out (RFC 3339): what had ended by then decides nothing.
    pub at: String,
    /// The posture in which it is taken; `null`: in none.
    #[serde(default)]
    pub posture: Option<String>,
    /// The host's own addresses; `null` where the policy leaves them out.
    pub addresses: Option<Vec<IpAddr>>,
    /// The IPv4 networks that it is on, as far as the policy says so: the first and the last address of each.
    #[serde(default)]
    pub networks: Vec<[IpAddr; 2]>,
    /// What its interfaces are for.
    #[serde(default)]
    pub interfaces: Vec<Interface>,
    /// What the kernel is to remember of who came; `null`: nothing.
    pub record: Option<Record>,
    /// Which decisions the kernel is to report.
    pub log: Log,
    /// The bits of sockets' marks by which rules know programs.
    pub program_marks: u32,
    /// The decisions of inbound, outbound and forwarded packets.
    pub directions: [Chain; 3],
}

/// What an interface is for.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Interface {
    /// The word for it.
    pub role: String,
    /// Its name; the role where it is known by its hardware address.
    pub name: String,
    /// The hardware address by which it is known.
    #[serde(default)]
    pub hardware: Option<String>,
}

/// What the kernel is to remember of who came.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Record {
    /// Whether also who was admitted.
    pub admitted: bool,
    /// For how many seconds after they came last.
    pub seconds: u32,
}

/// Which decisions the kernel is to report.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Log {
    /// `nothing`, `denied` or `all`.
    pub which: Reported,
    /// At most so many, all together.
    pub at_most: String,
    /// At most so many of one sender.
    pub of_each: String,
}

/// The decisions for one direction.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Chain {
    /// `inbound`, `outbound` or `forwarded`, in this order.
    pub direction: say::Direction,
    /// The decisions, in the order in which they are made. The last takes everything.
    pub decisions: Vec<Decision>,
}

/// One decision.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Decision {
    /// Its name: of a rule, or behind `baseline/` or `default/` of what the language supplies.
    pub name: String,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// Up to which rate that holds: beyond it, silence.
    #[serde(default)]
    pub rate: Option<String>,
    /// It takes packets that meet any of these: none, if nobody is at its places.
    pub conditions: Vec<Condition>,
    /// Whether the packets it takes are reported: `null`, `all`, or at most how many.
    #[serde(default)]
    pub log: Option<String>,
    /// Why it decides nothing, if it does not.
    #[serde(default)]
    pub idle: Option<Idle>,
    /// Why it is there.
    #[serde(default)]
    pub why: Option<String>,
    /// How the policy says what it is about, for readers.
    #[serde(default)]
    pub written: Option<Asked>,
    /// Where it is written; `null` where the language supplies it.
    #[serde(default)]
    pub origin: Option<Written>,
}

/// How a policy says what a decision is about.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Asked {
    /// What it is about.
    pub traffic: String,
    /// From where; empty for anywhere.
    pub from: String,
    /// To where; empty for anywhere.
    pub to: String,
}

/// Why a decision decides nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub enum Idle {
    /// It is switched off.
    Paused,
    /// It has ended.
    Ended,
}

/// Which decisions are reported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub enum Reported {
    /// None of them.
    Nothing,
    /// Those that turn away.
    Denied,
    /// Those, and new connections that are admitted.
    All,
}

/// What an address is to a host whose addresses change.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub enum Related {
    /// One of its own, in no network that it is on.
    Own,
    /// One of its own, in a network that it is on.
    OwnOnLink,
    /// Not its own, in a network that it is on.
    OnLink,
    /// Neither.
    Elsewhere,
}

/// All of it must hold; what is left out does not matter.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Condition {
    /// The interface by which the packet comes in; behind `!`: any other.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ingress: Option<String>,
    /// The interface by which it goes out; behind `!`: any other.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub egress: Option<String>,
    /// The states of its connection.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub states: Option<Vec<say::Tracked>>,
    /// What it carries.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub traffic: Option<Traffic>,
    /// The ports that it comes from, as ranges with both ends included.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_ports: Option<Vec<[u16; 2]>>,
    /// The ports, likewise, that the sender asked for, where address translation led the packet elsewhere; 0: where it did not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub published: Option<Vec<[u16; 2]>>,
    /// The networks that it comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Vec<String>>,
    /// The networks that it goes to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<Vec<String>>,
    /// What its sender is to a host whose addresses change: any of these.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_is: Option<Vec<Related>>,
    /// What its receiver is to such a host.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to_is: Option<Vec<Related>>,
    /// The executables whose sockets receive or send it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub programs: Vec<String>,
    /// The users whose sockets receive or send it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub users: Vec<String>,
    /// The moment at which it ends (RFC 3339).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// What a packet carries: any of these, as ranges with both ends included. What is left out is not meant.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Traffic {
    /// TCP to these ports.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub tcp: Vec<[u16; 2]>,
    /// UDP to these ports.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub udp: Vec<[u16; 2]>,
    /// SCTP to these ports.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sctp: Vec<[u16; 2]>,
    /// ICMP of these types, in IPv4 packets.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub icmp: Vec<[u8; 2]>,
    /// ICMPv6 of these types, in IPv6 packets.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub icmpv6: Vec<[u8; 2]>,
    /// Other protocols, by number; 1 and 58 stand for ICMP in IPv6 packets and ICMPv6 in IPv4 packets.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<[u8; 2]>,
}
