//! Files of places: those of this machine are read anew when they change, all of them once an hour. That is done by a
//! process of its own: it can take long, and need much memory.

use crate::store::{Home, snapshots};
use crate::vocabulary as say;
use crate::{Failure, load_all};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::mpsc::{Receiver, TryRecvError, channel};
use std::time::{Duration, Instant, SystemTime};
use tipstaff_core::policy::is_far;

/// So often all are read.
const HOURLY: Duration = Duration::from_secs(3_600);
/// Not all machines at once.
const SPREAD: Duration = Duration::from_secs(600);
/// What could not be read is tried again after so long, and what is old when this begins.
const SOONER: Duration = Duration::from_secs(600);
const AT_FIRST: Duration = Duration::from_secs(15);
/// Where it was not even tried, since somebody else was at the policy for one, it is tried again after so long.
const RETRY: Duration = Duration::from_secs(60);
/// Whoever writes a file may still be at it.
const QUIET: Duration = Duration::from_secs(1);
/// But it is not waited for longer.
const MOST: Duration = Duration::from_secs(10);
/// How soon it is looked whether something was read.
const SOON: Duration = Duration::from_millis(100);
/// Between two there is so many times what the one before took.
const REST: u32 = 4;

/// Files of places that were read anew.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Reread {
    /// The places of which something else is known than before, or whose files are not taken.
    pub places: Vec<PlaceReread>,
    /// Whether that was put in force.
    pub in_force: bool,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// A place whose files were read anew.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlaceReread {
    /// Its name.
    pub name: String,
    /// What became of it.
    pub done: say::Refreshed,
    /// How many ranges of addresses came.
    pub came: usize,
    /// How many went.
    pub gone: usize,
    /// Why they are not taken, as whole sentences.
    pub why: Vec<String>,
}

/// What the process says that reads them: a part of its report.
#[derive(Deserialize)]
struct Said {
    places: Vec<PlaceReread>,
    enforced: Option<serde::de::IgnoredAny>,
    remarks: Vec<String>,
}

/// When which are read.
pub(super) struct Lists {
    /// What the policy's files were like when they were read.
    policy: Option<Vec<(PathBuf, SystemTime, u64)>>,
    /// The files of this machine, with the places that take addresses from them.
    files: BTreeMap<PathBuf, BTreeSet<String>>,
    /// The places whose files have changed, since when at first, and when last.
    changed: BTreeSet<String>,
    since: Option<(Instant, Instant)>,
    /// When all are read.
    all: Instant,
    /// When the next may begin.
    rested: Instant,
    reading: Option<Reading>,
}

/// A process that reads.
struct Reading {
    begun: Instant,
    all: bool,
    /// Those that it was about, if not all.
    places: BTreeSet<String>,
    said: Receiver<(io::Result<Output>, Instant)>,
}

impl Lists {
    pub(super) fn of(home: &Home) -> Self {
        let now = Instant::now();
        let mut lists = Self {
            policy: None,
            files: BTreeMap::new(),
            changed: BTreeSet::new(),
            since: None,
            all: now + AT_FIRST,
            rested: now,
            reading: None,
        };
        lists.look(home);
        let young = home.policy.as_ref().and_then(|it| HOURLY.checked_sub(oldest(&it.0)?));
        lists.all = now + young.map_or(AT_FIRST, |it| it + spread());
        lists
    }

    /// The files of this machine that have addresses.
    pub(super) fn files(&self) -> impl Iterator<Item = &PathBuf> {
        self.files.keys()
    }

    /// How soon there is something to do, if that is known.
    pub(super) fn next(&self) -> Option<Duration> {
        if let Some(reading) = &self.reading {
            // Whoever has read for long may as well be waited for.
            return Some((reading.begun.elapsed() / REST).max(SOON));
        }
        let (first, last) = self.since?;
        let due = (last + QUIET).min(first + MOST).max(self.rested);
        Some(due.saturating_duration_since(Instant::now()))
    }

    /// Begins to read what is due, and gives what came of what was read.
    ///
    /// # Errors
    /// [`Failure`] if it could not be read or put in force.
    pub(super) fn see_to(
        &mut self,
        home: &Home,
        changed: &BTreeSet<PathBuf>,
    ) -> Result<Option<Reread>, Failure> {
        self.look(home);
        let now = Instant::now();
        let places: Vec<&String> =
            changed.iter().filter_map(|it| self.files.get(it)).flatten().collect();
        if !places.is_empty() {
            self.changed.extend(places.into_iter().cloned());
            self.since = Some((self.since.map_or(now, |it| it.0), now));
        }
        if let Some(reading) = self.reading.take() {
            let (said, ended) = match reading.said.try_recv() {
                Err(TryRecvError::Empty) => {
                    self.reading = Some(reading);
                    return Ok(None);
                }
                Ok(said) => said,
                Err(TryRecvError::Disconnected) => (Err(ErrorKind::BrokenPipe.into()), now),
            };
            let (took, all) = (ended.saturating_duration_since(reading.begun), reading.all);
            self.rested = ended + took * REST;
            let outcome = said.map_err(|it| not_read(&it.to_string())).and_then(|it| told(&it));
            let refused =
                |it: &Reread| it.places.iter().any(|it| it.done == say::Refreshed::Refused);
            let well = outcome.as_ref().is_ok_and(|it| !it.as_ref().is_some_and(refused));
            if outcome.is_err() && !all {
                self.changed.extend(reading.places);
                (self.since, self.rested) = (Some((now, now)), now + RETRY);
            }
            if all {
                self.all = now + if well { HOURLY + spread() } else { SOONER };
            }
            return outcome;
        }
        self.begin(home, now)
    }

    /// Begins to read what is due.
    fn begin(&mut self, home: &Home, now: Instant) -> Result<Option<Reread>, Failure> {
        let Some((policy, host)) = home.policy.as_ref().filter(|_| now >= self.rested) else {
            return Ok(None);
        };
        let all = now >= self.all;
        if all {
            // Whoever else did it need not be followed; where no place has files, there is nothing to do.
            let young = oldest(policy).and_then(|it| HOURLY.checked_sub(it));
            if let Some(left) = young.or((!self.has_files()).then_some(HOURLY)) {
                self.all = now + left + spread();
                return Ok(None);
            }
        } else if self.next() != Some(Duration::ZERO) {
            return Ok(None);
        }
        let places = std::mem::take(&mut self.changed);
        self.since = None;
        let mut command = Command::new("/proc/self/exe");
        command.arg("--policy").arg(policy);
        if let Some(host) = host {
            command.arg("--host").arg(host);
        }
        command.arg("--state").arg(&home.state).arg("--boot-note").arg(&home.asked_note);
        command.args(["--format", "json", "place", "refresh"]);
        command.args(places.iter().filter(|_| !all));
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        // A service manager is told by one process only.
        command.env_remove("NOTIFY_SOCKET");
        let child = command.spawn().map_err(|it| not_read(&it.to_string()))?;
        let (tell, said) = channel();
        std::thread::spawn(move || tell.send((child.wait_with_output(), Instant::now())));
        self.reading = Some(Reading { begun: now, all, places, said });
        Ok(None)
    }

    /// Whether places of the policy have files.
    fn has_files(&self) -> bool {
        !self.files.is_empty()
    }

    /// Reads the policy, if it has changed. One that cannot be read is somebody's who is at it.
    fn look(&mut self, home: &Home) {
        let Some((path, _)) = &home.policy else { return };
        let stamp = stamp(path);
        if self.policy.as_ref() == Some(&stamp) {
            return;
        }
        self.policy = Some(stamp);
        let Ok((_, policy, _)) = load_all(path) else { return };
        let folder = match path.is_dir() {
            true => path.as_path(),
            false => path.parent().unwrap_or(Path::new("")),
        };
        self.files.clear();
        let kept = snapshots::kept(path).unwrap_or_default();
        for place in &policy.places {
            let Some(data) = &place.data else { continue };
            let registries = data.delegations.iter().filter(|_| !data.countries.is_empty());
            for file in data.files.iter().chain(registries) {
                // A far one is none to be watched, but one to be read.
                let path = if is_far(file) { PathBuf::from(file) } else { folder.join(file) };
                // What was written while nobody attended was not heard of.
                let read = kept.iter().find(|it| it.0 == place.name).and_then(|it| written(&it.1));
                if written(&path).is_some_and(|it| read.is_none_or(|read| it > read)) {
                    self.changed.insert(place.name.clone());
                }
                self.files.entry(path).or_default().insert(place.name.clone());
            }
        }
        if !self.changed.is_empty() && self.since.is_none() {
            let now = Instant::now();
            self.since = Some((now, now));
        }
    }
}

/// When a file was written last; `None` if there is none, or that is not known.
fn written(file: &Path) -> Option<SystemTime> {
    std::fs::metadata(file).ok()?.modified().ok()
}

/// What a policy's files are like, for whoever wants to know whether they have changed.
fn stamp(policy: &Path) -> Vec<(PathBuf, SystemTime, u64)> {
    let of = |path: PathBuf| {
        let metadata = std::fs::metadata(&path).ok()?;
        Some((path, metadata.modified().ok()?, metadata.len()))
    };
    let mut all: Vec<_> = match std::fs::read_dir(policy) {
        Ok(entries) => entries.flatten().filter_map(|it| of(it.path())).collect(),
        Err(_) => of(policy.to_owned()).into_iter().collect(),
    };
    all.sort();
    all
}

/// How long ago that was read which was read first; `None` if nothing was, or that is not known.
fn oldest(policy: &Path) -> Option<Duration> {
    let kept = snapshots::kept(policy).ok()?;
    kept.iter().filter_map(|it| written(&it.1)?.elapsed().ok()).max()
}

/// Some time, another one at each machine.
fn spread() -> Duration {
    let nanoseconds = SystemTime::UNIX_EPOCH.elapsed().map_or(0, |it| it.subsec_nanos());
    SPREAD.mul_f64(f64::from(nanoseconds) / 1e9)
}

fn not_read(why: &str) -> Failure {
    Failure::System {
        message: format!("the files of places are not read anew: {why}"),
        help: vec!["`tipstaff place refresh` does it by hand".into()],
    }
}

/// What came of it, if anything is worth telling.
fn told(output: &Output) -> Result<Option<Reread>, Failure> {
    let said: Said = match serde_json::from_slice(&output.stdout) {
        Ok(said) => said,
        Err(_) => {
            let words = String::from_utf8_lossy(&output.stderr);
            let line = words.lines().next().unwrap_or("whoever was to do it fell silent");
            return Err(not_read(line.trim_start_matches("error: ")));
        }
    };
    let places = said.places.into_iter().filter(|it| it.done != say::Refreshed::Same);
    let reread = Reread {
        places: places.collect(),
        in_force: said.enforced.is_some(),
        remarks: said.remarks,
    };
    Ok((reread.in_force || !reread.places.is_empty()).then_some(reread))
}
