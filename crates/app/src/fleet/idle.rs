//! Whoever is asked by somebody who may vanish without a word.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::fs::File;
use std::io::{self, Read};
use std::time::Duration;

/// Members ask every few seconds: whoever says nothing for so long is gone, and so is the connection.
const GONE: Duration = Duration::from_secs(300);

/// What somebody says, until nothing has come for long.
#[derive(Debug)]
pub struct UntilGone(File);

impl UntilGone {
    /// Of that file.
    pub fn of(file: File) -> Self {
        Self(file)
    }
}

impl Read for UntilGone {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = Timespec::try_from(GONE).ok();
        loop {
            let mut waits = [PollFd::new(&self.0, PollFlags::IN)];
            match poll(&mut waits, most.as_ref()) {
                // As if it had ended.
                Ok(0) => return Ok(0),
                Ok(_) => return self.0.read(buffer),
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }
}
