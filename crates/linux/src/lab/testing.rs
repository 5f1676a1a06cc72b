//! For tests: a sealed process for each, and a small world to work in.

// Tests say what they expect of the system by failing.
#![allow(clippy::missing_panics_doc)]

use super::{Interface, Lab, Machine, Node, Route, Topology, namespace, seal};
pub use crate::sys::mark::{mark, set_mark, set_mark_at_length};
use crate::sys::packet::{HostSender, LinkSender};
use rustix::fs::{Mode, OFlags, open};
use rustix::mount::{MountFlags, mount};
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, connect, socket_with, sockopt};
use std::fs;
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

const INSIDE: &str = "TIPSTAFF_TEST_INSIDE";

/// Runs `body` in a sealed process. `name` is the test's own path, as Cargo prints it: the test
/// binary is started anew with just this test.
pub fn sealed(name: &str, body: impl FnOnce()) {
    if std::env::var_os(INSIDE).is_some() {
        body();
        return;
    }
    let program = std::env::current_exe().expect("the test binary has a path");
    let mut command = Command::new(program);
    command.args([name, "--exact", "--nocapture", "--test-threads=1"]).env(INSIDE, "1");
    seal(&mut command);
    run(name, command);
}

/// Like [`sealed`], in a control group of its own and with a bpf file system of its own, so that
/// programs of the kernel can be hooked there that concern nobody else. Only root can; for others
/// `otherwise` runs, sealed as usual.
pub fn sealed_with_hooks(name: &str, body: impl FnOnce(), otherwise: impl FnOnce()) {
    if std::env::var_os(INSIDE).is_some() {
        if std::env::var_os(GROUP).is_some() {
            mount_own("cgroup2", "/sys/fs/cgroup");
            mount_own("bpf", "/sys/fs/bpf");
            body();
        } else {
            otherwise();
        }
        return;
    }
    if !rustix::process::geteuid().is_root() {
        println!("NOT RUN as root: {name}; instead, what others meet");
        return sealed(name, otherwise);
    }
    let Some(group) = Group::create() else {
        // Nothing may be hooked where it would concern others.
        println!("NOT RUN: {name}: no control group of version 2 can be made here");
        assert!(std::env::var_os("CI").is_none(), "that would be a check that did not happen");
        return;
    };
    let program = std::env::current_exe().expect("the test binary has a path");
    let mut command = Command::new(program);
    command.args([name, "--exact", "--nocapture", "--test-threads=1"]);
    command.env(INSIDE, "1").env(GROUP, "1");
    let processes = group.0.join("cgroup.procs");
    let processes = open(&processes, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty());
    namespace::seal_into(&mut command, Some(processes.expect("the group's processes")));
    run(name, command);
}

const GROUP: &str = "TIPSTAFF_TEST_GROUP";

fn mount_own(kind: &str, at: &str) {
    namespace::seal_mounts().expect("what is mounted here stays here");
    // A file system is not mounted upon itself, which is what would happen where version 2 of control
    // groups has its usual place.
    mount("tmpfs", at, "tmpfs", MountFlags::empty(), None)
        .unwrap_or_else(|error| panic!("tmpfs at {at}: {error}"));
    mount(kind, at, kind, MountFlags::empty(), None)
        .unwrap_or_else(|error| panic!("{kind} at {at}: {error}"));
}

/// A control group that vanishes when it is dropped.
struct Group(PathBuf);

impl Group {
    /// `None` if none can be made.
    fn create() -> Option<Self> {
        let mounts = fs::read_to_string("/proc/self/mountinfo").expect("mounts");
        let groups = mounts.lines().find(|it| it.contains(" - cgroup2 "))?;
        let place = Path::new(groups.split(' ').nth(4)?);
        let name =
            format!("tipstaff-test-{}-{:?}", std::process::id(), std::thread::current().id());
        let folder = place.join(name.replace(['(', ')'], "-"));
        fs::create_dir(&folder).ok()?;
        Some(Self(folder))
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        // What was started within may take a moment to be gone; and watchers make a group of their own.
        for _ in 0..100 {
            for inner in fs::read_dir(&self.0).into_iter().flatten().flatten() {
                let _ = fs::remove_dir(inner.path());
            }
            if fs::remove_dir(&self.0).is_ok() {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        eprintln!("{} could not be removed", self.0.display());
    }
}

fn run(name: &str, mut command: Command) {
    let output = command.output().unwrap_or_else(|error| {
        panic!(
            "this system lets us make no network namespaces ({error}): run the tests as root, \
             or allow unprivileged user namespaces"
        )
    });
    let text = String::from_utf8_lossy(&output.stdout);
    print!("{text}");
    eprint!("{}", String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "the sealed part of {name} failed");
    // A wrong name would match no test and pass for that reason.
    assert!(text.contains("1 passed"), "no test ran under the name {name}");
}

/// Runs the body of a benchmark in a sealed process: the program is started anew.
pub fn sealed_benchmark(body: impl FnOnce()) {
    if std::env::var_os(INSIDE).is_some() {
        body();
        return;
    }
    let program = std::env::current_exe().expect("the benchmark has a path");
    let mut command = Command::new(program);
    command.env(INSIDE, "1");
    seal(&mut command);
    assert!(command.status().expect("namespaces are allowed here").success());
}

/// Like [`sealed_benchmark`], where programs of the kernel can be hooked; see
/// [`sealed_with_hooks`].
pub fn sealed_benchmark_with_hooks(body: impl FnOnce()) {
    if std::env::var_os(INSIDE).is_some() {
        mount_own("cgroup2", "/sys/fs/cgroup");
        mount_own("bpf", "/sys/fs/bpf");
        body();
        return;
    }
    let group = Group::create().expect("only root can measure this");
    let program = std::env::current_exe().expect("the benchmark has a path");
    let mut command = Command::new(program);
    command.env(INSIDE, "1");
    let processes = group.0.join("cgroup.procs");
    let processes = open(&processes, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty());
    namespace::seal_into(&mut command, Some(processes.expect("the group's processes")));
    assert!(command.status().expect("namespaces are allowed here").success());
}

/// Reads an address that a test writes.
pub fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

/// Connects over TCP from an address that a machine speaks for, within a few seconds.
///
/// # Errors
/// The system's, or that nobody answers in time.
pub fn connect_from(client: SocketAddr, server: SocketAddr) -> std::io::Result<TcpStream> {
    let family = if server.is_ipv6() { AddressFamily::INET6 } else { AddressFamily::INET };
    let socket = socket_with(family, SocketType::STREAM, SocketFlags::CLOEXEC, None)?;
    if server.is_ipv6() {
        sockopt::set_ipv6_freebind(&socket, true)?;
    } else {
        sockopt::set_ip_freebind(&socket, true)?;
    }
    bind(&socket, &client)?;
    let patience = Some(Duration::from_secs(3));
    sockopt::set_socket_timeout(&socket, sockopt::Timeout::Send, patience)?;
    connect(&socket, &server)?;
    Ok(TcpStream::from(socket))
}

fn link(name: &str, segment: &str, addresses: &[(&str, u8)]) -> Interface {
    let addresses = addresses.iter().map(|&(text, prefix)| (address(text), prefix)).collect();
    Interface { name: name.into(), segment: segment.into(), addresses }
}

fn by_default(gateways: [&str; 2]) -> Vec<Route> {
    let everything = ["0.0.0.0", "::"].map(|it| (address(it), 0));
    let routes = everything.into_iter().zip(gateways);
    routes.map(|(network, gateway)| Route { network, gateway: address(gateway) }).collect()
}

/// `street`, which speaks for everybody outside, then `sluice`, then `granary` inside.
pub fn street_sluice_granary() -> Lab {
    Lab::build(&Topology { machines: street_sluice_and_granary() }).expect("the lab is built")
}

/// The same, with `bench` inside too.
pub fn street_sluice_granary_bench() -> Lab {
    let mut machines = street_sluice_and_granary();
    machines.push(Machine {
        name: "bench".into(),
        interfaces: vec![link("eth0", "stacks", &[("10.44.8.30", 24), ("fd44:8::30", 64)])],
        routes: by_default(["10.44.8.10", "fd44:8::10"]),
        ..Machine::default()
    });
    Lab::build(&Topology { machines }).expect("the lab is built")
}

fn street_sluice_and_granary() -> Vec<Machine> {
    vec![
        Machine {
            name: "sluice".into(),
            interfaces: vec![
                link("eth0", "outside", &[("192.0.2.10", 24), ("2001:db8:2::10", 64)]),
                link("eth1", "stacks", &[("10.44.8.10", 24), ("fd44:8::10", 64)]),
            ],
            routes: by_default(["192.0.2.1", "2001:db8:2::1"]),
            forwards: true,
            ..Machine::default()
        },
        Machine {
            name: "street".into(),
            interfaces: vec![link(
                "eth0",
                "outside",
                &[
                    ("192.0.2.1", 24),
                    ("2001:db8:2::1", 64),
                    ("198.51.100.7", 32),
                    ("203.0.113.9", 32),
                    ("2001:db8:51::7", 128),
                    ("2001:db8:bad::9", 128),
                ],
            )],
            routes: by_default(["192.0.2.10", "2001:db8:2::10"]),
            speaks_for: vec![
                (address("198.51.100.0"), 24),
                (address("203.0.113.0"), 24),
                (address("2001:db8:51::"), 64),
                (address("2001:db8:bad::"), 64),
            ],
            ..Machine::default()
        },
        Machine {
            name: "granary".into(),
            interfaces: vec![link("eth0", "stacks", &[("10.44.8.20", 24), ("fd44:8::20", 64)])],
            routes: by_default(["10.44.8.10", "fd44:8::10"]),
            ..Machine::default()
        },
    ]
}

/// Sends a host's own packets as fast as it can, and observes nothing. They meet the host's rules
/// within the call that sends them, so that none waits or is lost in a queue.
pub struct Flood(HostSender);

impl Flood {
    /// Packets that come from the host.
    #[must_use]
    pub fn open(host: &Node) -> Self {
        let sender = host.run(HostSender::open);
        Self(sender.expect("the host is entered").expect("raw sockets"))
    }

    /// Sends packets, from the IP header on.
    pub fn send(&self, packets: &[(IpAddr, Vec<u8>)]) {
        for (destination, packet) in packets {
            self.0.send(packet, *destination).expect("sent");
        }
    }
}

impl Flood {
    /// Sends those packets that the host finds a way for; gives how many.
    pub fn send_what_can_be(&self, packets: &[(IpAddr, Vec<u8>)]) -> usize {
        packets
            .iter()
            .filter(|(destination, packet)| self.0.send(packet, *destination).is_ok())
            .count()
    }
}

/// Sends a host what a neighbour's link carries to it, whoever it says that it is from.
pub struct Rain(LinkSender);

impl Rain {
    /// From a link of `neighbour` to the host's link.
    #[must_use]
    pub fn open((host, host_link): (&Node, &str), (neighbour, link): (&Node, &str)) -> Self {
        let address = host.hardware_address(host_link).expect("the host has the link");
        let sender = neighbour.run(|| LinkSender::open(link, address));
        Self(sender.expect("the neighbour is entered").expect("packet sockets"))
    }

    /// Sends a packet, from the IP header on.
    pub fn send(&self, packet: &[u8]) {
        self.0.send(packet).expect("sent");
    }
}
