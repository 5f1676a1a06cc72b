//! Small mistakes made on purpose, to see whether the tests notice.
//!
//! `mutations SEED COUNT RESULTS CRATE[,CRATE...] PATH...` picks COUNT places in the sources under the PATHs,
//! changes one at a time in a copy of the tree, runs the tests of the CRATEs there, and writes what came of
//! each into RESULTS as it comes. What RESULTS has already is not done again. `CRATE=WORDS` passes words on
//! to the tests of a crate.

mod places;
mod trial;

use places::{Place, places};
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use trial::{Copy, Outcome};

/// A small generator (Steele, Lea and Flood, "Fast Splittable Pseudorandom Number Generators", 2014).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut it = self.0;
        it = (it ^ (it >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        it = (it ^ (it >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        it ^ (it >> 31)
    }

    fn below(&mut self, bound: usize) -> usize {
        let bound = u64::try_from(bound).unwrap_or(u64::MAX);
        usize::try_from(self.next() % bound).unwrap_or(0)
    }
}

fn sources(path: &Path, found: &mut Vec<PathBuf>) {
    if path.is_dir() {
        let mut inside: Vec<PathBuf> =
            fs::read_dir(path).into_iter().flatten().flatten().map(|it| it.path()).collect();
        inside.sort();
        for it in inside {
            sources(&it, found);
        }
    } else if path.extension().is_some_and(|it| it == "rs") {
        found.push(path.to_owned());
    }
}

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [seed, count, results, crates, paths @ ..] = &words[..] else {
        eprintln!("mutations SEED COUNT RESULTS CRATE[,CRATE...] PATH...");
        return ExitCode::from(2);
    };
    let (Ok(seed), Ok(count)) = (seed.parse(), count.parse::<usize>()) else {
        eprintln!("SEED and COUNT are numbers");
        return ExitCode::from(2);
    };
    let mut files = Vec::new();
    for path in paths {
        sources(Path::new(path), &mut files);
    }
    let mut all: Vec<(PathBuf, Place)> = Vec::new();
    for file in files {
        let text = fs::read_to_string(&file).unwrap_or_default();
        all.extend(places(&text).into_iter().map(|it| (file.clone(), it)));
    }
    let mut random = Random(seed);
    let done = fs::read_to_string(results).unwrap_or_default();
    let file = OpenOptions::new().create(true).append(true).open(results);
    let (Ok(mut out), Ok(copy)) = (file, Copy::make()) else {
        eprintln!("cannot write {results}, or make a copy of the tree");
        return ExitCode::from(3);
    };
    let (mut tried, mut survived) = (0, 0);
    while tried < count && !all.is_empty() {
        let (file, place) = all.swap_remove(random.below(all.len()));
        let what = format!("{}:{}: {}", file.display(), place.line, place.words());
        let known = done.lines().find(|it| it.ends_with(&what));
        let outcome =
            known.and_then(Outcome::of).unwrap_or_else(|| copy.with(&file, &place, crates));
        // What is no program says nothing about the tests.
        tried += usize::from(outcome != Outcome::DoesNotCompile);
        survived += usize::from(outcome == Outcome::Survived);
        if known.is_none() && writeln!(out, "{}: {what}", outcome.word()).is_err() {
            return ExitCode::from(3);
        }
    }
    println!("{} of {tried} caught", tried - survived);
    ExitCode::from(u8::from(survived > 0))
}
