//! Where a machine is, and the postures that hold by themselves there.

use super::shape::{Shape, TableSpec, key};
use crate::space::{AddressSet, HardwareAddress};
use std::net::IpAddr;

/// The keys of `when`.
pub(super) const TABLE: TableSpec = TableSpec {
    kind: "when",
    meaning: "Where the machine is while a posture holds by itself; all of it must be so, on one link",
    keys: &[
        key(
            "on-link",
            Shape::List,
            "It has an address in one of these networks",
            "[\"10.44.8.0/24\"]",
        ),
        key(
            "gateway",
            Shape::List,
            "One of these neighbours leads everywhere else",
            "[\"10.44.8.1\"]",
        ),
        key(
            "gateway-hardware",
            Shape::List,
            "That neighbour has one of these hardware addresses; other networks seldom know it",
            "[\"52:54:00:44:08:01\"]",
        ),
        key("up", Shape::List, "These interfaces are on and have a carrier", "[\"tunnel\"]"),
    ],
};

/// Where the machine is to be while a posture holds by itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct When {
    /// It has an address in these networks; empty: whichever it has.
    pub networks: AddressSet,
    /// Neighbours one of which leads everywhere else; empty: whoever does.
    pub gateways: Vec<IpAddr>,
    /// Hardware addresses one of which that neighbour has; empty: whichever.
    pub hardware: Vec<HardwareAddress>,
    /// Interfaces all of which are on.
    pub up: Vec<String>,
}

/// Where a machine is, by what it sees itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Whereabouts {
    /// Its links, but for the loopback one.
    pub links: Vec<LinkPlace>,
}

/// What is seen of one link.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LinkPlace {
    /// Its name.
    pub name: String,
    /// Whether it is on and has a carrier.
    pub up: bool,
    /// The addresses that the machine has on it.
    pub addresses: Vec<IpAddr>,
    /// Neighbours on it that lead everywhere else.
    pub gateways: Vec<GatewaySeen>,
}

/// A neighbour that leads everywhere else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GatewaySeen {
    /// Its address.
    pub address: IpAddr,
    /// The hardware address of who answers for it; `None` if nobody has.
    pub hardware: Option<HardwareAddress>,
}

impl When {
    /// Whether the machine is there.
    #[must_use]
    pub fn holds(&self, at: &Whereabouts) -> bool {
        let is_up = |name: &String| at.links.iter().any(|it| it.name == *name && it.up);
        let asks_for_link = !self.networks.is_empty() || self.asks_for_gateway();
        self.up.iter().all(is_up)
            && (!asks_for_link || at.links.iter().any(|link| link.up && self.is_on(link)))
    }

    fn asks_for_gateway(&self) -> bool {
        !self.gateways.is_empty() || !self.hardware.is_empty()
    }

    fn is_on(&self, link: &LinkPlace) -> bool {
        let on_link =
            self.networks.is_empty() || link.addresses.iter().any(|it| self.networks.contains(*it));
        let leads = |it: &GatewaySeen| {
            let address = self.gateways.is_empty() || self.gateways.contains(&it.address);
            let hardware = self.hardware.is_empty()
                || it.hardware.is_some_and(|it| self.hardware.contains(&it));
            address && hardware
        };
        on_link && (!self.asks_for_gateway() || link.gateways.iter().any(leads))
    }
}
