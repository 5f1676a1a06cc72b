//! Whose a socket is: rules for programs in the kernel.
//!
//! Small programs of our own ([`tipstaff_wire::bpf::recognise`]) run where sockets are made and
//! opened. They look up the file that the process executes and the user as whom it acts, and write a
//! number for them into some bits of the socket's mark, which rules compare ([`Marks`]). They are pinned in a bpf file system: they
//! outlive us and need no process of ours.
//!
//! Numbers never change their meaning while rules compare with them: [`prepare`] makes the kernel
//! recognise what the old rules and the new ones name, then the rules are replaced, then
//! [`Prepared::settle`] forgets what only the old ones named.

mod files;
mod hooks;
mod needs;
mod running;
mod sockets;
mod standing_file;
mod users;

pub use files::FileKind;
pub(crate) use files::kind_of;
pub use hooks::Recognition;
pub(crate) use needs::has_pins;
pub use needs::{lacking, may_recognise};
pub use running::{NamedUser, Process, ProgramFile, Standings, look};
pub(crate) use standing_file::file_at;

use crate::LinuxError;
use crate::ruleset::{Marks, Whose, too_many_beside, too_many_programs};
use crate::users::user_number;
use files::Files;
use hooks::Hooks;
use needs::{Needs, nothing_is_pinned};
use std::collections::{BTreeMap, BTreeSet};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::program::RuleProgram;
use tipstaff_wire::bpf::recognise::{Owner, Standing, standing_of};

/// What the kernel recognises now, made ready for new rules.
#[derive(Debug)]
#[must_use = "the rules are to be replaced, and then what is not needed any more forgotten"]
pub struct Prepared {
    marks: Marks,
    /// `None` if neither the old rules nor the new ones name programs.
    work: Option<Work>,
}

#[derive(Debug)]
struct Work {
    needs: Needs,
    hooks: Hooks,
    /// What the new rules need recognised.
    wanted: BTreeMap<Owner, Standing>,
    old_mask: u32,
}

/// What rules need recognised.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Demand {
    /// Our bits of marks.
    pub mask: u32,
    /// The lists of programs and users that rules name.
    pub lists: BTreeSet<Vec<String>>,
    /// Whether it matters whose a socket is that is only ever sent from. To see that costs every
    /// sender of the machine a little, so it is not looked at for nothing.
    pub sending: bool,
}

impl Demand {
    /// What a plan needs, lowered to `rules`.
    #[must_use]
    pub fn of(plan: &HostPlan, rules: &RuleProgram) -> Self {
        Self {
            mask: plan.program_marks,
            lists: rules.owner_lists(),
            sending: plan.programs_send_datagrams(),
        }
    }
}

/// Makes the kernel recognise the programs of `demand`, and go on recognising those of the rules
/// that are in force, whose numbers are `before`.
///
/// Sockets that are there already are marked for the program that holds them.
///
/// # Errors
/// [`LinuxError::Lacking`] with all that the kernel or this process lacks for it, others of
/// [`LinuxError`]; the kernel then recognises what it did before.
pub fn prepare(demand: &Demand, before: &Marks) -> Result<Prepared, LinuxError> {
    let (mask, lists) = (demand.mask, &demand.lists);
    let nothing = Prepared { marks: Marks::default(), work: None };
    if lists.is_empty() && (before.mask == 0 || !lacking().is_empty()) {
        return Ok(nothing);
    }
    let needs = Needs::find()?;
    needs::mount_pins()?;
    let old = Hooks::read(&needs)?;
    let old_mask = old.as_ref().map_or(0, |it| it.mask);
    let known = old.map(|it| it.owners).unwrap_or_default();
    if old_mask != mask && old_mask & mask != 0 && !lists.is_empty() {
        // A number at its new place could be read as another at its old one.
        return Err(LinuxError::Refused {
            doing: "give programs other bits of marks".into(),
            reason: format!(
                "{mask:#010x} shares some with {old_mask:#010x}, which the rules in force use; take \
                 others, or release those first"
            ).into(),
        });
    }
    let same_mask = old_mask == mask && before.mask == mask;
    let number = |it: &Standing| Marks::number_in(mask, it.bits);
    let (numbers_before, mut taken) = if same_mask {
        (before.numbers(), before.used())
    } else {
        (BTreeMap::new(), BTreeSet::new())
    };
    if old_mask == mask {
        taken.extend(known.values().map(number));
    }
    let numbers = Marks::number(mask, lists, &numbers_before, &taken).map_err(|most| {
        match Marks::alone(mask, lists) {
            Ok(_) => too_many_beside(most),
            Err(most) => too_many_programs(most),
        }
    })?;

    Hooks::collect(&needs);
    let files = Files::open(&needs)?;
    let owners = owners_of(numbers.keys(), &files)?;
    let mut wanted: BTreeMap<Owner, Standing> = BTreeMap::new();
    let mut known_as = BTreeMap::new();
    for (whose, own) in &numbers {
        let Some(owner) = owners.get(whose) else { continue };
        // A file keeps the number that its sockets carry already.
        let carried = known.get(owner).filter(|_| same_mask).map(number);
        let carried = carried.filter(|it| *it != 0 && *it <= Marks::most(mask));
        let standing = wanted.entry(*owner).or_insert_with(|| Standing {
            bits: Marks::bits(mask, carried.unwrap_or(*own)),
            may_mark: false,
        });
        known_as.insert(whose.clone(), number(standing));
    }
    let marks = Marks::of(mask, lists, &numbers, &known_as);
    let ourselves = files.ourselves()?;
    let unnamed = Standing { bits: Marks::bits(mask, Marks::most(mask) + 1), may_mark: true };
    let users: BTreeSet<Option<u32>> = wanted.keys().map(|it| it.user).chain([None]).collect();
    for user in users {
        let as_user = wanted.get(&Owner { file: None, user }).copied().unwrap_or(unnamed);
        let owner = Owner { file: Some(ourselves), user };
        wanted.entry(owner).or_insert(as_user).may_mark = true;
    }

    let mut both = if old_mask == mask { known } else { BTreeMap::new() };
    both.extend(wanted.iter().map(|(owner, standing)| (*owner, *standing)));
    let hooks = Hooks::put(&needs, mask, &both, demand.sending)?;
    let valid = both.values().map(|it| it.bits).collect();
    let own = standing_of(&both, ourselves, rustix::process::geteuid().as_raw());
    let marked = hooks
        .try_out(own.unwrap_or(unnamed).bits)
        .and_then(|()| sockets::claim(&needs, &files, mask, &both, &valid, 0));
    if let Err(error) = marked {
        hooks.undo(&needs);
        return Err(error);
    }
    Ok(Prepared { marks, work: Some(Work { needs, hooks, wanted, old_mask }) })
}

/// Who is meant by names, as far as there is such a file and such a user.
fn owners_of<'w>(
    all: impl Iterator<Item = &'w Whose>,
    files: &Files,
) -> Result<BTreeMap<Whose, Owner>, LinuxError> {
    let (mut identities, mut numbers) = (BTreeMap::new(), BTreeMap::new());
    let mut owners = BTreeMap::new();
    for whose in all {
        let mut owner = Owner { file: None, user: None };
        if let Some(path) = &whose.program {
            if !identities.contains_key(path) {
                identities.insert(path, files.identity(path)?);
            }
            owner.file = identities[path];
        }
        if let Some(name) = &whose.user {
            if !numbers.contains_key(name) {
                numbers.insert(name, user_number(name)?);
            }
            owner.user = numbers[name];
        }
        let whole = owner.file.is_some() == whose.program.is_some()
            && owner.user.is_some() == whose.user.is_some();
        if whole {
            owners.insert(whose.clone(), owner);
        }
    }
    Ok(owners)
}

impl Prepared {
    /// The numbers for the new rules.
    #[must_use]
    pub fn marks(&self) -> &Marks {
        &self.marks
    }

    /// What could not be hooked although it would be of use, as ends of sentences.
    #[must_use]
    pub fn without(&self) -> Vec<String> {
        self.work.as_ref().map(|it| it.hooks.without.clone()).unwrap_or_default()
    }

    /// After the new rules are in force: forgets what only the old ones named. A file that has
    /// been replaced, and is nowhere any more, is known for as long as a process still runs it.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses; what the rules name is recognised all the same.
    pub fn settle(self) -> Result<(), LinuxError> {
        let Some(mut work) = self.work else { return Ok(()) };
        if self.marks.lists.is_empty() {
            return clear_with(&work.needs);
        }
        let files = Files::open(&work.needs)?;
        let used = self.marks.used();
        let mask = self.marks.mask;
        let running = running::executed(&files)?;
        for (owner, standing) in work.hooks.owners.clone() {
            let number = Marks::number_in(mask, standing.bits);
            let pids = owner.file.and_then(|it| running.get(&it));
            let removed = pids.is_some_and(|it| running::is_removed(it));
            let replaced = used.contains(&number) && removed;
            match work.wanted.get(&owner) {
                Some(_) => {}
                None if replaced => {
                    work.wanted.insert(owner, Standing { may_mark: false, ..standing });
                }
                None => work.hooks.forget(owner)?,
            }
        }
        let valid = work.wanted.values().map(|it| it.bits).collect();
        let leave = work.old_mask & !mask;
        work.hooks.drop_needless(&work.needs)?;
        sockets::claim(&work.needs, &files, mask, &work.wanted, &valid, leave)
    }

    /// After the new rules could not be put in force: the kernel recognises what it did before.
    pub fn undo(self) {
        if let Some(work) = self.work {
            work.hooks.undo(&work.needs);
        }
    }
}

/// What the kernel recognises in the calling thread's network namespace; `None` if we have hooked
/// nothing there.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us look.
pub fn read() -> Result<Option<Recognition>, LinuxError> {
    if nothing_is_pinned() {
        return Ok(None);
    }
    match Needs::find() {
        Ok(needs) => Hooks::read(&needs),
        // Nothing can be hooked, so nothing is; but who may not look does not know.
        Err(LinuxError::Lacking { permitted: true, .. }) => Ok(None),
        Err(LinuxError::Lacking { .. }) => {
            Err(LinuxError::NotPermitted { doing: "look at who recognises programs".into() })
        }
        Err(error) => Err(error),
    }
}

/// Takes everything of ours away that recognises programs, and our bits from all marks.
///
/// # Errors
/// [`LinuxError`] if the system refuses.
pub fn clear() -> Result<(), LinuxError> {
    match Needs::find() {
        Ok(needs) => {
            Hooks::collect(&needs);
            clear_with(&needs)
        }
        Err(LinuxError::Lacking { .. }) => Ok(()),
        Err(error) => Err(error),
    }
}

fn clear_with(needs: &Needs) -> Result<(), LinuxError> {
    let Some(found) = Hooks::read(needs)? else { return Ok(()) };
    Hooks::remove(needs)?;
    let files = Files::open(needs)?;
    sockets::claim(needs, &files, found.mask, &BTreeMap::new(), &BTreeSet::new(), 0)
}
