//! What is done when a decision comes that somebody waits for.

use std::io::Write;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tipstaff_app::watch::Decision;

/// A bell, or a command that is run.
#[derive(Default)]
pub struct Alarm {
    bell: bool,
    command: Option<String>,
    running: Option<Child>,
    /// How many came while it ran.
    waiting: u64,
    rung: Option<Instant>,
}

/// No more often than this.
const PAUSE: Duration = Duration::from_secs(1);

impl Alarm {
    /// A bell, if it is to ring, and a command, if one is to be run.
    pub fn new(bell: bool, command: Option<String>) -> Self {
        Self { bell, command, ..Self::default() }
    }

    /// Says that such a decision has come. The command runs once at a time: what comes meanwhile is counted, and
    /// told the next one. What is from outside goes into its environment, never into its words.
    pub fn ring(&mut self, decision: &Decision) {
        if self.bell && self.rung.is_none_or(|it| it.elapsed() >= PAUSE) {
            self.rung = Some(Instant::now());
            let _ = std::io::stderr().lock().write_all(b"\x07");
        }
        let Some(command) = &self.command else { return };
        self.waiting += 1;
        if let Some(child) = &mut self.running
            && matches!(child.try_wait(), Ok(None))
        {
            return;
        }
        let json = serde_json::to_string(decision).unwrap_or_default();
        let started = Command::new("/bin/sh")
            .arg("-c")
            .arg(command)
            .env("TIPSTAFF_DECISION", json)
            .env("TIPSTAFF_DECISIONS", self.waiting.to_string())
            .env("TIPSTAFF_FROM", decision.from.to_string())
            .env("TIPSTAFF_TO", decision.to.to_string())
            .env("TIPSTAFF_TRAFFIC", &decision.traffic)
            .env("TIPSTAFF_VERDICT", decision.verdict.as_str())
            .env("TIPSTAFF_RULE", decision.by.as_deref().unwrap_or_default())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        if let Ok(child) = started {
            self.running = Some(child);
            self.waiting = 0;
        }
    }
}
