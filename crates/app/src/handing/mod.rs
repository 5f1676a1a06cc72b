//! Handing decisions on to what administrators run: a journal, a log server, a collector.

mod item;
mod journal;
mod otlp;
mod syslog;

use crate::Failure;
use crate::watch::Decision;
use item::{Item, PATIENCE, Taker};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TryRecvError, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread::{JoinHandle, sleep, spawn};
use std::time::{Duration, Instant};

/// So many decisions wait for whoever takes them; further ones are lost, and counted.
pub const ROOM: usize = 10_000;
/// So many are handed on at once.
const LOT: usize = 256;
/// How long whoever takes nothing is left alone, at first and at last.
const PAUSES: [Duration; 2] = [Duration::from_millis(200), Duration::from_secs(10)];
/// How long is waited at the end for what has not been handed on.
const AT_THE_END: Duration = Duration::from_secs(5);

/// Whom decisions are handed on to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum To {
    /// The system's journal, with a field for each part.
    Journal,
    /// A log server (RFC 5424).
    Syslog(syslog::Way),
    /// A collector that speaks OpenTelemetry's protocol over HTTP; where it takes logs.
    Otlp(String),
}

impl To {
    /// A log server, as it is typed: `unix:/dev/log`, `udp:HOST:PORT`, `tcp:HOST:PORT` or `tls:HOST:PORT`.
    ///
    /// # Errors
    /// What was expected.
    pub fn syslog(text: &str) -> Result<Self, String> {
        syslog::Way::parse(text).map(Self::Syslog)
    }

    /// A collector, by its URL; without a path, logs go to `/v1/logs`.
    ///
    /// # Errors
    /// What was expected.
    pub fn otlp(text: &str) -> Result<Self, String> {
        otlp::url(text).map(Self::Otlp)
    }
}

/// Hands decisions on, beside whoever watches them.
pub struct Outlet {
    items: Option<SyncSender<Item>>,
    thread: Option<JoinHandle<()>>,
    lost: Arc<AtomicU64>,
    left: Arc<AtomicU64>,
    trouble: Arc<Mutex<Trouble>>,
}

/// Why nobody takes anything at the moment.
#[derive(Default)]
struct Trouble {
    why: Option<String>,
    told: bool,
}

impl Trouble {
    /// Notes how the last try went.
    fn note(&mut self, why: Option<String>) {
        if self.why != why {
            *self = Self { why, told: false };
        }
    }
}

fn refused(why: String) -> Failure {
    Failure::stopped("decisions cannot be handed on", vec![why])
}

impl Outlet {
    /// Begins; `host` is the one whose rules decide.
    ///
    /// # Errors
    /// [`Failure`] if the system has no place for it.
    pub fn to(to: &To, host: &str) -> Result<Self, Failure> {
        let taker: Box<dyn Taker> = match to {
            To::Journal => Box::new(journal::Journal::default()),
            To::Syslog(way) => Box::new(syslog::Syslog::new(way.clone(), host).map_err(refused)?),
            To::Otlp(url) => {
                Box::new(otlp::Otlp::new(url.clone(), host, PATIENCE).map_err(refused)?)
            }
        };
        let (items, queue) = sync_channel(ROOM);
        let (lost, left) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
        let trouble = Arc::new(Mutex::new(Trouble::default()));
        let thread = {
            let (lost, left) = (Arc::clone(&lost), Arc::clone(&left));
            let trouble = Arc::clone(&trouble);
            spawn(move || hand_on(taker, &queue, (&lost, &left), &trouble))
        };
        Ok(Self { items: Some(items), thread: Some(thread), lost, left, trouble })
    }

    /// Hands a decision on, once it is taken; never waits.
    pub fn decision(&self, decision: &Decision) {
        self.item(Item::Decision(Box::new(decision.clone())), 1);
    }

    /// Says that so many were not seen.
    pub fn missed(&self, count: u64) {
        self.item(Item::Missed(count), count);
    }

    fn item(&self, item: Item, worth: u64) {
        let Some(items) = &self.items else { return };
        self.left.fetch_add(1, Ordering::Relaxed);
        if items.try_send(item).is_err() {
            self.left.fetch_sub(1, Ordering::Relaxed);
            self.lost.fetch_add(worth, Ordering::Relaxed);
        }
    }

    /// Why nobody takes anything at the moment; each reason is told once.
    pub fn trouble(&self) -> Option<String> {
        let mut trouble = self.trouble.lock().ok()?;
        let new = !std::mem::replace(&mut trouble.told, true);
        trouble.why.clone().filter(|_| new)
    }

    /// Ends; gives how many have not been handed on, and why not, if that is known.
    pub fn end(mut self) -> (u64, Option<String>) {
        drop(self.items.take());
        let until = Instant::now() + AT_THE_END;
        while let Some(thread) = &self.thread {
            if thread.is_finished() || Instant::now() >= until {
                break;
            }
            sleep(Duration::from_millis(10));
        }
        let why = self.trouble.lock().ok().and_then(|it| it.why.clone());
        (self.left.load(Ordering::Relaxed) + self.lost.load(Ordering::Relaxed), why)
    }
}

fn hand_on(
    mut taker: Box<dyn Taker>,
    queue: &Receiver<Item>,
    (lost, left): (&AtomicU64, &AtomicU64),
    trouble: &Mutex<Trouble>,
) {
    let note = |why| {
        if let Ok(mut trouble) = trouble.lock() {
            trouble.note(why);
        }
    };
    let mut pause = PAUSES[0];
    let mut lot: Vec<Item> = Vec::new();
    loop {
        if lot.is_empty() {
            match queue.recv_timeout(Duration::from_secs(1)) {
                Ok(item) => lot.push(item),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
        }
        while lot.len() < LOT {
            match queue.try_recv() {
                Ok(item) => lot.push(item),
                Err(TryRecvError::Empty | TryRecvError::Disconnected) => break,
            }
        }
        // What found no room is told, once there is somebody to tell.
        let missed = lost.swap(0, Ordering::Relaxed);
        if missed > 0 {
            left.fetch_add(1, Ordering::Relaxed);
            lot.push(Item::Missed(missed));
        }
        if lot.is_empty() {
            continue;
        }
        match taker.take(&lot) {
            Ok(()) => {
                note(None);
                left.fetch_sub(u64::try_from(lot.len()).unwrap_or_default(), Ordering::Relaxed);
                lot.clear();
                pause = PAUSES[0];
            }
            Err(error) => {
                note(Some(error.to_string()));
                sleep(pause);
                pause = (pause * 2).min(PAUSES[1]);
            }
        }
    }
}
