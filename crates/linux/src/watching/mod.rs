//! Watching decisions as they are made, of rules that report nothing as well.
//!
//! A table of its own, ahead of ours, has the kernel trace the first packet of each connection and whatever
//! belongs to none. The table belongs to the socket that made it and goes when that is closed, so nothing is left
//! behind however the process ends. What the kernel tells is its own word: which rule of ours a packet came to, and
//! what became of it. Packets that come too fast are not traced but counted, so that whoever watches a flood makes
//! it no worse.

mod course;
mod headers;
mod known;
mod logged;
mod table;

pub use course::Seen;
pub use logged::Logged;

use crate::transport::{NetlinkSocket, Protocol, Transport};
use crate::{LinuxError, ruleset};
use course::Courses;
use known::Known;
use std::io::ErrorKind;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{TRACE_GROUP, Table, Trace, message_kind};

/// So much may wait to be read.
const QUEUE: usize = 64 * 1024 * 1024;
/// So many datagrams are read at once at most: then others have their turn.
const AT_ONCE: usize = 4_096;
/// So long more is waited for once something has come.
const GATHER: Duration = Duration::from_millis(10);
/// So many times that at most, before something else has its turn.
const MOST_LOTS: usize = 64;
/// The rules are read anew no more often than this.
const READ_EVERY: Duration = Duration::from_millis(500);
/// What has not come to an end for so long never will: a step of it was lost.
const PATIENCE: Duration = Duration::from_secs(2);

/// Watches the decisions of our rules.
pub struct Watch {
    /// The table goes when this is closed.
    owner: NetlinkSocket,
    table: String,
    traces: NetlinkSocket,
    /// For questions.
    asks: NetlinkSocket,
    known: Known,
    read: Instant,
    courses: Courses,
    /// How many were not seen when it was last asked, those included that were under way; and what was told.
    before: u64,
    last: Losses,
    /// When steps were lost last, since too many waited.
    overrun: Option<Instant>,
}

/// How many decisions there were.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Losses {
    /// Packets that came to be decided.
    pub came: u64,
    /// Of those, such as were not seen: they came too fast.
    pub lost: u64,
    /// Of those, such as came to no rule of ours: others had turned them away, or ours are gone.
    pub elsewhere: u64,
}

/// Tells decisions as they are made.
pub trait Watcher {
    /// The decisions that have been made meanwhile; waits for the first, but no longer than so.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel tells nothing any more.
    fn next(&mut self, patience: Duration) -> Result<Vec<Seen>, LinuxError>;

    /// How many decisions there were, and how many of them were not seen.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not tell.
    fn losses(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError>;

    /// Ends: all that were seen are told.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not tell.
    fn end(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError>;
}

impl Watch {
    /// Begins.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel refuses: before 5.12 it has no tables that go with their owner.
    pub fn open() -> Result<Self, LinuxError> {
        let mut asks = NetlinkSocket::open(Protocol::Netfilter)?;
        let traces = NetlinkSocket::of_groups(Protocol::Netfilter, 1 << (TRACE_GROUP - 1))?;
        traces.queue(QUEUE)?;
        let known = Known::read(&mut asks)?;
        let mut owner = NetlinkSocket::open(Protocol::Netfilter)?;
        let table = table::name();
        table::make(&mut owner, &table, &known)?;
        let (read, courses) = (Instant::now(), Courses::new(table.clone()));
        let (before, last, overrun) = (0, Losses::default(), None);
        Ok(Self { owner, table, traces, asks, known, read, courses, before, last, overrun })
    }

    /// Takes what has come already, behind a first one; gives whether there may be more.
    fn drain(&mut self, first: Option<Vec<u8>>, seen: &mut Vec<Seen>) -> Result<bool, LinuxError> {
        let mut datagrams: Vec<Vec<u8>> = first.into_iter().collect();
        let mut more = true;
        while more && datagrams.len() < AT_ONCE {
            match self.traces.receive_now() {
                Ok(Some(datagram)) => datagrams.push(datagram.to_vec()),
                Ok(None) => more = false,
                Err(error) if is_nothing(&error, &mut self.overrun) => {}
                Err(error) => return Err(LinuxError::system("watch decisions", error)),
            }
        }
        if datagrams.is_empty() {
            return Ok(more);
        }
        // What has come is of the rules that were there, if they still are.
        let table = known::table(&mut self.asks)?;
        if table == self.known.table {
            for datagram in &datagrams {
                self.take(datagram, seen)?;
            }
        } else {
            let new = Known::read(&mut self.asks)?;
            let old = std::mem::replace(&mut self.known, new);
            let shared = old.shared_with(&self.known);
            let new = std::mem::replace(&mut self.known, shared);
            // Nobody is to look for rules that are not known of both.
            self.read = Instant::now();
            let taken = datagrams.iter().try_for_each(|it| self.take(it, seen));
            self.known = new;
            taken?;
        }
        self.courses.give_up(PATIENCE, self.overrun);
        Ok(more)
    }

    fn take(&mut self, datagram: &[u8], seen: &mut Vec<Seen>) -> Result<(), LinuxError> {
        for message in split(datagram)? {
            if message.kind != message_kind::TRACE {
                continue;
            }
            let trace = Trace::decode(message.body)?;
            if !self.known.has(&trace) && self.read.elapsed() > READ_EVERY {
                self.read = Instant::now();
                // Somebody has added rules to our table.
                self.known = Known::read(&mut self.asks)?;
            }
            seen.extend(self.courses.step(&trace, &self.known, self.overrun));
        }
        Ok(())
    }
}

impl Watcher for Watch {
    fn next(&mut self, patience: Duration) -> Result<Vec<Seen>, LinuxError> {
        let mut seen = Vec::new();
        self.traces.patience(patience.max(Duration::from_millis(1)))?;
        match self.traces.receive() {
            Ok(datagram) => {
                // A few more make it worth while to ask whether the rules are what they were.
                sleep(GATHER);
                self.drain(Some(datagram), &mut seen)?;
            }
            Err(error) if is_nothing(&error, &mut self.overrun) => {
                self.courses.give_up(PATIENCE, self.overrun);
            }
            Err(error) => return Err(LinuxError::system("watch decisions", error)),
        }
        Ok(seen)
    }

    fn losses(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError> {
        let came = table::count(&mut self.asks, &self.table)?;
        // What was counted has been told by now, or lost: once all that waits is read.
        let mut lots = 0;
        while self.drain(None, seen)? {
            lots += 1;
            if lots == MOST_LOTS {
                return Ok(Losses { came, ..self.last });
            }
        }
        // What was under way just now is told a moment later.
        let lost = came.saturating_sub(self.courses.seen());
        let elsewhere = self.courses.elsewhere();
        let losses = Losses { came, lost: lost.min(self.before), elsewhere };
        (self.before, self.last) = (lost, losses);
        Ok(losses)
    }

    fn end(&mut self, seen: &mut Vec<Seen>) -> Result<Losses, LinuxError> {
        table::sleep(&mut self.owner, &self.table)?;
        while self.drain(None, seen)? {}
        self.courses.end(self.overrun);
        self.before = u64::MAX;
        self.losses(seen)
    }
}

/// How many watch.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn watchers(transport: &mut dyn Transport) -> Result<usize, LinuxError> {
    let ours = |it: &&Table| it.name.starts_with(ruleset::WATCH_TABLES);
    Ok(ruleset::tables(transport)?.iter().filter(ours).count())
}

/// Whether nothing has come, or more than could wait, which is noted.
fn is_nothing(error: &std::io::Error, overrun: &mut Option<Instant>) -> bool {
    if error.raw_os_error() == Some(libc::ENOBUFS) {
        *overrun = Some(Instant::now());
        return true;
    }
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted)
}
