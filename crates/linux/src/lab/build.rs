//! A topology made real.

use super::link::{Links, hardware_address, index};
use super::topology::{Machine, Topology};
use crate::LinuxError;
use crate::sys::namespace::Namespace;
use std::process::Command;
use tipstaff_wire::route::Via;

/// A running lab. It must be built in a sealed process, see [`super::seal`].
#[derive(Debug)]
pub struct Lab {
    nodes: Vec<Node>,
    /// Holds the bridges that the segments are made of.
    _fabric: Namespace,
}

/// A machine of a lab.
#[derive(Debug)]
pub struct Node {
    name: String,
    namespace: Namespace,
    /// Its links' names and hardware addresses.
    links: Vec<(String, [u8; 6])>,
}

impl Lab {
    /// Builds a lab.
    ///
    /// # Errors
    /// [`LinuxError`] if the topology is impossible, or the system refuses.
    pub fn build(topology: &Topology) -> Result<Self, LinuxError> {
        topology.check().map_err(|error| LinuxError::Refused {
            doing: "build a lab".into(),
            reason: error.to_string().into(),
        })?;
        let fabric = Namespace::create()?;
        let segments = topology.segments();
        fabric.run(|| {
            let mut links = Links::open()?;
            links.prepare(false)?;
            (0..segments.len()).try_for_each(|at| links.bridge(&bridge(at)).map(drop))
        })??;
        let mut nodes = Vec::new();
        let mut ports = 0;
        for machine in &topology.machines {
            let namespace = Namespace::create()?;
            let first = ports;
            ports += machine.interfaces.len();
            namespace.run(|| furnish(machine, &fabric, first))??;
            fabric.run(|| {
                let mut links = Links::open()?;
                for (at, interface) in machine.interfaces.iter().enumerate() {
                    let segment = segments.iter().position(|it| *it == interface.segment);
                    let master = index(&bridge(segment.unwrap_or_default()))?;
                    let name = port(first + at);
                    links.up(&name, index(&name)?, Some(master))?;
                }
                Ok::<(), LinuxError>(())
            })??;
            namespace.run(|| connect(machine))??;
            let links = machine.interfaces.iter().enumerate();
            let links = links.map(|(at, it)| (it.name.clone(), hardware_address(first + at)));
            nodes.push(Node { name: machine.name.clone(), links: links.collect(), namespace });
        }
        // Links come up on both sides together.
        for place in nodes.iter().map(|it| &it.namespace).chain([&fabric]) {
            place.run(|| Links::open()?.ready())??;
        }
        Ok(Self { nodes, _fabric: fabric })
    }

    /// The machine of that name.
    #[must_use]
    pub fn node(&self, name: &str) -> Option<&Node> {
        self.nodes.iter().find(|node| node.name == name)
    }
}

fn bridge(at: usize) -> String {
    format!("segment{at}")
}

fn port(at: usize) -> String {
    format!("port{at}")
}

/// Makes a machine's links, their far ends lying loose in the fabric.
fn furnish(machine: &Machine, fabric: &Namespace, first: usize) -> Result<(), LinuxError> {
    let mut links = Links::open()?;
    links.prepare(machine.forwards)?;
    for (at, interface) in machine.interfaces.iter().enumerate() {
        let (address, far) = (hardware_address(first + at), port(first + at));
        links.pair(&interface.name, None, address, &far, fabric)?;
    }
    Ok(())
}

/// Switches a machine's links on and gives it addresses and routes.
fn connect(machine: &Machine) -> Result<(), LinuxError> {
    let mut links = Links::open()?;
    for interface in &machine.interfaces {
        let link = index(&interface.name)?;
        links.up(&interface.name, link, None)?;
        for &address in &interface.addresses {
            links.address(link, address)?;
        }
    }
    for route in &machine.routes {
        links.route(route.network, Via::Gateway(route.gateway))?;
    }
    let loopback = index("lo")?;
    for &network in &machine.speaks_for {
        links.route(network, Via::Here(loopback))?;
    }
    Ok(())
}

impl Node {
    pub(super) fn new(name: &str, namespace: Namespace, links: Vec<(String, [u8; 6])>) -> Self {
        Self { name: name.into(), namespace, links }
    }

    /// Which of its links has that name.
    pub(super) fn position(&self, link: &str) -> Option<usize> {
        self.links.iter().position(|it| it.0 == link)
    }

    /// The name that the topology gives it.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The hardware address of its link of that name.
    #[must_use]
    pub fn hardware_address(&self, link: &str) -> Option<[u8; 6]> {
        self.links.iter().find(|it| it.0 == link).map(|it| it.1)
    }

    /// Its links besides the loopback one, with their hardware addresses.
    #[must_use]
    pub fn links(&self) -> &[(String, [u8; 6])] {
        &self.links
    }

    /// The network namespace that the machine is.
    #[must_use]
    pub fn namespace(&self) -> &Namespace {
        &self.namespace
    }

    /// Runs `work` on the machine, on a thread of its own.
    ///
    /// # Errors
    /// [`LinuxError`] if the namespace cannot be entered.
    pub fn run<T: Send>(&self, work: impl FnOnce() -> T + Send) -> Result<T, LinuxError> {
        self.namespace.run(work)
    }

    /// Makes `command` start on the machine, and end when the calling thread ends.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn start_here(&self, command: &mut Command) -> Result<(), LinuxError> {
        self.namespace.start_here(command)
    }
}
