//! What is handed damaged input to find panics, loops and disagreements: the policy reader and
//! every decoder.
//!
//! A target is a plain function of bytes, so that any engine can drive it. The one beside this
//! library changes the inputs of the corpus; the corpus itself is replayed by an ordinary test.

use std::collections::VecDeque;
use std::io;
use tipstaff_core::generate::NOW;
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::edit::{Place, RuleEdit, Value, edit_rule};
use tipstaff_core::policy::{
    Policy, Rate, Source, Time, read, read_addresses, read_all, read_traffic,
};
use tipstaff_core::program::lower;
use tipstaff_linux::{Transport, ruleset};
use tipstaff_wire::nf_tables::{self, Chain, Rule, Set, Table, decode_elements};
use tipstaff_wire::{Attributes, conntrack, netlink, nflog, packet, route, sock_diag};

/// Something to hand bytes to; it panics if it finds a mistake.
pub struct Target {
    /// Its name, and that of its folder in the corpus.
    pub name: &'static str,
    /// The function.
    pub run: fn(&[u8]),
}

const fn target(name: &'static str, run: fn(&[u8])) -> Target {
    Target { name, run }
}

/// All targets.
pub const TARGETS: [Target; 11] = [
    target("policy", policy),
    target("folder", folder),
    target("terms", terms),
    target("netlink", netlink_messages),
    target("tables", tables),
    target("reports", reports),
    target("sockets", sockets),
    target("connections", connections),
    target("edits", edits),
    target("routes", routes),
    target("readback", readback),
];

/// Larger policies are read, but not worked out: that has its own benchmarks.
const WORKED_OUT: usize = 200;

/// Reads a policy; where it is one, works it out for each host, and holds the meaning of the plan
/// against that of the program.
fn policy(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    match read(&Source::new("policy.toml", &text)) {
        Ok(policy) => agree(&policy),
        Err(problems) => assert!(!problems.is_empty(), "refused for no reason"),
    }
}

fn agree(policy: &Policy) {
    for host in &policy.hosts {
        if host.rules.len() > WORKED_OUT {
            continue;
        }
        let Ok(plan) = resolve(policy, &host.name, NOW) else {
            panic!("the policy does not know its own host");
        };
        let mut atlas = Atlas::new();
        let (meant, lowered) = (atlas.plan(&plan), atlas.program(&lower(&plan)));
        assert!(meant == lowered, "the compiler changed the meaning");
    }
}

/// Reads several files, parted by lines of dashes, as one policy.
fn folder(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let files = text.split("\n---\n").enumerate();
    let sources: Vec<Source> =
        files.map(|(at, text)| Source::new(&format!("{at}.toml"), text)).collect();
    match read_all(&sources) {
        Ok(policy) => agree(&policy),
        Err(problems) => assert!(!problems.is_empty(), "refused for no reason"),
    }
}

const HOST: &str = "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\"]\n\
    [service.catalogue]\nports = [\"443/tcp\"]\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n";

/// Reads each line as a traffic term, an address, a rate and a time; what is read and shown is
/// read again as the same.
fn terms(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let Ok(policy) = read(&Source::new("policy.toml", HOST)) else {
        panic!("the policy around the terms is good");
    };
    for line in text.lines() {
        let source = Source::new("argument", line);
        if let Ok(traffic) = read_traffic(&policy, &source) {
            assert!(!traffic.to_string().is_empty());
        }
        if let Ok(addresses) = read_addresses(&policy, &source) {
            let _ = addresses.to_string();
        }
        if let Ok(rate) = Rate::parse(line) {
            assert!(Rate::parse(&rate.to_string()) == Ok(rate), "{rate} reads otherwise");
        }
        if let Some(time) = Time::parse(line) {
            assert!(Time::parse(&time.to_string()) == Some(time), "{time} reads otherwise");
        }
    }
}

fn netlink_messages(bytes: &[u8]) {
    for message in netlink::split(bytes).unwrap_or_default() {
        let _ = message.answer();
    }
    assert!(Attributes::new(bytes, "noise").count() <= bytes.len() / 4 + 1);
}

fn tables(bytes: &[u8]) {
    let _ = Table::decode(bytes);
    let _ = Chain::decode(bytes);
    let _ = Rule::decode(bytes);
    let _ = Set::decode(bytes);
    let _ = decode_elements(bytes);
    for kind in &nf_tables::KINDS {
        if let Ok(copied) = nf_tables::Copied::decode(kind, bytes, 1) {
            let mut batch = nf_tables::Batch::begin(1);
            batch.again(&copied);
            assert!(batch.finish().is_ok(), "what was read can be written");
        }
    }
}

fn connections(bytes: &[u8]) {
    if let Ok(flow) = conntrack::decode(bytes) {
        assert!(conntrack::delete(&flow, 1).is_ok(), "what was read can be asked for");
    }
    let _ = nf_tables::decode_generation(bytes);
}

/// Where the bytes are a policy, moves, pauses and removes its first rules: each result is a
/// policy again, in which only that has changed.
fn edits(bytes: &[u8]) {
    const MOST: usize = 4;
    let text = String::from_utf8_lossy(bytes);
    let sources = [Source::new("policy.toml", &text)];
    let Ok(policy) = read_all(&sources) else { return };
    for host in policy.hosts.iter().take(MOST) {
        let names = |policy: &Policy| -> Vec<String> {
            let host = policy.host(&host.name).map(|host| host.rules.iter());
            host.into_iter().flatten().map(|rule| rule.name.clone()).collect()
        };
        let before = names(&policy);
        for name in before.iter().take(MOST) {
            let paused = vec![("paused", Some(Value::Switch(true)))];
            let changes = [
                (RuleEdit::Remove, before.len() - 1),
                (RuleEdit::Move { place: Place::Last }, before.len()),
                (RuleEdit::Change { keys: paused, items: Vec::new() }, before.len()),
            ];
            for (change, count) in changes {
                let owner = ("host", host.name.as_str());
                let Ok(edited) = edit_rule(&sources, &policy, owner, name, &change) else {
                    continue;
                };
                let again = read(&Source::new("policy.toml", &edited.text));
                let Ok(again) = again else { panic!("{change:?} of {name} spoils the policy") };
                assert!(names(&again).len() == count, "{change:?} of {name} changes others");
            }
        }
    }
}

fn reports(bytes: &[u8]) {
    let _ = nflog::decode(bytes);
    let _ = packet::parse(bytes);
}

fn sockets(bytes: &[u8]) {
    let _ = sock_diag::decode(bytes);
}

fn routes(bytes: &[u8]) {
    let _ = route::decode_address(bytes);
    let _ = route::decode_link(bytes);
    let _ = route::decode_route(bytes);
}

/// Answers that were taken down, one after the other.
struct Replay {
    answers: VecDeque<Vec<u8>>,
    sequence: u32,
}

impl Transport for Replay {
    fn send(&mut self, _: &[u8]) -> io::Result<()> {
        Ok(())
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.answers.pop_front().ok_or_else(|| io::ErrorKind::WouldBlock.into())
    }

    fn next_sequence(&mut self) -> u32 {
        self.sequence += 1;
        self.sequence
    }
}

/// Reads our table from answers of the kernel, each behind its length in four bytes, and works
/// out what it means.
fn readback(bytes: &[u8]) {
    let mut answers = VecDeque::new();
    let mut rest = bytes;
    while let Some((length, behind)) = rest.split_first_chunk::<4>() {
        let length = usize::try_from(u32::from_le_bytes(*length)).unwrap_or(usize::MAX);
        let (answer, behind) = behind.split_at(length.min(behind.len()));
        answers.push_back(answer.to_vec());
        rest = behind;
    }
    if let Ok(Some(snapshot)) = ruleset::read(&mut Replay { answers, sequence: 0 }) {
        let mut atlas = Atlas::new();
        let (first, again) = (atlas.program(&snapshot.program), atlas.program(&snapshot.program));
        assert!(first == again, "one program has two meanings");
    }
}
