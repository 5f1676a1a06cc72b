//! Twelve hosts with real agents, a store of three members, and everything that can go wrong, from a seed.

use super::mishap::{clock_off, cut, empty, fill};
use super::stores::{Store, at, compact};
use super::world::World;
use crate::servers::needed;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::net::TcpStream;
use std::process::{Child, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::changing::switch;
use tipstaff_linux::lab::testing::{address, sealed};
use tipstaff_linux::lab::{Interface, Lab, Machine, Topology};

const STORES: [(&str, &str); 3] =
    [("store-1", "10.44.8.51"), ("store-2", "10.44.8.52"), ("store-3", "10.44.8.53")];
const HOSTS: usize = 12;

fn host(number: usize) -> String {
    format!("shelf-{number:04}")
}

fn lab() -> Lab {
    let machine = |name: &str, at: &str| Machine {
        name: name.to_owned(),
        interfaces: vec![Interface {
            name: "eth0".into(),
            segment: "stacks".into(),
            addresses: vec![(address(at), 24)],
        }],
        ..Machine::default()
    };
    let mut machines: Vec<Machine> = STORES.iter().map(|it| machine(it.0, it.1)).collect();
    machines.push(machine("office", "10.44.8.60"));
    let shelves = (1..=HOSTS).map(|it| machine(&host(it), &format!("10.44.8.{}", 100 + it)));
    machines.extend(shelves);
    Lab::build(&Topology { machines }).expect("a lab")
}

/// The policy of a turn: good ones differ by a port; a bad one shuts every shelf off from the store.
fn policy(turn: u64, bad: bool) -> String {
    let mut text = format!(
        "edition = 1\n# turn {turn}\n[label.shelf]\n[[label.shelf.rule]]\nname = \"turn\"\nallow = [\"{}/tcp\"]\n",
        9_000 + turn
    );
    if bad {
        text.push_str("[[label.shelf.rule]]\nname = \"off\"\ndeny = [\"2379/tcp\"]\ndirection = \"outbound\"\n");
    }
    for number in 1..=HOSTS {
        let name = host(number);
        text.push_str(&format!(
            "[host.{name}]\nlabels = [\"shelf\"]\naddresses = [\"10.44.8.{}\"]\n",
            100 + number
        ));
    }
    text
}

/// Numbers from a seed (SplitMix64, public domain, by Sebastiano Vigna).
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut it = self.0;
        it = (it ^ (it >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        it = (it ^ (it >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((it ^ (it >> 31)) % most as u64).expect("it fits")
    }
}

/// What is watched while everything goes wrong.
struct Watched {
    /// All that was ever sealed, by its text.
    sealed: BTreeSet<String>,
    /// The highest number that each host was seen to have.
    had: BTreeMap<String, u64>,
    turn: u64,
    rolling: Option<Child>,
    down: Vec<Down>,
}

/// What is not as it should be, and until when.
enum Down {
    Agent(String, Instant),
    Store(usize, Instant),
    Link(String, Instant),
    Clock(String, Instant),
    Disk(usize, Instant),
    Halves([Vec<(String, String)>; 2], Instant),
}

impl Watched {
    /// No host goes back in number.
    fn look(&mut self, world: &World) {
        for number in 1..=HOSTS {
            let host = host(number);
            let kept = world.office.desk.kept_by(&host).join("fleet-member.json");
            let Ok(bytes) = fs::read(kept) else { continue };
            let member: serde_json::Value = serde_json::from_slice(&bytes).expect("it is whole");
            let has = member["has"]["number"].as_u64().unwrap_or_default();
            let had = self.had.entry(host.clone()).or_default();
            assert!(has >= *had, "{host} went back from {had} to {has}");
            *had = has;
        }
    }

    /// Seals a policy; whether it was, for all of the store may be down.
    fn seal(&mut self, world: &World, bad: bool) -> bool {
        self.turn += 1;
        let text = policy(self.turn, bad);
        world.office.desk.write(&text);
        // Before it is sure: it may be sealed, and nobody hear of it.
        self.sealed.insert(text);
        at(world, "office", &["seal", "--key", "key"]).code == 0
    }

    /// Begins to roll out, in place of whoever did before.
    fn roll_out(&mut self, world: &World) {
        self.stop_rolling();
        let words = ["roll-out", "--steps", "1,50%,100%", "--patience", "40s"];
        let mut command = world.office.command(&words);
        world.node("office").start_here(&mut command).expect("it can start there");
        command.stdout(Stdio::null()).stderr(Stdio::null());
        self.rolling = Some(command.spawn().expect("it starts"));
    }

    fn stop_rolling(&mut self) {
        if let Some(mut rolling) = self.rolling.take() {
            let _ = rolling.kill();
            let _ = rolling.wait();
        }
    }

    /// Something goes wrong.
    fn fault(&mut self, world: &mut World, store: &mut Store, chance: &mut Chance) {
        let until = Instant::now() + Duration::from_millis(200 + 100 * chance.below(60) as u64);
        match chance.below(12) {
            0 | 1 => {
                let host = host(1 + chance.below(HOSTS));
                world.end(&host);
                self.down.push(Down::Agent(host, until));
            }
            2 => {
                let at = chance.below(STORES.len());
                store.end(at);
                self.down.push(Down::Store(at, until));
            }
            3 => {
                let all = STORES.len() + HOSTS;
                let at = chance.below(all);
                let name =
                    STORES.get(at).map_or_else(|| host(1 + at - STORES.len()), |it| it.0.into());
                world.node(&name).run(|| switch("eth0", false)).expect("entered");
                self.down.push(Down::Link(name, until));
            }
            4 => self.roll_out(world),
            5 | 6 => _ = self.seal(world, false),
            7 => {
                if let Some(at) = store.leader(world, "office") {
                    store.end(at);
                    self.down.push(Down::Store(at, until));
                }
            }
            8 => {
                let name = host(1 + chance.below(HOSTS));
                let off = [3_600, -3_600][chance.below(2)];
                world.end(&name);
                let clock = world.office.path(&format!("off{off}.so"));
                world.clocks.insert(name.clone(), clock);
                world.attend(&name);
                self.down.push(Down::Clock(name, until));
            }
            9 => {
                let at = chance.below(STORES.len());
                fill(&Store::folder(world, at));
                self.down.push(Down::Disk(at, until));
            }
            10 if !self.down.iter().any(|it| matches!(it, Down::Halves(..))) => {
                let all = STORES.iter().map(|it| (it.0.to_owned(), it.1.to_owned()));
                let shelves = (1..=HOSTS).map(|it| (host(it), format!("10.44.8.{}", 100 + it)));
                let halves: (Vec<_>, Vec<_>) =
                    all.chain(shelves).partition(|_| chance.below(2) == 0);
                let halves = [halves.0, halves.1];
                cut(world, [&halves[0], &halves[1]], true);
                self.down.push(Down::Halves(halves, until));
            }
            10 => compact(world, "office"),
            _ => {
                self.seal(world, true);
                self.roll_out(world);
            }
        }
    }

    /// What is due is set right; all of it, if it is `over`.
    fn mend(&mut self, world: &mut World, store: &mut Store, over: bool) {
        let now = Instant::now();
        for down in std::mem::take(&mut self.down) {
            let (Down::Agent(_, until)
            | Down::Store(_, until)
            | Down::Link(_, until)
            | Down::Clock(_, until)
            | Down::Disk(_, until)
            | Down::Halves(_, until)) = &down;
            if *until > now && !over {
                self.down.push(down);
                continue;
            }
            match down {
                Down::Agent(host, _) => world.attend(&host),
                Down::Store(at, _) => {
                    store.end(at);
                    store.start(world, at);
                }
                Down::Link(name, _) => {
                    world.node(&name).run(|| switch("eth0", true)).expect("entered");
                }
                Down::Clock(name, _) => {
                    world.end(&name);
                    world.clocks.remove(&name);
                    world.attend(&name);
                }
                Down::Disk(at, _) => {
                    empty(&Store::folder(world, at));
                    store.end(at);
                    store.start(world, at);
                }
                Down::Halves(halves, _) => cut(world, [&halves[0], &halves[1]], false),
            }
        }
    }
}

/// One schedule of faults; afterwards all hosts come to the newest.
fn schedule(seed: u64) {
    let Some(program) = needed("etcd") else { return };
    let hosts: Vec<String> = (1..=HOSTS).map(host).collect();
    let first = policy(0, false);
    let mut world = World::of(&first, lab(), &hosts);
    let mut store = Store::on(&mut world, program, &STORES);
    store.answers(&world, "office");
    for off in [3_600, -3_600] {
        clock_off(world.office.desk.path(), off);
    }
    let mut chance = Chance(seed);
    let mut watched = Watched {
        sealed: BTreeSet::new(),
        had: BTreeMap::new(),
        turn: 0,
        rolling: None,
        down: Vec::new(),
    };
    hosts.iter().for_each(|it| world.attend(it));
    watched.seal(&world, false);
    watched.roll_out(&world);
    for _ in 0..30 {
        watched.fault(&mut world, &mut store, &mut chance);
        let until = Instant::now() + Duration::from_millis(100 * chance.below(12) as u64);
        while Instant::now() < until {
            watched.look(&world);
            watched.mend(&mut world, &mut store, false);
            sleep(Duration::from_millis(50));
        }
    }
    watched.stop_rolling();
    watched.mend(&mut world, &mut store, true);
    store.answers(&world, "office");
    let began = Instant::now();
    // Whatever was in force in between: nobody is shut off for longer than the way back is.
    for host in &hosts {
        while !reaches_the_store(&world, host) {
            assert!(began.elapsed() < Duration::from_secs(75), "seed {seed}: {host} is shut off");
            watched.look(&world);
            sleep(Duration::from_millis(200));
        }
    }
    while !watched.seal(&world, false) {
        assert!(began.elapsed() < Duration::from_secs(120), "seed {seed}: nothing can be sealed");
    }
    // Whoever is still going back has a minute for it, and is told to take this one by the next order.
    loop {
        let done = at(&world, "office", &["roll-out", "--steps", "100%", "--format", "json"]);
        watched.look(&world);
        if done.code == 0 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(300), "seed {seed}: {done:?}");
    }
    for host in &hosts {
        world.in_force(host);
        never_unsealed(&world, host, &watched.sealed, seed);
    }
}

fn reaches_the_store(world: &World, host: &str) -> bool {
    let patience = Duration::from_millis(400);
    let connects = |at: &str| {
        let at = format!("{at}:2379").parse().expect("an address");
        TcpStream::connect_timeout(&at, patience).is_ok()
    };
    let tried = world.node(host).run(|| STORES.iter().any(|it| connects(it.1)));
    tried.expect("entered")
}

/// All policies that a host ever put in force were sealed.
fn never_unsealed(world: &World, host: &str, sealed: &BTreeSet<String>, seed: u64) {
    let folder = world.office.desk.kept_by(host).join("policies");
    let mut seen = 0;
    for file in fs::read_dir(folder).expect("what was in force") {
        let path = file.expect("a file").path();
        if path.extension().is_some_and(|it| it == "json") {
            let kept: serde_json::Value =
                serde_json::from_slice(&fs::read(&path).expect("it")).expect("JSON");
            let text = kept["files"][0][1].as_str().expect("a text");
            assert!(sealed.contains(text), "seed {seed}: {host} had what was never sealed: {text}");
            seen += 1;
        }
    }
    assert!(seen > 0, "seed {seed}: {host} had nothing");
}

/// So many schedules: `TIPSTAFF_SCHEDULES=FIRST..LAST` names others.
#[test]
fn whatever_fails_all_come_to_the_newest() {
    sealed("fleet::faults::whatever_fails_all_come_to_the_newest", || {
        let asked = std::env::var("TIPSTAFF_SCHEDULES").unwrap_or_else(|_| "1..2".into());
        let (first, last) = asked.split_once("..").expect("FIRST..LAST");
        for seed in first.parse().expect("a number")..last.parse().expect("a number") {
            let began = Instant::now();
            schedule(seed);
            println!("seed {seed}: {} s", began.elapsed().as_secs());
        }
    });
}
