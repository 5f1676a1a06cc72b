//! The example's world: networks, machines, and the programs that listen on them.

use rustix::mount::{MountFlags, mount, mount_bind};
use std::fs;
use std::io::{BufRead, BufReader};
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use tipstaff_app::Failure;
use tipstaff_core::plan::HostPlan;
use tipstaff_linux::LinuxError;
use tipstaff_linux::lab::{
    Interface, Lab, Machine, Node, Route, Segment, Topology, TopologyError, lead_elsewhere,
};

/// The running world.
pub struct World {
    lab: Lab,
    programs: Vec<Child>,
}

/// The host between the outside and the stacks.
const EDGE: &str = "sluice";
/// The machines that have a policy.
pub const HOSTS: [&str; 3] = ["sluice", "granary", "bench"];

/// What listens where: machine, program, ports. The last one is not the library's: somebody
/// else's mail server, to see whether mail gets out.
const PROGRAMS: [(&str, &str, &[&str]); 10] = [
    ("sluice", "catalogued", &["tcp:80", "tcp:443", "udp:443"]),
    ("sluice", "remote-shell", &["tcp:2202"]),
    ("sluice", "tidegauge", &["tcp:9100"]),
    ("granary", "seedbase", &["tcp:5432"]),
    ("granary", "copyhouse", &["tcp:873"]),
    ("granary", "labelpress", &["tcp4:9100"]),
    ("bench", "fieldnotes", &["tcp:22000", "udp:22000"]),
    ("bench", "local-names", &["udp:5353"]),
    ("reading-room", "mirror", &["tcp4:80"]),
    ("strangers", "mailroom", &["tcp:25"]),
];

/// Where programs usually are; the first that exists is used. In the lab a file system of its own
/// lies over it.
const PROGRAM_FOLDERS: [&str; 4] = ["/usr/sbin", "/opt", "/srv", "/tmp"];

/// The machine with the catalogue's mirror, behind the edge, and its address; and the edge's there.
const READING_ROOM: (&str, &str) = ("reading-room", "172.31.0.2");
const ROOMS: &str = "172.31.0.1";
/// The port of the edge that leads to it, and the table of rules that does so.
const PUBLISHED: (u16, &str) = (8_088, "rooms");

/// The address of the mail server.
pub const MAIL: [&str; 2] = ["203.0.113.9", "2001:db8:bad::9"];

fn address(text: &str) -> IpAddr {
    text.parse().unwrap_or_else(|_| unreachable!("{text} is an address"))
}

fn link(name: &str, segment: &str, addresses: &[(&str, u8)]) -> Interface {
    let addresses = addresses.iter().map(|&(text, prefix)| (address(text), prefix)).collect();
    Interface { name: name.into(), segment: segment.into(), addresses }
}

fn routes(list: &[(&str, u8, &str)]) -> Vec<Route> {
    list.iter()
        .map(|&(network, prefix, gateway)| Route {
            network: (address(network), prefix),
            gateway: address(gateway),
        })
        .collect()
}

/// The networks of the segments that hosts with a policy are on; the segments are named like the
/// roles that the policy gives to interfaces.
const NETWORKS: [(&str, [(&str, u8); 2]); 3] = [
    ("outside", [("192.0.2.0", 24), ("2001:db8:2::", 64)]),
    ("stacks", [("10.44.8.0", 24), ("fd44:8::", 64)]),
    ("tunnel", [("10.99.0.0", 24), ("fd99::", 64)]),
];

/// The hosts with the interfaces and addresses that their policy names, and the world around.
fn topology(plans: &[&HostPlan]) -> Result<Topology, TopologyError> {
    let machine = |name: &str, interfaces, list: &[(&str, u8, &str)], forwards| Machine {
        name: name.into(),
        interfaces,
        routes: routes(list),
        forwards,
        speaks_for: Vec::new(),
    };
    let outside = [("0.0.0.0", 0, "192.0.2.1"), ("::", 0, "2001:db8:2::1")];
    let inside = [("0.0.0.0", 0, "10.44.8.10"), ("::", 0, "fd44:8::10")];
    let networks = NETWORKS.map(|(name, list)| (name, list.map(|it| (address(it.0), it.1))));
    let segments: Vec<Segment<'_>> =
        networks.iter().map(|(name, list)| (*name, &list[..])).collect();
    let mut machines = Vec::new();
    for plan in plans {
        // The edge stands between the networks and passes on what goes through.
        let edge = plan.host == EDGE;
        let host = Machine::of_host(plan, &segments)?;
        let routes = routes(if edge { &outside } else { &inside });
        let mut host = Machine { routes, forwards: edge, ..host };
        if edge {
            // Nobody wrote of it in the policy.
            host.interfaces.push(link("rooms0", "rooms", &[(ROOMS, 24)]));
        }
        machines.push(host);
    }
    machines.extend([
        machine(
            "road",
            vec![
                link("eth0", "outside", &[("192.0.2.1", 24), ("2001:db8:2::1", 64)]),
                link("eth1", "office", &[("198.51.100.1", 27), ("2001:db8:51::1", 64)]),
                link("eth2", "herbarium", &[("198.51.100.129", 28), ("2001:db8:be::1", 64)]),
                link("eth3", "strangers", &[("203.0.113.1", 24), ("2001:db8:bad::1", 64)]),
            ],
            &[("10.44.8.0", 24, "192.0.2.10"), ("fd44:8::", 64, "2001:db8:2::10")],
            true,
        ),
        machine(
            READING_ROOM.0,
            vec![link("eth0", "rooms", &[(READING_ROOM.1, 24)])],
            &[("0.0.0.0", 0, ROOMS)],
            false,
        ),
        machine(
            "office",
            vec![link("eth0", "office", &[("198.51.100.7", 27), ("2001:db8:51::7", 64)])],
            &[("0.0.0.0", 0, "198.51.100.1"), ("::", 0, "2001:db8:51::1")],
            false,
        ),
        machine(
            "herbarium",
            vec![link("eth0", "herbarium", &[("198.51.100.130", 28), ("2001:db8:be::2", 64)])],
            &[("0.0.0.0", 0, "198.51.100.129"), ("::", 0, "2001:db8:be::1")],
            false,
        ),
        machine(
            "strangers",
            vec![link("eth0", "strangers", &[(MAIL[0], 24), ("203.0.113.66", 24), (MAIL[1], 64)])],
            &[("0.0.0.0", 0, "203.0.113.1"), ("::", 0, "2001:db8:bad::1")],
            false,
        ),
    ]);
    Ok(Topology { machines })
}

impl World {
    /// Builds the networks and starts the programs. Must be called on the main thread: the
    /// programs end when the thread that started them does.
    ///
    /// # Errors
    /// [`Failure`] if the system refuses.
    pub fn build(plans: &[&HostPlan]) -> Result<Self, Failure> {
        let topology = topology(plans).map_err(|error| Failure::System {
            message: format!("the demo's world does not fit its policy: {error}"),
            help: Vec::new(),
        })?;
        let lab = Lab::build(&topology)?;
        let mut world = Self { lab, programs: Vec::new() };
        let to = SocketAddr::new(address(READING_ROOM.1), 80);
        world.node(EDGE).run(|| lead_elsewhere(PUBLISHED.1, PUBLISHED.0, to))??;
        let folder = program_folder()?;
        for (machine, program, ports) in PROGRAMS {
            world.start(machine, &folder.join(program), ports)?;
        }
        Ok(world)
    }

    /// The machine of that name.
    ///
    /// # Panics
    /// If there is none, which only a mistake in this module can cause.
    pub fn node(&self, name: &str) -> &Node {
        self.lab.node(name).unwrap_or_else(|| unreachable!("no machine `{name}` in the world"))
    }

    /// Gives the hosts' network namespaces their names, where only the sealed process sees them.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn name(&self) -> Result<(), LinuxError> {
        let folder = Path::new("/run/netns");
        let over = if folder.exists() { c"/run/netns" } else { c"/run" };
        let system = |source: std::io::Error| LinuxError::system("name hosts in the lab", source);
        mount(c"tipstaff", over, c"tmpfs", MountFlags::NODEV | MountFlags::NOSUID, c"mode=755")
            .map_err(|source| LinuxError::system("name hosts in the lab", source))?;
        fs::create_dir_all(folder).map_err(system)?;
        for host in HOSTS {
            let file = folder.join(host);
            fs::write(&file, "").map_err(system)?;
            mount_bind(self.namespace_file(host), &file)
                .map_err(|source| LinuxError::system("name hosts in the lab", source))?;
        }
        Ok(())
    }

    /// The file that stands for a machine's network namespace.
    pub fn namespace_file(&self, name: &str) -> PathBuf {
        self.node(name).namespace().file()
    }

    fn start(&mut self, machine: &str, program: &Path, ports: &[&str]) -> Result<(), Failure> {
        let failed = |source: std::io::Error| Failure::System {
            message: format!("cannot start {} in the lab: {source}", program.display()),
            help: Vec::new(),
        };
        let mut command = Command::new(program);
        command.arg("stand-in").args(ports).stdin(Stdio::null()).stdout(Stdio::piped());
        self.node(machine).start_here(&mut command)?;
        let mut child = command.spawn().map_err(failed)?;
        let mut ready = String::new();
        if let Some(out) = child.stdout.take() {
            BufReader::new(out).read_line(&mut ready).map_err(failed)?;
        }
        self.programs.push(child);
        match ready.trim() {
            "ready" => Ok(()),
            _ => Err(failed(std::io::Error::other("it did not open its ports"))),
        }
    }
}

impl Drop for World {
    fn drop(&mut self) {
        for program in &mut self.programs {
            // It may have ended by itself.
            let _ = program.kill();
            let _ = program.wait();
        }
    }
}

/// Puts this program under the names of the example's programs, in a file system that only the
/// sealed process sees.
fn program_folder() -> Result<PathBuf, LinuxError> {
    let system = |doing: String| move |source: std::io::Error| LinuxError::system(doing, source);
    let own = fs::read_link("/proc/self/exe").map_err(system("find this program's file".into()))?;
    let usable = |folder: &&Path| folder.is_dir() && !own.starts_with(folder);
    let folder = PROGRAM_FOLDERS.map(Path::new).into_iter().find(usable).unwrap_or(Path::new("/"));
    let doing = format!("lay a file system over {} in the lab", folder.display());
    mount(c"tipstaff", folder, c"tmpfs", MountFlags::NODEV | MountFlags::NOSUID, c"mode=755")
        .map_err(|source| LinuxError::system(doing, source))?;
    for (_, program, _) in PROGRAMS {
        let file = folder.join(program);
        let doing = format!("put {} into the lab", file.display());
        fs::write(&file, "").map_err(system(doing.clone()))?;
        mount_bind("/proc/self/exe", &file).map_err(|source| LinuxError::system(doing, source))?;
    }
    Ok(folder.to_owned())
}

/// A folder for files of the story, in memory, that only the lab sees and that goes with it.
///
/// # Errors
/// [`LinuxError`] if the system refuses.
pub fn desk() -> Result<PathBuf, LinuxError> {
    let folder = Path::new("/tmp");
    mount(c"tipstaff", folder, c"tmpfs", MountFlags::NODEV | MountFlags::NOSUID, c"mode=700")
        .map_err(|source| LinuxError::system("make a folder for the story", source))?;
    Ok(folder.to_owned())
}
