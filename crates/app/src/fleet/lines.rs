//! A process that is asked, a line for a question and a line for its answer.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// A sealed bundle has at most 320 MiB, in base64; a list has many of the hosts' words.
pub(super) const LONGEST: u64 = 512 * 1024 * 1024;
/// So many characters of what is no answer are told.
const SHOWN: usize = 120;
/// So much of what it complains of is told.
const COMPLAINT: u64 = 400;

/// How often somebody who waits for long looks whether that is over.
const OFTEN: Duration = Duration::from_secs(1);

/// A process that is asked.
#[derive(Debug)]
pub(super) struct Lines {
    child: Child,
    /// `None` once nothing more is asked.
    to: Option<ChildStdin>,
    from: BufReader<ChildStdout>,
    /// Whether nobody waits for its answer any more.
    left: bool,
}

impl Lines {
    /// Starts it.
    pub(super) fn begin(mut command: Command) -> Result<Self, String> {
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let name = command.get_program().to_string_lossy().into_owned();
        let child = command.spawn();
        let mut child = child.map_err(|error| format!("{name} cannot be run: {error}"))?;
        match (child.stdin.take(), child.stdout.take()) {
            (Some(to), Some(from)) => {
                Ok(Self { child, to: Some(to), from: BufReader::new(from), left: false })
            }
            _ => Err(format!("{name} cannot be spoken to")),
        }
    }

    /// Asks, and gives what is answered.
    pub(super) fn ask<A: DeserializeOwned>(&mut self, what: &impl Serialize) -> Result<A, String> {
        self.send(what)?;
        self.answer()
    }

    /// Asks for what may take long, and gives what is answered, unless that is `over` first.
    pub(super) fn ask_until<A: DeserializeOwned>(
        &mut self,
        what: &impl Serialize,
        over: &AtomicBool,
    ) -> Result<A, String> {
        self.send(what)?;
        let often = Timespec::try_from(OFTEN).ok();
        while self.from.buffer().is_empty() {
            let mut waits = [PollFd::new(self.from.get_ref(), PollFlags::IN)];
            match poll(&mut waits, often.as_ref()) {
                Ok(0) | Err(Errno::INTR) if over.load(Ordering::Relaxed) => {
                    self.left = true;
                    return Err("nobody waits for it any more".into());
                }
                Ok(0) | Err(Errno::INTR) => {}
                Ok(_) => break,
                Err(error) => return Err(error.to_string()),
            }
        }
        self.answer()
    }

    fn answer<A: DeserializeOwned>(&mut self) -> Result<A, String> {
        let mut line = Vec::new();
        let read = (&mut self.from).take(LONGEST).read_until(b'\n', &mut line);
        if read.is_err() || line.is_empty() {
            return Err(self.complaint());
        }
        serde_json::from_slice(&line).map_err(|_| {
            let said: String = String::from_utf8_lossy(&line).trim().chars().take(SHOWN).collect();
            format!("it says what is no answer: {said}")
        })
    }

    /// Says something that is not answered.
    pub(super) fn send(&mut self, what: &impl Serialize) -> Result<(), String> {
        let said =
            self.to.as_mut().ok_or_else(|| io::ErrorKind::BrokenPipe.into()).and_then(|to| {
                serde_json::to_writer(&mut *to, what)?;
                to.write_all(b"\n")?;
                to.flush()
            });
        said.map_err(|_: io::Error| self.complaint())
    }

    /// Why it does not answer any more, in its own words.
    fn complaint(&mut self) -> String {
        self.to = None;
        let mut said = Vec::new();
        if let Some(stderr) = self.child.stderr.take() {
            let _ = stderr.take(COMPLAINT).read_to_end(&mut said);
        }
        match String::from_utf8_lossy(&said).lines().next_back() {
            Some(line) if !line.trim().is_empty() => line.trim().to_owned(),
            _ => "whoever was asked fell silent".into(),
        }
    }
}

impl Drop for Lines {
    fn drop(&mut self) {
        // Whoever is nobody may not be ended by somebody who has given up that right; where nobody asks any more, it ends.
        self.to = None;
        let killed = self.child.kill();
        // It ends with the thread that began it.
        if killed.is_ok() || !self.left {
            let _ = self.child.wait();
        }
    }
}
