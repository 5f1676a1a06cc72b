//! Lines from an end that nobody trusts: none is too long, none is waited for too long, and none of them
//! all is kept.

use std::io::{BufRead, BufReader, Read};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

/// A line that is longer is no line of this protocol.
const LONGEST: u64 = 65_536;
/// So many lines are read ahead.
const AHEAD: usize = 16;

/// Lines, as they come.
pub struct Lines(Receiver<String>);

/// Why there is no further line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// There are no more, or what came was too long or no text.
    Over,
    /// None came in time.
    Late,
}

impl Lines {
    /// Reads them, on a thread of its own, which ends with the input or when nobody wants more.
    pub fn of(input: impl Read + Send + 'static) -> Self {
        let (lines, queue) = sync_channel(AHEAD);
        std::thread::spawn(move || {
            let mut input = BufReader::new(input);
            loop {
                let mut line = String::new();
                let read = input.by_ref().take(LONGEST).read_line(&mut line);
                let whole = read.is_ok() && line.ends_with('\n');
                if !whole || lines.send(line).is_err() {
                    return;
                }
            }
        });
        Self(queue)
    }

    /// The next one, if it comes before the deadline.
    ///
    /// # Errors
    /// [`End`] if none comes in time, or none will come.
    pub fn next(&self, deadline: Instant) -> Result<String, End> {
        let left = deadline.saturating_duration_since(Instant::now());
        self.0.recv_timeout(left.max(Duration::from_millis(1))).map_err(|error| match error {
            RecvTimeoutError::Timeout => End::Late,
            RecvTimeoutError::Disconnected => End::Over,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::{End, Lines};
    use std::io::{Cursor, Read};
    use std::time::{Duration, Instant};

    /// Says nothing, or the same for ever.
    struct Bad(Option<u8>);

    impl Read for Bad {
        fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
            let Some(byte) = self.0 else {
                std::thread::sleep(Duration::from_secs(60));
                return Ok(0);
            };
            buffer.fill(byte);
            Ok(buffer.len())
        }
    }

    #[test]
    fn mute_and_flooding_ends_are_done_with() {
        let soon = || Instant::now() + Duration::from_millis(100);
        assert_eq!(Lines::of(Bad(None)).next(soon()), Err(End::Late));
        assert_eq!(Lines::of(Bad(Some(b'x'))).next(soon()), Err(End::Over));
        assert_eq!(Lines::of(Bad(Some(0xff))).next(soon()), Err(End::Over));
        // Endless empty lines: each is one, and no more are read than are asked for.
        let lines = Lines::of(Bad(Some(b'\n')));
        assert_eq!(lines.next(soon()).as_deref(), Ok("\n"));
        let lines = Lines::of(Cursor::new(b"one\ntwo".to_vec()));
        assert_eq!(lines.next(soon()).as_deref(), Ok("one\n"));
        assert_eq!(lines.next(soon()), Err(End::Over));
    }
}
