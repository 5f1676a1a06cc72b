//! Random schedules of everything that administrators, machines and accidents do, against real packets.
//!
//! Two things must hold after each step. Whoever the last confirmed policy denies does not get in, unless
//! a change that waits says otherwise, and then not past its deadline plus two seconds. And the
//! administrator gets a new shell by then. What a schedule leaves open (a command was killed, a file was
//! damaged) widens what may be in force to what was confirmed some time: never to what was not.
//!
//! `TIPSTAFF_TORTURE` asks for more schedules; `TIPSTAFF_TORTURE_SEED` for one of them again.

mod model;

use crate::harness::{Desk, give, named};
use rustix::mount::{MountFlags, mount, mount_remount};
use rustix::process::{Pid, Signal, kill_process_group};
use std::fs;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::probe::{Attempt, Observation, State, attempt};
use tipstaff_linux::ruleset::{TABLE, read};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol};
use tipstaff_wire::nf_tables as nf;

use model::{ALL, Dice, Model, PORTS, Policy};

const NAME: &str = "torture";
const SHELL: u16 = 2202;
const STEPS: u64 = 7;

struct World {
    desk: Desk,
    lab: Lab,
    model: Model,
    story: Vec<String>,
    ends: Arc<AtomicBool>,
    full: bool,
    read_only: bool,
}

impl Drop for World {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Relaxed);
        let _ = rustix::mount::unmount(self.desk.state(), rustix::mount::UnmountFlags::DETACH);
    }
}

fn serve(sluice: &Node, port: u16, ends: Arc<AtomicBool>) {
    let listener = sluice.run(|| TcpListener::bind(("0.0.0.0", port))).expect("run");
    let listener = listener.expect("a port");
    listener.set_nonblocking(true).expect("it does not wait");
    std::thread::spawn(move || {
        while !ends.load(Ordering::Relaxed) {
            if listener.accept().is_err() {
                std::thread::sleep(Duration::from_millis(1));
            }
        }
    });
}

impl World {
    fn new() -> Self {
        let (desk, lab) = (Desk::with(""), street_sluice_granary());
        let sluice = lab.node("sluice").expect("it");
        named(NAME, sluice);
        fs::create_dir_all(desk.state()).expect("a folder");
        let small = c"size=512k,mode=700";
        mount(c"small", desk.state(), c"tmpfs", MountFlags::empty(), small).expect("mounted");
        let ends = Arc::new(AtomicBool::new(false));
        for port in PORTS.into_iter().chain([SHELL]) {
            serve(sluice, port, Arc::clone(&ends));
        }
        let file = Policy { open: 0b001, shell: true };
        desk.write(file.text());
        let model = Model {
            file,
            confirmed: vec![ALL],
            ever: Vec::new(),
            waits: None,
            pending: None,
            flushed: true,
            shell_by: Instant::now(),
        };
        Self { desk, lab, model, story: Vec::new(), ends, full: false, read_only: false }
    }

    fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    /// Runs a command, or has it killed after so many microseconds; gives its exit code, if it had one.
    fn run(&mut self, args: &[&str], killed: Option<(u64, Signal)>) -> Option<i32> {
        let mut command = self.desk.command(["--host", "sluice"].iter().chain(args));
        self.sluice().start_here(&mut command).expect("it can start there");
        command.process_group(0).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().expect("it starts");
        if let Some((after, signal)) = killed {
            std::thread::sleep(Duration::from_micros(after));
            let _ = kill_process_group(Pid::from_child(&child), signal);
        }
        let code = child.wait().expect("it ends").code();
        self.story.push(format!("{} {killed:?}: {code:?}", args.join(" ")));
        code
    }

    fn kill(dice: &mut Dice) -> Option<(u64, Signal)> {
        match dice.below(5) {
            0 => Some((200 + dice.below(30_000), Signal::KILL)),
            1 => Some((200 + dice.below(30_000), Signal::INT)),
            _ => None,
        }
    }

    /// Whether somebody from there reaches a port.
    fn reaches(&self, from: &str, port: u16) -> bool {
        self.reaches_within(from, port, Duration::from_millis(60))
    }

    fn reaches_within(&self, from: &str, port: u16, patience: Duration) -> bool {
        self.met(from, port, patience).is_ok_and(|it| it.state == State::Open)
    }

    fn met(&self, from: &str, port: u16, patience: Duration) -> Result<Observation, LinuxError> {
        let check = Attempt {
            protocol: PortProtocol::Tcp,
            source: Some(address(from)),
            destination: SocketAddr::new(address("192.0.2.10"), port),
            patience,
        };
        let street = self.lab.node("street").expect("it");
        street.run(|| attempt(&check)).expect("run")
    }

    fn table_is_there(&self) -> bool {
        let look = || {
            let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
            read(&mut kernel).expect("read").is_some()
        };
        self.sluice().run(look).expect("run")
    }

    fn step(&mut self, dice: &mut Dice) {
        let choice = dice.below(22);
        match choice {
            0..=2 => {
                let shell = dice.below(4) != 0;
                let open = u8::try_from(dice.below(8)).expect("small");
                self.model.file = Policy { open, shell };
                self.desk.write(self.model.file.text());
                self.story.push(format!("edit {:?}", self.model.file));
            }
            3..=5 => self.enforce_and_keep(dice),
            6..=9 => self.enforce_and_wait(dice),
            10..=11 => self.confirm(dice),
            12 => {
                let ever = self.model.ever.iter().fold(0, |all, it| all | it);
                self.run(&["revert", "--confirm-within", "1"], None);
                self.model.pending = None;
                self.model.wait(ever, true, Instant::now());
            }
            13 => {
                self.run(&["release", "--confirm-within", "1"], Self::kill(dice));
                self.model.wait(ALL, true, Instant::now());
                self.model.pending = None;
            }
            14..=15 => self.boot(),
            16 => self.flush(),
            17 => self.harm_the_disk(dice),
            18..=19 => self.damage(dice),
            20 => self.end_the_watcher(),
            _ => self.another_namespace(),
        }
    }

    fn enforce_and_keep(&mut self, dice: &mut Dice) {
        let policy = self.model.file;
        if !policy.shell {
            return;
        }
        let killed = Self::kill(dice);
        let code = self.run(&["enforce", "--keep"], killed);
        if code == Some(0) {
            self.model.confirm(policy.open, true);
            self.model.flushed = false;
        } else if killed.is_some() || code == Some(3) {
            self.model.confirm(policy.open, false);
        }
    }

    fn enforce_and_wait(&mut self, dice: &mut Dice) {
        let policy = self.model.file;
        let args = ["enforce", "--confirm-within", "1", "--even-if-locked-out"];
        let code = self.run(&args, Self::kill(dice));
        self.model.wait(policy.open, policy.shell, Instant::now());
        self.model.pending = (code == Some(0)).then_some(policy);
        self.model.flushed &= code != Some(0);
    }

    fn confirm(&mut self, dice: &mut Dice) {
        // Nobody confirms what shuts the administrator out.
        let Some(policy) = self.model.pending.take_if(|it| it.shell) else { return };
        let killed = Self::kill(dice);
        let code = self.run(&["confirm"], killed);
        if code == Some(0) {
            self.model.confirm(policy.open, true);
        } else if killed.is_some() || code == Some(3) {
            self.model.confirm(policy.open, false);
        }
    }

    /// The rules are gone, and come back as they do at a boot.
    fn boot(&mut self) {
        self.flush();
        self.model.pending = None;
        let code = self.run(&["enforce", "--boot"], None);
        assert!(matches!(code, Some(0 | 1)), "{code:?}\n{}", self.story.join("\n"));
        self.model.flushed = false;
        self.model.waits = None;
        self.model.shell_by = Instant::now();
    }

    fn flush(&mut self) {
        if self.table_is_there() {
            let flush = || {
                let mut batch = nf::Batch::begin(1);
                batch.delete_table(TABLE);
                give(batch);
            };
            // A watcher may have been quicker.
            let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                self.sluice().run(flush).expect("run");
            }));
            self.story.push(format!("flushed by others: {}", done.is_ok()));
        }
        self.model.flushed = true;
    }

    fn harm_the_disk(&mut self, dice: &mut Dice) {
        let filler = self.desk.state().join("filler");
        match dice.below(2) {
            _ if self.full => {
                let _ = fs::remove_file(&filler);
                self.full = self.read_only;
                self.story.push("the disk has room".into());
            }
            _ if self.read_only => {
                mount_remount(self.desk.state(), MountFlags::empty(), "").expect("mounted");
                self.read_only = false;
                self.story.push("the disk can be written".into());
            }
            0 => {
                let _ = fs::write(&filler, vec![0; 1 << 20]);
                self.full = true;
                self.story.push("the disk is full".into());
            }
            _ => {
                if mount_remount(self.desk.state(), MountFlags::RDONLY, "").is_ok() {
                    self.read_only = true;
                    self.story.push("the disk is read-only".into());
                }
            }
        }
    }

    fn damage(&mut self, dice: &mut Dice) {
        let kept = self.desk.kept_by(NAME);
        let mut files: Vec<PathBuf> = vec![kept.join("docket.jsonl"), kept.join("pending.json")];
        // The note lies elsewhere, so that both are not lost at once.
        if dice.below(3) == 0 {
            files = vec![self.desk.note_of(NAME)];
        }
        files.extend(
            fs::read_dir(kept.join("policies")).into_iter().flatten().flatten().map(|it| it.path()),
        );
        let file = files[usize::try_from(dice.below(files.len() as u64)).expect("small")].clone();
        let Ok(mut bytes) = fs::read(&file) else { return };
        if bytes.is_empty() {
            return;
        }
        let at = usize::try_from(dice.below(bytes.len() as u64)).expect("small");
        let how = match dice.below(3) {
            0 => {
                bytes.truncate(at);
                "torn"
            }
            1 => {
                bytes[at] ^= 1 << dice.below(8);
                "flipped"
            }
            _ => {
                bytes.truncate(0);
                "emptied"
            }
        };
        if fs::write(&file, bytes).is_ok() {
            let name = file.file_name().expect("a name").to_string_lossy().into_owned();
            self.story.push(format!("{name} {how} at {at}"));
            self.model.damaged();
            // What waits may be taken for what does not.
            self.model.pending = None;
        }
    }

    fn end_the_watcher(&mut self) {
        let text = fs::read_to_string(self.desk.kept_by(NAME).join("pending.json"));
        let value: Option<serde_json::Value> =
            text.ok().and_then(|it| serde_json::from_str(&it).ok());
        let pid = value.and_then(|it| it["watcher"]["pid"].as_i64());
        let Some(pid) = pid.and_then(|it| Pid::from_raw(i32::try_from(it).ok()?)) else { return };
        let _ = rustix::process::kill_process(pid, Signal::KILL);
        self.story.push("the watcher is killed".into());
        // Any command does what it would have done.
        self.run(&["status"], None);
    }

    fn another_namespace(&mut self) {
        let granary = self.lab.node("granary").expect("it");
        let mut command =
            self.desk.command(["--host", "sluice", "enforce", "--keep", "--not-this-machine"]);
        granary.start_here(&mut command).expect("it can start there");
        let done = crate::harness::finish(command).code;
        self.story.push(format!("elsewhere: {done}"));
        let gone = tipstaff_linux::Namespace::create().expect("made");
        let mut command =
            self.desk.command(["--host", "sluice", "enforce", "--confirm-within", "1"]);
        gone.start_here(&mut command).expect("it can start there");
        crate::harness::finish(command);
        drop(gone);
    }

    fn holds(&self, seed: u64) {
        let before = Instant::now();
        let open = PORTS
            .iter()
            .enumerate()
            .fold(0u8, |all, (at, port)| all | u8::from(self.reaches("203.0.113.9", *port)) << at);
        // What held when it was looked, at the latest.
        let may = self.model.may_be_open(before);
        assert!(
            open & !may == 0,
            "seed {seed}: {open:03b} are open, {may:03b} may be\n{}",
            self.story.join("\n")
        );
        // A busy machine may take longer for an answer than a probe waits.
        let until = self.model.shell_by.max(before) + Duration::from_secs(1);
        loop {
            if self.reaches("198.51.100.7", SHELL) {
                return;
            }
            if Instant::now() > until {
                // On a machine so busy that this process hardly runs, an answer may be there and not
                // yet seen. Less than the second after which the kernel asks again: what was denied
                // once stays without an answer.
                if self.reaches_within("198.51.100.7", SHELL, Duration::from_millis(900)) {
                    return;
                }
                let since = Instant::now();
                let later = self.met("198.51.100.7", SHELL, Duration::from_secs(20));
                panic!(
                    "seed {seed}: the administrator gets no shell (later {later:?}, after {:?})\n{}",
                    since.elapsed(),
                    self.story.join("\n")
                );
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

fn schedule(seed: u64) {
    let mut dice = Dice(seed);
    let mut world = World::new();
    for _ in 0..STEPS {
        world.step(&mut dice);
        world.holds(seed);
    }
    // Nothing that waits lasts.
    if let Some((_, until)) = world.model.waits {
        std::thread::sleep(until.saturating_duration_since(Instant::now()));
        world.model.waits = None;
        world.holds(seed);
    }
}

fn schedules(part: u64, parts: u64) {
    let number = |name: &str| std::env::var(name).ok().map(|it| it.parse().expect("a number"));
    if let Some(seed) = number("TIPSTAFF_TORTURE_SEED") {
        return schedule(seed);
    }
    let all: u64 = number("TIPSTAFF_TORTURE").unwrap_or(200);
    let first = number("TIPSTAFF_TORTURE_FIRST").unwrap_or(1);
    println!("seeds {first} to {}, one in {parts} of them from {part} on", first + all - 1);
    for seed in (first..first + all).filter(|it| it % parts == part) {
        schedule(seed);
    }
}

/// Schedules wait most of their time, so several go on beside each other.
macro_rules! parts {
    ($($name:ident: $part:literal),*) => {
        const PARTS: u64 = [$($part),*].len() as u64;
        $(
            #[test]
            fn $name() {
                sealed(concat!("torture::", stringify!($name)), || schedules($part, PARTS));
            }
        )*
    };
}

parts!(
    promises_hold_in_the_first_sixth: 0,
    promises_hold_in_the_second_sixth: 1,
    promises_hold_in_the_third_sixth: 2,
    promises_hold_in_the_fourth_sixth: 3,
    promises_hold_in_the_fifth_sixth: 4,
    promises_hold_in_the_last_sixth: 5
);
