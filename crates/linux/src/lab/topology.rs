//! The shape of a lab as plain data.

use std::collections::HashSet;
use std::net::IpAddr;
use tipstaff_core::plan::HostPlan;

/// Machines and the segments that join them.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Topology {
    /// The machines that stand in it.
    pub machines: Vec<Machine>,
}

/// A machine of the lab.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Machine {
    /// The name by which tests ask for it.
    pub name: String,
    /// Its links besides the loopback one.
    pub interfaces: Vec<Interface>,
    /// Where it sends what is not on its links.
    pub routes: Vec<Route>,
    /// Whether it passes on what is not for itself.
    pub forwards: bool,
    /// Networks (first address and prefix length) of which every address counts as its own, so
    /// that it can speak for all of them.
    pub speaks_for: Vec<(IpAddr, u8)>,
}

/// A link of a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interface {
    /// Its name on the machine, at most 15 bytes.
    pub name: String,
    /// The segment it is on; interfaces on the same segment are neighbours.
    pub segment: String,
    /// Its addresses with prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
}

/// A route of a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Route {
    /// The network: first address and prefix length.
    pub network: (IpAddr, u8),
    /// The neighbour that leads there.
    pub gateway: IpAddr,
}

/// Why a topology cannot be built.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TopologyError {
    /// Two machines have one name.
    #[error("two machines are named `{0}`")]
    TwiceNamed(String),
    /// The kernel does not take the interface's name.
    #[error("`{0}` cannot be the name of an interface: 1 to 15 bytes, no slash, no space")]
    BadInterface(String),
    /// A host has an address that belongs to none of its segments.
    #[error("no interface of `{machine}` is on the network of its address {address}")]
    NoSegment {
        /// The machine that has it.
        machine: String,
        /// The address that is there twice.
        address: IpAddr,
    },
    /// A route's gateway is not a neighbour.
    #[error("`{machine}` has no link to the gateway {gateway}")]
    NoLink {
        /// The machine that has the route.
        machine: String,
        /// The gateway that it cannot reach.
        gateway: IpAddr,
    },
}

/// A segment and the networks on it: first address and prefix length.
pub type Segment<'a> = (&'a str, &'a [(IpAddr, u8)]);

impl Machine {
    /// A machine with the interfaces and addresses that a policy names for a host. The role of an
    /// interface is the segment that it is on; each address goes to the interface on whose
    /// segment its network is.
    ///
    /// # Errors
    /// [`TopologyError::NoSegment`] if an address belongs nowhere.
    pub fn of_host(plan: &HostPlan, segments: &[Segment<'_>]) -> Result<Self, TopologyError> {
        let mut interfaces: Vec<Interface> = plan
            .interfaces
            .iter()
            .map(|it| Interface {
                name: it.name.clone(),
                segment: it.role.clone(),
                addresses: Vec::new(),
            })
            .collect();
        for &address in &plan.addresses {
            let place = interfaces.iter_mut().find_map(|interface| {
                let (_, networks) = segments.iter().find(|it| it.0 == interface.segment)?;
                let on = |it: &&(IpAddr, u8)| same_network(it.0, address, it.1);
                let prefix = networks.iter().find(on)?.1;
                Some((interface, prefix))
            });
            let (interface, prefix) = place
                .ok_or_else(|| TopologyError::NoSegment { machine: plan.host.clone(), address })?;
            interface.addresses.push((address, prefix));
        }
        Ok(Self { name: plan.host.clone(), interfaces, ..Self::default() })
    }
}

impl Topology {
    /// Checks what can be checked without the kernel.
    ///
    /// # Errors
    /// The first [`TopologyError`].
    pub fn check(&self) -> Result<(), TopologyError> {
        let mut names = HashSet::new();
        for machine in &self.machines {
            if !names.insert(&machine.name) {
                return Err(TopologyError::TwiceNamed(machine.name.clone()));
            }
            for interface in &machine.interfaces {
                let name = &interface.name;
                let good = (1..=15).contains(&name.len())
                    && !name.contains(|char: char| char == '/' || char.is_whitespace());
                if !good || name == "lo" {
                    return Err(TopologyError::BadInterface(name.clone()));
                }
            }
            for route in &machine.routes {
                let mut own = machine.interfaces.iter().flat_map(|it| &it.addresses);
                if !own.any(|&(address, prefix)| same_network(address, route.gateway, prefix)) {
                    return Err(TopologyError::NoLink {
                        machine: machine.name.clone(),
                        gateway: route.gateway,
                    });
                }
            }
        }
        Ok(())
    }

    /// The segments, in the order in which they are first named.
    #[must_use]
    pub fn segments(&self) -> Vec<&str> {
        let mut segments = Vec::new();
        for interface in self.machines.iter().flat_map(|machine| &machine.interfaces) {
            if !segments.contains(&interface.segment.as_str()) {
                segments.push(interface.segment.as_str());
            }
        }
        segments
    }
}

fn same_network(a: IpAddr, b: IpAddr, prefix: u8) -> bool {
    let shift = |bits: u32| bits.saturating_sub(u32::from(prefix));
    match (a, b) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            (a.to_bits() ^ b.to_bits()).checked_shr(shift(32)).unwrap_or(0) == 0
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            (a.to_bits() ^ b.to_bits()).checked_shr(shift(128)).unwrap_or(0) == 0
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::{Interface, Machine, Route, Topology, TopologyError};
    use std::net::IpAddr;

    fn bench(gateway: [u8; 4]) -> Topology {
        let address: IpAddr = [10, 44, 8, 30].into();
        Topology {
            machines: vec![Machine {
                name: "bench".into(),
                interfaces: vec![Interface {
                    name: "eth0".into(),
                    segment: "stacks".into(),
                    addresses: vec![(address, 24)],
                }],
                routes: vec![Route { network: ([0; 4].into(), 0), gateway: gateway.into() }],
                ..Machine::default()
            }],
        }
    }

    #[test]
    fn a_host_has_the_interfaces_and_addresses_that_its_policy_names() {
        use tipstaff_core::{plan, policy};
        let text = include_str!("../../../../demo/mended.toml");
        let policy = policy::read(&policy::Source::new("mended.toml", text)).expect("a policy");
        let plan =
            plan::resolve(&policy, "sluice", policy::Time::from_seconds(0)).expect("the host");
        let outside: [(IpAddr, u8); 2] =
            [([192, 0, 2, 0].into(), 24), ("2001:db8:2::".parse().expect("address"), 64)];
        let stacks: [(IpAddr, u8); 2] =
            [([10, 44, 8, 0].into(), 24), ("fd44:8::".parse().expect("address"), 64)];
        let machine = Machine::of_host(&plan, &[("outside", &outside), ("stacks", &stacks)]);
        let machine = machine.expect("every address has a place");
        let shown: Vec<String> = machine
            .interfaces
            .iter()
            .map(|it| {
                let list = it.addresses.iter().map(|(address, bits)| format!(" {address}/{bits}"));
                format!("{}:{}", it.name, list.collect::<String>())
            })
            .collect();
        assert_eq!(
            shown,
            ["eth0: 192.0.2.10/24 2001:db8:2::10/64", "eth1: 10.44.8.10/24 fd44:8::10/64"]
        );
        let error = Machine::of_host(&plan, &[("outside", &outside)]).expect_err("homeless");
        assert!(error.to_string().contains("10.44.8.10"), "{error}");
    }

    #[test]
    fn mistakes_are_found_before_the_kernel_is_asked() {
        assert_eq!(bench([10, 44, 8, 10]).check(), Ok(()));
        assert!(matches!(bench([10, 44, 9, 10]).check(), Err(TopologyError::NoLink { .. })));
        let mut twice = bench([10, 44, 8, 10]);
        twice.machines.push(twice.machines[0].clone());
        assert_eq!(twice.check(), Err(TopologyError::TwiceNamed("bench".into())));
        let mut named = bench([10, 44, 8, 10]);
        named.machines[0].interfaces[0].name = "an-interface-too-long".into();
        assert!(matches!(named.check(), Err(TopologyError::BadInterface(_))));
    }
}
