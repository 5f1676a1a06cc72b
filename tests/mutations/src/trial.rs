//! One mistake, and whether the tests notice.

use crate::places::Place;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Tests that take longer than this go round in circles.
const PATIENCE: Duration = Duration::from_secs(1_200);

/// What came of a mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// A test failed, or went on for ever.
    Caught,
    /// No test failed.
    Survived,
    /// It is no program any more, and says nothing about the tests.
    DoesNotCompile,
}

impl Outcome {
    /// What a line of the results says.
    pub fn of(line: &str) -> Option<Self> {
        let all = [Self::Caught, Self::Survived, Self::DoesNotCompile];
        all.into_iter().find(|it| line.starts_with(it.word()))
    }

    /// The word for it in the results.
    pub fn word(self) -> &'static str {
        match self {
            Self::Caught => "caught",
            Self::Survived => "survived",
            Self::DoesNotCompile => "does not compile",
        }
    }
}

/// A copy of the tree, in which mistakes are made.
pub struct Copy {
    folder: PathBuf,
}

impl Copy {
    /// Makes one of what is committed, in the folder where builds are.
    pub fn make() -> io::Result<Self> {
        let folder = std::env::current_dir()?.join("target/mutations/tree");
        let _ = fs::remove_dir_all(&folder);
        let here = std::env::current_dir()?;
        let clone = Command::new("git").args(["clone", "-q"]).arg(&here).arg(&folder).status()?;
        if clone.success() {
            Ok(Self { folder })
        } else {
            Err(io::Error::other("git clone failed"))
        }
    }

    fn cargo(&self, words: &[&str]) -> io::Result<bool> {
        let mut process = Command::new("cargo")
            .args(words)
            .current_dir(&self.folder)
            .env("CARGO_TARGET_DIR", self.folder.with_file_name("target"))
            .env("RUST_BACKTRACE", "0")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let begun = Instant::now();
        loop {
            if let Some(status) = process.try_wait()? {
                return Ok(status.success());
            }
            if begun.elapsed() > PATIENCE {
                process.kill()?;
                process.wait()?;
                return Ok(false);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Makes a mistake, tries, and takes it back.
    pub fn with(&self, file: &Path, place: &Place, crates: &str) -> Outcome {
        let path = self.folder.join(file);
        let Ok(text) = fs::read_to_string(&path) else { return Outcome::DoesNotCompile };
        if fs::write(&path, place.applied(&text)).is_err() {
            return Outcome::DoesNotCompile;
        }
        let outcome = self.outcome(crates);
        // The next one begins from the tree as it was.
        let _ = fs::write(&path, text);
        outcome
    }

    fn outcome(&self, crates: &str) -> Outcome {
        for it in crates.split(',') {
            let (name, words) = it.split_once('=').unwrap_or((it, ""));
            let build = ["test", "-q", "--no-run", "-p", name];
            if !self.cargo(&build).unwrap_or(false) {
                return Outcome::DoesNotCompile;
            }
            let mut test = vec!["test", "-q", "-p", name, "--"];
            test.extend(words.split_whitespace());
            if !self.cargo(&test).unwrap_or(false) {
                return Outcome::Caught;
            }
        }
        Outcome::Survived
    }
}
