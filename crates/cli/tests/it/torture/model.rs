//! What must be so, whatever happens.

use std::fmt::Write;
use std::time::{Duration, Instant};

pub const PORTS: [u16; 3] = [80, 443, 8080];
pub const ALL: u8 = 0b111;
/// What a change may take beyond its deadline.
pub const GRACE: Duration = Duration::from_secs(2);
pub const WAITS: Duration = Duration::from_secs(1);

/// Numbers from a seed.
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, most: u64) -> u64 {
        // SplitMix64, by Sebastiano Vigna (public domain).
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut it = self.0;
        it = (it ^ (it >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        it = (it ^ (it >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (it ^ (it >> 31)) % most
    }
}

/// Which ports are open, and whether the shell is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Policy {
    pub open: u8,
    pub shell: bool,
}

impl Policy {
    pub fn text(self) -> String {
        let mut text = String::from(
            "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\"]\n[host.sluice]\n\
             addresses = [\"192.0.2.10\"]\nshell = [\"2202/tcp\"]\n",
        );
        if self.shell {
            text += "[[host.sluice.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\"]\nfrom = [\"curators\"]\n";
        }
        for (at, port) in PORTS.iter().enumerate().filter(|it| self.open >> it.0 & 1 == 1) {
            write!(text, "[[host.sluice.rule]]\nname = \"r{at}\"\nallow = [\"{port}/tcp\"]\n")
                .expect("a text");
        }
        text
    }
}

/// What may be in force.
pub struct Model {
    /// The policy in the file.
    pub file: Policy,
    /// What may have been confirmed last; everything is open before anything was.
    pub confirmed: Vec<u8>,
    /// All that was confirmed some time.
    pub ever: Vec<u8>,
    /// What waits or may wait, and until when that may hold.
    pub waits: Option<(u8, Instant)>,
    /// The entry that waits by what commands said.
    pub pending: Option<Policy>,
    /// Somebody else has taken the rules out, and nobody has put any in since.
    pub flushed: bool,
    /// A shell that is shut out opens again by then.
    pub shell_by: Instant,
}

impl Model {
    pub fn may_be_open(&self, now: Instant) -> u8 {
        let waits = self.waits.filter(|it| now < it.1).map_or(0, |it| it.0);
        let confirmed = self.confirmed.iter().fold(0, |all, it| all | it);
        if self.flushed { ALL } else { confirmed | waits }
    }

    pub fn confirm(&mut self, open: u8, surely: bool) {
        self.ever.push(open);
        if surely {
            self.confirmed = vec![open];
        } else {
            self.confirmed.push(open);
        }
    }

    /// Something on disk was damaged: an earlier policy may be what can still be read.
    pub fn damaged(&mut self) {
        let ever = self.ever.clone();
        self.confirmed.extend(ever);
    }

    pub fn wait(&mut self, open: u8, shell: bool, since: Instant) {
        let until = since + WAITS + GRACE;
        let before = self.waits.filter(|it| Instant::now() < it.1).map_or(0, |it| it.0);
        self.waits = Some((open | before, until));
        if !shell {
            self.shell_by = self.shell_by.max(until);
        }
    }
}
