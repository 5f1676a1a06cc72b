//! The data of `ietf-access-control-list`, as far as it is written or read here (RFC 8519, in the JSON form of RFC
//! 7951). What is not named here is kept as the names of its keys.

use serde::de::IgnoredAny;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Keys that are not understood; that they are there says that more is meant.
pub(super) type Others = BTreeMap<String, IgnoredAny>;

/// A whole document.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Document {
    /// The interfaces that lists name (RFC 8343).
    #[serde(
        rename = "ietf-interfaces:interfaces",
        default,
        skip_serializing_if = "Option::is_none"
    )]
    pub(super) interfaces: Option<Interfaces>,
    /// The lists.
    #[serde(rename = "ietf-access-control-list:acls", alias = "acls")]
    pub(super) acls: Acls,
}

#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Interfaces {
    #[serde(default)]
    pub interface: Vec<Interface>,
}

#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Interface {
    pub name: String,
    #[serde(rename = "type", default)]
    pub kind: String,
}

#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Acls {
    #[serde(default)]
    pub acl: Vec<Acl>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

/// A list.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Acl {
    /// Its name.
    pub name: String,
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    pub(super) kind: Option<String>,
    #[serde(default)]
    pub(super) aces: Aces,
}

#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Aces {
    #[serde(default)]
    pub ace: Vec<Ace>,
}

/// An entry of a list; the first that matches decides.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Ace {
    /// Its name.
    pub name: String,
    #[serde(default, skip_serializing_if = "Matches::is_any")]
    pub(super) matches: Matches,
    #[serde(default)]
    pub(super) actions: Actions,
    #[serde(flatten, skip_serializing)]
    pub(super) others: Others,
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub(super) struct Matches {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ipv4: Option<Ip>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<Ip>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tcp: Option<Transport>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub udp: Option<Transport>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub icmp: Option<Icmp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub egress_interface: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ingress_interface: Option<String>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

impl Matches {
    fn is_any(&self) -> bool {
        self.ipv4.is_none()
            && self.ipv6.is_none()
            && self.tcp.is_none()
            && self.udp.is_none()
            && self.icmp.is_none()
            && self.egress_interface.is_none()
            && self.ingress_interface.is_none()
            && self.others.is_empty()
    }
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub(super) struct Ip {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub protocol: Option<u8>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination_ipv4_network: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_ipv4_network: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination_ipv6_network: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_ipv6_network: Option<String>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub(super) struct Transport {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_port: Option<Ports>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination_port: Option<Ports>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

/// A range, or one port and what it is compared by.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub(super) struct Ports {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lower_port: Option<u16>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub upper_port: Option<u16>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub operator: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub(super) struct Icmp {
    #[serde(rename = "type", skip_serializing_if = "Option::is_none")]
    pub kind: Option<u8>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub(super) struct Actions {
    pub forwarding: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub logging: Option<String>,
    #[serde(flatten, skip_serializing)]
    pub others: Others,
}
