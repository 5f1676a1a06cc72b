//! Changes the inputs of the corpus at random and hands them to the targets:
//! `cargo run --release -p tipstaff-fuzz -- [TARGET] [SECONDS]`, all targets for ten seconds each
//! if nothing is said. An input that makes a target panic, or takes it longer than two seconds, is
//! kept in the corpus, and the run fails.

use std::panic::catch_unwind;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::{Duration, Instant};
use std::{env, fs};
use tipstaff_core::generate::Generator;
use tipstaff_fuzz::{TARGETS, Target};

const CORPUS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/corpus");
const USUAL_SECONDS: u64 = 10;
const TOO_LONG: Duration = Duration::from_secs(2);
const LONGEST: usize = 1 << 16;
/// Pieces that random changes hardly ever make.
const PIECES: [&str; 14] = [
    "[[host.sluice.rule]]\n",
    "[host.sluice]\n",
    "edition = 1\n",
    "allow = [\"any\"]\n",
    "from = [\"on-link\"]\n",
    "rate = \"1/day per source\"\n",
    "until = 2500-01-01T00:00:00Z\n",
    "\"\"\"",
    "!",
    "::/0",
    "0.0.0.0/0",
    "\u{1b}[2J",
    "\0",
    "65535-1/tcp+udp",
];

fn main() -> ExitCode {
    let mut arguments = env::args().skip(1);
    let name = arguments.next();
    let seconds = arguments.next().and_then(|it| it.parse().ok()).unwrap_or(USUAL_SECONDS);
    let wanted = |target: &&Target| name.as_deref().is_none_or(|name| name == target.name);
    let mut failed = false;
    let mut found = false;
    for target in TARGETS.iter().filter(wanted) {
        found = true;
        failed |= !fuzz(target, Duration::from_secs(seconds));
    }
    if !found {
        let names: Vec<&str> = TARGETS.iter().map(|it| it.name).collect();
        eprintln!("there is no such target; they are: {}", names.join(", "));
    }
    if failed || !found { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}

/// Runs one target for a time; `false` if it fails.
fn fuzz(target: &Target, time: Duration) -> bool {
    let folder = Path::new(CORPUS).join(target.name);
    let corpus: Vec<Vec<u8>> = files(&folder).iter().filter_map(|it| fs::read(it).ok()).collect();
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let seed = since.map_or(0, |it| it.subsec_nanos());
    let mut random = Generator::new(seed.into());
    let begun = Instant::now();
    let mut runs = 0u64;
    while begun.elapsed() < time {
        let mut input = match corpus.get(random.below(corpus.len().max(1))) {
            Some(input) => input.clone(),
            None => Vec::new(),
        };
        for _ in 0..=random.below(6) {
            change(&mut input, &corpus, &mut random);
        }
        input.truncate(LONGEST);
        let started = Instant::now();
        let survived = catch_unwind(|| (target.run)(&input)).is_ok();
        if !survived || started.elapsed() > TOO_LONG {
            let file = folder.join(format!("found-{seed}-{runs}"));
            let kept = fs::create_dir_all(&folder).and_then(|()| fs::write(&file, &input));
            let why = if survived { "took too long" } else { "panicked" };
            eprintln!("{}: {why}; kept as {}: {kept:?}", target.name, file.display());
            return false;
        }
        runs += 1;
    }
    println!("{}: {runs} inputs from {} in the corpus, no mistake", target.name, corpus.len());
    true
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
    files.sort();
    files
}

fn change(input: &mut Vec<u8>, corpus: &[Vec<u8>], random: &mut Generator) {
    let byte = |random: &mut Generator| u8::try_from(random.below(256)).unwrap_or(0);
    let at = random.below(input.len() + 1);
    let end = (at + random.below(64)).min(input.len());
    match random.below(8) {
        0 => input.insert(at, byte(random)),
        1 if at < input.len() => input[at] = byte(random),
        2 if at < input.len() => input[at] ^= 1 << random.below(8),
        3 => drop(input.drain(at..end)),
        4 => {
            let piece = input[at..end].to_vec();
            let to = random.below(input.len() + 1);
            input.splice(to..to, piece);
        }
        5 => {
            let piece = PIECES[random.below(PIECES.len())];
            input.splice(at..end.min(at + random.below(8)).max(at), piece.bytes());
        }
        6 => {
            if let Some(other) = corpus.get(random.below(corpus.len().max(1))) {
                let from = random.below(other.len() + 1);
                let to = (from + random.below(256)).min(other.len());
                input.splice(at..at, other[from..to].iter().copied());
            }
        }
        // A number becomes another number.
        _ => {
            if let Some(digit) = input[at..].iter().position(u8::is_ascii_digit) {
                input[at + digit] = b'0' + byte(random) % 10;
            }
        }
    }
}
