//! A command that is run when something happens.

use std::process::{Child, Command, Stdio};

/// A command of the caller's.
#[derive(Default)]
pub struct Hook {
    command: Option<String>,
    running: Vec<Child>,
}

/// So many run at once; what comes meanwhile does not start another.
const MOST: usize = 16;

impl Hook {
    /// One, if a command is to be run.
    pub fn new(command: Option<String>) -> Self {
        Self { command, running: Vec::new() }
    }

    /// Runs it. What is from outside goes into its environment, never into its words.
    pub fn pull(&mut self, words: &[(&str, &str)]) {
        self.running.retain_mut(|it| matches!(it.try_wait(), Ok(None)));
        let Some(command) = self.command.as_ref().filter(|_| self.running.len() < MOST) else {
            return;
        };
        let started = Command::new("/bin/sh")
            .arg("-c")
            .arg(command)
            .envs(words.iter().copied())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        self.running.extend(started);
    }
}
