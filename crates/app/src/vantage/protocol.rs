//! What the two ends of a remote check say to each other: JSON values, one a line. Keys that an
//! end does not know are passed over, so that later versions can say more.

use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// The version of the protocol.
pub const VERSION: u32 = 2;

/// The first line of the asking end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    /// The version that it speaks.
    pub tipstaff_vantage: u32,
    /// The addresses of the asking host: nothing else is probed.
    pub addresses: Vec<IpAddr>,
    /// The UDP port to which secrets are sent; 0 if it cannot hear them.
    #[serde(default)]
    pub secret_port: u16,
    /// How long each probe waits for an answer, in milliseconds.
    pub patience_ms: u64,
}

/// The first line of the far end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Welcome {
    /// It is ready to send probes.
    Ready {
        /// The version that it speaks.
        tipstaff_vantage: u32,
        /// The addresses that the far end has.
        addresses: Vec<IpAddr>,
        /// How many probes it will send at most.
        most_probes: usize,
        /// How many it will begin in a second.
        probes_a_second: u32,
        /// The addresses that it has sent a secret to, and that it probes if those come back.
        #[serde(default)]
        secrets: Vec<IpAddr>,
    },
    /// It will send no probes.
    Refused {
        /// Why it will send none.
        error: String,
    },
}

/// One probe to send.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ask {
    /// A number that comes back with the answer.
    pub probe: u64,
    /// `tcp`, `udp` or `icmp`.
    pub protocol: String,
    /// From which of the far end's addresses; the system's choice if left out.
    #[serde(default)]
    pub source: Option<IpAddr>,
    /// The address that is to be probed.
    pub destination: IpAddr,
    /// To which port; nothing for `icmp`.
    #[serde(default)]
    pub port: u16,
}

/// What a probe met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// The number of the probe.
    pub probe: u64,
    /// `open`, `refused`, `prohibited`, `silent` or `unreachable`; left out if it could not be sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub met: Option<String>,
    /// How that was seen.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub evidence: String,
    /// Why it could not be sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// How long it took, in microseconds.
    pub micros: u64,
}
/// The second line of the asking end: the secrets that came to its addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    /// Each secret that came in, and where.
    pub heard: Vec<Heard>,
}

/// A secret that came to an address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Heard {
    /// The address at which it came in.
    pub address: IpAddr,
    /// The secret, in hexadecimal digits.
    pub secret: String,
}

/// The second line of the far end: what it will probe.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Allowed {
    /// The addresses that may be probed.
    pub allowed: Vec<IpAddr>,
}

/// What stands before the secret in the datagram.
pub(crate) const SECRET: &str = "tipstaff vantage secret ";
