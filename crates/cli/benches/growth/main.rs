//! What the program costs as policies grow: whole processes, on the policies that people have, each against reading
//! the text of the same policy; and how much memory they need. Rules go into the kernel of a sealed namespace.
//!
//! With `TIPSTAFF_PICTURE` set, the curves are drawn into the file of that name.

mod picture;

use picture::Curve;
use std::hint::black_box;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, read};
use tipstaff_linux::lab::testing::sealed_benchmark;
use toml::de::DeTable;

const SIZES: [usize; 5] = [10, 100, 1_000, 10_000, 100_000];
/// What would take longer than this at the next size is not tried there.
const PATIENCE: Duration = Duration::from_secs(30);
/// Medians are of so many runs, where they are short.
const RUNS: u32 = 5;

fn main() {
    sealed_benchmark(report);
}

/// What is measured, in the order of the table.
const WORK: [Work; 11] = [
    Work { name: "read and resolve", how: How::InProcess },
    Work { name: "ask about a packet", how: How::Run(&ASK) },
    Work { name: "show", how: How::Run(&["show"]) },
    Work { name: "review", how: How::Run(&["review"]) },
    Work { name: "compare with one rule edited", how: How::Run(&["compare", "edited.toml"]) },
    Work { name: "compare with another policy", how: How::Run(&["compare", "other.toml"]) },
    Work { name: "enforce, nothing in force", how: How::After(None, &ENFORCE) },
    Work { name: "enforce over 10 rules", how: How::After(Some("few.toml"), &ENFORCE) },
    Work { name: "enforce with one rule edited", how: How::After(Some("edited.toml"), &ENFORCE) },
    Work { name: "enforce again", how: How::After(Some("policy.toml"), &ENFORCE) },
    Work { name: "status", how: How::After(Some("policy.toml"), &["status"]) },
];

const ENFORCE: [&str; 6] = [
    "enforce",
    "--keep",
    "--even-if-locked-out",
    "--not-this-machine",
    // As much as the largest needs.
    "--boot-memory",
    "4096",
];

const ASK: [&str; 5] = ["ask", "--from", "10.1.2.3", "--traffic", "22/tcp"];

struct Work {
    name: &'static str,
    how: How,
}

#[derive(Clone, Copy)]
enum How {
    InProcess,
    /// A command.
    Run(&'static [&'static str]),
    /// A command, once a policy is in force, or none.
    After(Option<&'static str>, &'static [&'static str]),
}

/// What a run takes: how long, and the most memory at a time, in bytes.
#[derive(Clone, Copy)]
struct Cost {
    time: Duration,
    memory: Option<u64>,
}

fn report() {
    let version = median(20, || run(Path::new("."), &["--version"]).time);
    println!("a process that only says its version: {version:.2?}\n");
    let desks: Vec<Desk> = SIZES.into_iter().map(Desk::with).collect();
    let texts: Vec<Duration> = desks.iter().map(Desk::text).collect();
    let sizes: String = SIZES.iter().map(|it| format!("{it:>19}")).collect();
    println!(
        "time, and against reading the text alone; most memory for each rule, in KB\nrules{:25}{sizes}",
        ""
    );
    let mut curves = Vec::new();
    for work in WORK {
        let mut line = format!("{:<30}", work.name);
        let mut curve = Curve { name: work.name, points: Vec::new() };
        for (at, (desk, text)) in desks.iter().zip(&texts).enumerate() {
            let rules = desk.rules;
            // A knee makes tenfold rules take more than tenfold time.
            let last = curve.points.last().map_or(Duration::ZERO, |it: &(usize, Duration)| it.1);
            if last * 12 > PATIENCE || curve.points.len() < at {
                line.push_str(&format!("{:>19}", "–"));
                continue;
            }
            let cost = desk.cost(work.how);
            curve.points.push((rules, cost.time));
            let ratio = cost.time.as_secs_f64() / text.as_secs_f64();
            let memory = cost
                .memory
                .map_or(String::new(), |it| format!(" {:.1}", it as f64 / 1_024.0 / rules as f64));
            line.push_str(&format!("{:>19}", format!("{} {ratio:.1}{memory}", spoken(cost.time))));
        }
        println!("{line}");
        curves.push(curve);
    }
    if let Some(path) = std::env::var_os("TIPSTAFF_PICTURE").filter(|it| !it.is_empty()) {
        std::fs::write(path, picture::of(&curves)).expect("the picture is written");
    }
}

fn spoken(time: Duration) -> String {
    match time.as_secs_f64() {
        seconds if seconds < 0.001 => format!("{:.0}µs", seconds * 1e6),
        seconds if seconds < 1.0 => format!("{:.0}ms", seconds * 1e3),
        seconds => format!("{seconds:.1}s"),
    }
}

/// A folder with the policies of one size.
struct Desk {
    rules: usize,
    folder: TempDir,
    text: String,
}

impl Desk {
    fn with(rules: usize) -> Self {
        let text = Generator::new(1).grown_policy(rules);
        let folder = TempDir::new().expect("a folder");
        let edited = text.replacen(
            &format!("name = \"rule-{}\"\n", rules / 2),
            "name = \"edited\"\npaused = true\n",
            1,
        );
        assert_ne!(edited, text);
        let write = |name, text: &str| {
            std::fs::write(folder.path().join(name), text).expect("written");
        };
        write("policy.toml", &text);
        write("edited.toml", &edited);
        write("other.toml", &Generator::new(2).grown_policy(rules));
        write("few.toml", &Generator::new(3).grown_policy(10));
        Self { rules, folder, text }
    }

    /// How long it takes to read the text alone.
    fn text(&self) -> Duration {
        median(RUNS, || {
            let begun = Instant::now();
            black_box(DeTable::parse(black_box(&self.text)).expect("well-formed"));
            begun.elapsed()
        })
    }

    fn cost(&self, how: How) -> Cost {
        let source = || Source::new("policy.toml", &self.text);
        let once = || match how {
            How::InProcess => {
                let begun = Instant::now();
                let policy = read(black_box(&source())).expect("a policy");
                black_box(resolve(&policy, HOST_NAME, NOW).expect("the host"));
                Cost { time: begun.elapsed(), memory: None }
            }
            How::Run(args) => run(self.folder.path(), args),
            How::After(before, args) => {
                run(self.folder.path(), &["release", "--keep"]);
                if let Some(before) = before {
                    let first = [&["--policy", before][..], &ENFORCE].concat();
                    run(self.folder.path(), &first);
                }
                run(self.folder.path(), args)
            }
        };
        let first = once();
        let mut costs = vec![first];
        // What takes long drifts less.
        if first.time < Duration::from_secs(1) {
            costs.extend((1..RUNS).map(|_| once()));
        }
        costs.sort_by_key(|it| it.time);
        Cost { memory: costs.iter().filter_map(|it| it.memory).max(), ..costs[costs.len() / 2] }
    }
}

fn median(runs: u32, once: impl Fn() -> Duration) -> Duration {
    let mut times: Vec<Duration> = (0..runs).map(|_| once()).collect();
    times.sort_unstable();
    times[times.len() / 2]
}

/// Runs the program in a folder with policies.
fn run(folder: &Path, args: &[&str]) -> Cost {
    let state = folder.join("state");
    let begun = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_tipstaff"))
        .args(args)
        .args(["--host", HOST_NAME, "--state"])
        .arg(&state)
        .arg("--boot-note")
        .arg(folder.join("note"))
        .env("TIPSTAFF_POLICY", "policy.toml")
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::inherit())
        .spawn()
        .expect("the program starts");
    let (mut memory, status) = (None, format!("/proc/{}/status", child.id()));
    let ended = loop {
        // What was most is known until the process ends; what it is then is missed by a millisecond at most.
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        memory = most_memory(&text).or(memory);
        match child.try_wait().expect("a child") {
            Some(ended) => break ended,
            None => std::thread::sleep(Duration::from_micros(300)),
        }
    };
    let time = begun.elapsed();
    assert!(matches!(ended.code(), Some(0 | 1)), "{args:?}: {ended}");
    Cost { time, memory }
}

/// `VmHWM` of `/proc/PID/status` (proc(5)), in bytes.
fn most_memory(status: &str) -> Option<u64> {
    let line = status.lines().find_map(|it| it.strip_prefix("VmHWM:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok().map(|it| it * 1_024)
}
