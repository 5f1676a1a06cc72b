//! `attend`: one process that follows what happens to the machine, and does at once what otherwise the next command does.

mod alone;
mod arrivals;
mod due;
mod lists;
mod manager;
mod owners;

use crate::fleet::{self, Taken, Trust};
use crate::newcomers::Newcomer;
use crate::store::Home;
use crate::transaction::{self, Followed};
use crate::{Failure, programs};
use alone::alone;
use arrivals::Arrivals;
use due::{Due, TOGETHER};
use lists::Lists;
use manager::notify;
use owners::Owners;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::os::fd::AsFd;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};
use tipstaff_linux::{ChangedFiles, Machine, Movements};

pub(crate) use alone::is_attended;
pub use lists::Reread;

/// How often it is looked at what listens and what runs, since the kernel does not tell, and whether somebody has
/// changed the docket.
const LOOK: Duration = Duration::from_secs(2);
/// How often it is tried anew to watch files that could not be watched.
const ANEW: Duration = Duration::from_secs(30);
/// A failure that stays is told again after so long.
const AGAIN: Duration = Duration::from_secs(300);

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Happened {
    /// A posture was taken by itself.
    Posture(Followed),
    /// Something listens that did not before.
    Newcomer(Newcomer),
    /// Programs that rules name are recognised anew: their files were replaced, or sockets handed over.
    Programs(programs::Report),
    /// Files of places were read anew, and something came of it.
    Places(Reread),
    /// What the fleet told this host to take was taken, or not.
    Fleet(Box<Taken>),
}

/// Who is told of what happens, and of what could not be done.
pub type Tell<'t> = dyn FnMut(Result<&Happened, &Failure>) -> Result<(), Failure> + 't;

/// Follows what happens until somebody ends it: takes postures that hold by themselves, leaves those that are over, has
/// rules follow interfaces and programs, and reads files of places anew. `tell` is told of each change, and of what could
/// not be done. A member of a `fleet` also takes what it is told to, and says how it stands.
///
/// # Errors
/// [`Failure`] if another one does already, the system does not let it listen, or nothing more can be told.
pub fn attend(
    machine: &dyn Machine,
    home: &Home,
    fleet: Option<Trust>,
    tell: &mut Tell<'_>,
) -> Result<(), Failure> {
    let _alone = alone(home)?;
    // A store that does not answer must not keep the rest waiting.
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let (to, from) = channel();
        if let Some(trust) = fleet {
            let over = &over;
            scope.spawn(move || fleet::stay(machine, home, trust, over, &to));
        }
        let followed = follow(machine, home, &from, tell);
        over.store(true, Ordering::Relaxed);
        followed
    })
}

fn follow(
    machine: &dyn Machine,
    home: &Home,
    fleet: &Receiver<Result<Taken, Failure>>,
    tell: &mut Tell<'_>,
) -> Result<(), Failure> {
    let mut movements = Movements::open()?;
    let mut troubles = Troubles::default();
    let (mut owners, mut lists) = (Owners::default(), Lists::of(home));
    let mut arrivals = Arrivals::default();
    let mut files = Files::of(BTreeSet::new())?;
    let (mut ready, mut due) = (false, Due::default());
    loop {
        let now = due.is_now(home);
        if now {
            let followed = transaction::follow(machine, home);
            troubles.tell(tell, "posture", followed.map(|it| it.map(Happened::Posture)))?;
        }
        // Ahead of what every command does, which tells nobody of it.
        let changed = files.changed()?;
        let recognised = owners.see_to(machine, home, &changed);
        troubles.tell(tell, "programs", recognised.map(|it| it.map(Happened::Programs)))?;
        if now {
            transaction::look_after(machine, home);
            due.done(home);
        }
        let reread = lists.see_to(home, &changed);
        troubles.tell(tell, "places", reread.map(|it| it.map(Happened::Places)))?;
        for taken in fleet.try_iter() {
            let taken = taken.map(|it| Some(Happened::Fleet(Box::new(it))));
            troubles.tell(tell, "fleet", taken)?;
        }
        for newcomer in arrivals.see_to(machine, home) {
            tell(Ok(&Happened::Newcomer(newcomer)))?;
        }
        files.follow(owners.files().chain(lists.files()).cloned().collect(), &changed)?;
        notify(if ready { "WATCHDOG=1" } else { "READY=1" });
        ready = true;
        let until = Instant::now() + lists.next().map_or(LOOK, |it| it.min(LOOK));
        while !due.moved && !files.have_changed {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            let left = left.max(Duration::from_millis(1));
            due.moved = movements.wait(left, Some(files.changes.as_fd()))?;
            files.look()?;
            if !due.moved
                && !files.have_changed
                && !until.saturating_duration_since(Instant::now()).is_zero()
            {
                // Other files of the same folders may change without end.
                std::thread::sleep(TOGETHER);
            }
        }
        due.rest(files.have_changed);
    }
}

/// What could not be done was told; as long as it stays the same, it is told seldom.
#[derive(Default)]
struct Troubles {
    told: BTreeMap<&'static str, (String, Instant)>,
}

impl Troubles {
    fn tell(
        &mut self,
        tell: &mut Tell<'_>,
        about: &'static str,
        outcome: Result<Option<Happened>, Failure>,
    ) -> Result<(), Failure> {
        match outcome {
            Ok(happened) => {
                self.told.remove(about);
                happened.map_or(Ok(()), |it| tell(Ok(&it)))
            }
            Err(failure) => {
                let line = failure.line();
                let told = self.told.get(about);
                if told.is_none_or(|it| it.0 != line || it.1.elapsed() >= AGAIN) {
                    tell(Err(&failure))?;
                    self.told.insert(about, (line, Instant::now()));
                }
                Ok(())
            }
        }
    }
}

/// The files that are watched.
struct Files {
    wanted: BTreeSet<PathBuf>,
    changes: ChangedFiles,
    since: Instant,
    seen: BTreeSet<PathBuf>,
    have_changed: bool,
}

impl Files {
    fn of(wanted: BTreeSet<PathBuf>) -> Result<Self, Failure> {
        let changes = ChangedFiles::of(&wanted)?;
        let seen = BTreeSet::new();
        Ok(Self { wanted, changes, since: Instant::now(), seen, have_changed: false })
    }

    fn look(&mut self) -> Result<(), Failure> {
        self.seen.extend(self.changes.changed()?);
        self.have_changed = !self.seen.is_empty();
        Ok(())
    }

    fn changed(&mut self) -> Result<BTreeSet<PathBuf>, Failure> {
        self.look()?;
        self.have_changed = false;
        Ok(std::mem::take(&mut self.seen))
    }

    /// Watches others from now on. A file that is replaced may lead elsewhere; what changes meanwhile is not lost.
    fn follow(
        &mut self,
        wanted: BTreeSet<PathBuf>,
        changed: &BTreeSet<PathBuf>,
    ) -> Result<(), Failure> {
        let again = self.changes.is_stale() && self.since.elapsed() >= ANEW;
        if wanted == self.wanted && !again && changed.is_empty() {
            return Ok(());
        }
        let new = Self::of(wanted)?;
        self.look()?;
        let old = std::mem::replace(self, new);
        (self.seen, self.have_changed) = (old.seen, old.have_changed);
        Ok(())
    }
}
