//! The world of these tests: a lab, programs on a shelf, and rules for them.

use crate::actor::Actor;
use crate::world::{netfilter, plan};
use std::collections::BTreeSet;
use std::fs;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use tipstaff_core::program::lower;
use tipstaff_linux::flows;
use tipstaff_linux::lab::testing::{address, sealed_with_hooks, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::programs::{Demand, lacking, prepare};
use tipstaff_linux::ruleset::{DEFAULT_MASK, Marks, Snapshot, enforce_marked, read};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol};

/// A folder with programs in it: copies of this one, each a file of its own.
pub struct Shelf(PathBuf);

impl Shelf {
    pub fn new() -> Self {
        let name = format!("tipstaff-programs-{}", std::process::id());
        let folder = std::env::temp_dir().join(name);
        fs::create_dir_all(&folder).expect("a folder");
        Self(folder)
    }

    pub fn program(&self, name: &str) -> PathBuf {
        let path = self.0.join(name);
        fs::copy(std::env::current_exe().expect("this program"), &path).expect("copied");
        path
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.join(name)
    }
}

impl Drop for Shelf {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}

pub const HOST: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10/24\", \
                    \"2001:db8:2::10/64\"]\n[host.sluice.default]\noutbound = \"deny\"\n";

/// A policy with one rule for a program, each way.
pub fn policy(program: &Path) -> String {
    let program = program.display();
    format!(
        "{HOST}[[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp+udp\"]\n\
         program = \"{program}\"\n[[host.sluice.rule]]\nname = \"orders\"\n\
         direction = \"outbound\"\nallow = [\"5432/tcp+udp\"]\nprogram = \"{program}\"\n"
    )
}

/// Enforces a policy on the calling thread's machine, as the product does.
pub fn enforce(text: &str) -> Snapshot {
    enforce_to(&mut netfilter(), text).expect("enforced")
}

pub fn enforce_to(kernel: &mut NetlinkSocket, text: &str) -> Result<Snapshot, LinuxError> {
    let plan = plan(text);
    let rules = lower(&plan);
    let before = read(kernel)?.map(|it| it.marks).unwrap_or_default();
    let prepared = prepare(&Demand::of(&plan, &rules), &before)?;
    let snapshot = enforce_marked(kernel, "sluice", &rules, prepared.marks());
    match snapshot {
        Ok(snapshot) => prepared.settle().map(|()| snapshot),
        Err(error) => {
            prepared.undo();
            Err(error)
        }
    }
}

/// The lab, with somebody on the street who answers everybody.
pub struct World {
    pub lab: Lab,
    _others: Vec<Actor>,
    pub shelf: Shelf,
}

impl World {
    pub fn new() -> Self {
        let (lab, shelf) = (street_sluice_granary(), Shelf::new());
        let street = lab.node("street").expect("it");
        let neighbour = shelf.program("neighbour");
        let others = [("tcp", "0.0.0.0"), ("tcp", "[::]"), ("udp", "0.0.0.0"), ("udp", "[::]")];
        let others = others.map(|(protocol, any)| {
            let mut other = Actor::start(street, &neighbour);
            let family = if any == "[::]" { 6 } else { 4 };
            // Another port for IPv6, which would else take IPv4 as well.
            let port = if family == 6 { 5433 } else { 5432 };
            other.tell(&format!("make {protocol} {family}"));
            other.tell(&format!("bind {any}:{port}"));
            other.tell(if protocol == "tcp" { "listen" } else { "echo" });
            other
        });
        Self { lab, _others: others.into(), shelf }
    }

    pub fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    pub fn run<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        self.sluice().run(work).expect("entered")
    }

    /// Whether the street reaches the sluice's port; if not, it meets silence.
    pub fn reaches(&self, protocol: PortProtocol, destination: &str) -> bool {
        match self.sees(protocol, destination) {
            State::Open => true,
            State::Silent => false,
            other => panic!("{other:?}"),
        }
    }

    /// What the street meets at the sluice's port.
    pub fn sees(&self, protocol: PortProtocol, destination: &str) -> State {
        let street = self.lab.node("street").expect("it");
        let check = Attempt {
            protocol,
            source: None,
            destination: SocketAddr::new(address(destination), 5432),
            patience: std::time::Duration::from_millis(250),
        };
        street.run(|| attempt(&check)).expect("entered").expect("tried").state
    }
}

pub const ADDRESSES: [(&str, &str); 2] = [("4", "192.0.2.10"), ("6", "2001:db8:2::10")];
pub const PROTOCOLS: [(&str, PortProtocol); 2] =
    [("tcp", PortProtocol::Tcp), ("udp", PortProtocol::Udp)];

pub fn any(family: &str) -> &'static str {
    if family == "6" { "[::]:5432" } else { "0.0.0.0:5432" }
}

/// What serves on a socket that it has: connections are taken by the kernel, datagrams answered.
pub fn serve(actor: &mut Actor, protocol: &str) {
    actor.tell(if protocol == "udp" { "echo" } else { "listen" });
}

fn demand() -> Demand {
    let lists = BTreeSet::from([vec!["/usr/sbin/seedbase".to_owned()]]);
    Demand { mask: DEFAULT_MASK, lists, sending: false }
}

pub fn unprivileged() {
    let refused = prepare(&demand(), &Marks::default());
    let Err(LinuxError::Lacking { what, permitted: false }) = refused else {
        panic!("{refused:?}");
    };
    assert!(what[0].contains("the right to load programs into the kernel"), "{what:?}");
}

/// Runs a test in the world, as root. On a kernel that cannot tell programs apart the refusal is what is
/// promised, and tested.
pub fn with_world(name: &str, body: impl FnOnce(&World)) {
    let as_root = || {
        let lacking = lacking();
        if lacking.is_empty() {
            return body(&World::new());
        }
        println!("REFUSED by this kernel: {name}: {lacking:?}");
        assert!(lacking.iter().any(|it| it.contains("(Linux 5.14)")), "{lacking:?}");
        let refused = prepare(&demand(), &Marks::default());
        assert!(matches!(refused, Err(LinuxError::Lacking { permitted: true, .. })), "{refused:?}");
    };
    sealed_with_hooks(&format!("programs::{name}"), as_root, unprivileged);
}

/// Each protocol over each IP version, with the host's address.
pub fn everywhere(mut body: impl FnMut(&str, PortProtocol, &str, &str)) {
    for (family, host) in ADDRESSES {
        for (protocol, kind) in PROTOCOLS {
            body(protocol, kind, family, host);
        }
    }
}

/// Somebody who serves at the port.
pub fn server(world: &World, program: &Path, protocol: &str, family: &str) -> Actor {
    let mut actor = Actor::start(world.sluice(), program);
    actor.tell(&format!("make {protocol} {family}"));
    actor.tell(&format!("bind {}", any(family)));
    serve(&mut actor, protocol);
    actor
}

/// Forgets all connections.
pub fn cut_all() {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    for flow in flows::flows(&mut kernel).expect("read") {
        flows::forget(&mut kernel, &flow).expect("forgotten");
    }
}
