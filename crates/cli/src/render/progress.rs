//! What is going on, on standard error, if that is a terminal.

use indicatif::{ProgressBar, ProgressStyle};
use std::io::{IsTerminal, Write};

/// A bar that says how much of a long work is done; it vanishes when the value is dropped.
pub struct Bar {
    bar: ProgressBar,
}

impl Bar {
    /// A bar of which nothing shows yet.
    pub fn new() -> Self {
        let bar = ProgressBar::new(0);
        if let Ok(style) = ProgressStyle::with_template(
            "trying {wide_bar} {human_pos} of {human_len} packets, {eta} left",
        ) {
            bar.set_style(style.progress_chars("=> "));
        }
        Self { bar }
    }

    /// Shows how much of how much is done.
    pub fn show(&self, done: u64, all: u64) {
        self.bar.set_length(all);
        self.bar.set_position(done);
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// A line on standard error, if that is a terminal, that says what is going on; it vanishes when
/// the value is dropped.
pub fn progress(doing: &str) -> Progress {
    let shown = std::io::stderr().is_terminal();
    if shown {
        let _ = write!(std::io::stderr().lock(), "{doing} ...");
    }
    Progress { shown }
}

/// See [`progress`].
#[must_use = "the line vanishes when this is dropped"]
pub struct Progress {
    shown: bool,
}

impl Progress {
    /// Says something else in its place.
    pub fn say(&self, doing: &str) {
        self.clear();
        if self.shown {
            let _ = write!(std::io::stderr().lock(), "{doing} ...");
        }
    }

    /// Makes the line vanish for now, so that something else can be written.
    pub fn clear(&self) {
        if self.shown {
            let _ = write!(std::io::stderr().lock(), "\r\x1b[K");
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.clear();
    }
}
