//! One mistake, and whether the tests notice.

use crate::places::Place;
use rustix::process::{Pid, Signal, kill_process_group};
use std::fs;
use std::io::{self, BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::Duration;

/// Tests that take longer than this go round in circles.
const PATIENCE: Duration = Duration::from_secs(600);

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

    fn cargo(&self, words: &[&str]) -> Command {
        let mut command = Command::new("cargo");
        command
            .args(words)
            .current_dir(&self.folder)
            .env("CARGO_TARGET_DIR", self.folder.with_file_name("target"))
            .env("RUST_BACKTRACE", "0")
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        command
    }

    /// Whether all tests of a crate passed. The first that fails ends it: what the others would have
    /// said changes nothing.
    fn passes(&self, name: &str, words: &str) -> io::Result<bool> {
        let mut command = self.cargo(&["test", "-p", name, "--"]);
        command.args(words.split_whitespace()).stdout(Stdio::piped()).process_group(0);
        let mut process = command.spawn()?;
        let (tell, heard) = mpsc::channel();
        let out = process.stdout.take();
        let reader = std::thread::spawn(move || {
            let lines =
                out.into_iter().flat_map(|out| BufReader::new(out).lines().map_while(Result::ok));
            for line in lines {
                if line.starts_with("test ") && line.ends_with("FAILED") && tell.send(()).is_err() {
                    break;
                }
            }
        });
        // The reader ends when the tests do.
        let failed = heard.recv_timeout(PATIENCE) != Err(RecvTimeoutError::Disconnected);
        if failed && let Some(group) = i32::try_from(process.id()).ok().and_then(Pid::from_raw) {
            kill_process_group(group, Signal::KILL)?;
        }
        let status = process.wait()?;
        let _ = reader.join();
        Ok(!failed && status.success())
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
            let build = self.cargo(&["test", "-q", "--no-run", "-p", name]).status();
            if !build.is_ok_and(|it| it.success()) {
                return Outcome::DoesNotCompile;
            }
            if !self.passes(name, words).unwrap_or(false) {
                return Outcome::Caught;
            }
        }
        Outcome::Survived
    }
}
