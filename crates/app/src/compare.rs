//! `compare`: which packets two policies treat differently, or a policy and the kernel.

use super::effect::{self, ChangeWords, Effects, SideWords};
use super::folded::told;
use super::load::of_places;
use super::of_others::others;
use super::region::Words;
use super::{
    By, Failure, Loaded, PacketWords, beside, exported, likely_packet, load, loaded, whole_plan,
};
use crate::Outcome;
use crate::store::Home;
use crate::threads::Threads;
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::{BTreeSet, HashSet};
use std::path::Path;
use tipstaff_core::analysis::{self, First};
use tipstaff_core::meaning::{Atlas, Fate, Meaning};
use tipstaff_core::plan::{Act, HostPlan, Kind as PlanKind, RuleId};
use tipstaff_core::policy::{NO_POSTURE, Rate, Source, Verdict};
use tipstaff_core::program::{self, Drift, RuleProgram};
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;

/// Regions of a difference with the kernel are listed up to this number of parts.
const PARTS: usize = 2_000;
/// So many differences with the kernel are worked out exactly, unless all are asked for: each takes about
/// as long as to find out how many there are.
const TOLD: usize = 24;
/// So many differences of two policies are listed, unless all are asked for.
const LISTED: usize = 500;
/// Rules that overlap in so many ways that their meaning needs more intervals are not worked out.
pub(crate) const NODES: usize = 5_000_000;

/// What fares differently between two sides.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// What the one side is, in words.
    pub first: String,
    /// What the other side is, in words.
    pub second: String,
    /// Whether no packet fares differently.
    pub equal: bool,
    /// The packets that fare differently.
    #[serde(flatten)]
    pub found: Effects,
}

impl Report {
    /// Whether they differ, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.equal { Outcome::Fine } else { Outcome::Found }
    }
}

/// A side of the comparison.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Operand {
    /// The rules in the kernel.
    Kernel,
    /// The rules that others have in the kernel, as far as a policy can say them.
    Others,
    /// The policy as it was last committed to the version control of its folder.
    Committed,
    /// A host of the policy.
    Host(String),
    /// A policy, and a host of it; or access control lists, by the name's end.
    Path(String, Option<String>),
}

impl Operand {
    /// Reads `kernel`, `others`, `committed`, `@HOST`, `PATH` or `PATH@HOST`.
    ///
    /// # Errors
    /// Never; the form fits the argument parser.
    pub fn parse(text: &str) -> Result<Self, String> {
        Ok(match (text, text.rsplit_once('@')) {
            ("kernel", _) => Self::Kernel,
            ("others", _) => Self::Others,
            ("committed", _) => Self::Committed,
            (_, Some(("", host))) => Self::Host(host.to_owned()),
            (_, Some((path, host))) if !host.contains('/') => {
                Self::Path(path.to_owned(), Some(host.to_owned()))
            }
            _ => Self::Path(text.to_owned(), None),
        })
    }
}

/// Where policies are, unless an operand says otherwise.
pub struct Place<'p> {
    /// The machine whose kernel can be a side.
    pub machine: &'p dyn Machine,
    /// Where it is noted what policies were worked out to.
    pub home: &'p Home,
    /// The file or folder of the policy.
    pub policy: &'p Path,
    /// The host's name; the only one if left out.
    pub host: Option<&'p str>,
    /// Postures: of one, the policies are compared as they are in it; of two, the first side in the first with the
    /// second side in the second; without operands, that of none with that of one.
    pub postures: &'p [String],
}

impl Place<'_> {
    /// The postures of the two sides.
    fn sides(&self, alone: bool) -> [Option<&str>; 2] {
        match self.postures {
            [] => [None, None],
            [one] if alone => [Some(NO_POSTURE), Some(one)],
            [one] => [Some(one), Some(one)],
            [one, other, ..] => [Some(one), Some(other)],
        }
    }
}

/// Compares two sides; without a second one, the policy itself is it. The first differences are told, or `all`.
///
/// # Errors
/// [`Failure`] if a side cannot be read.
pub fn report(
    place: &Place<'_>,
    first: Option<&Operand>,
    second: Option<&Operand>,
    all: bool,
) -> Result<Report, Failure> {
    let own = Operand::Path(place.policy.display().to_string(), None);
    let (one, other) = match (first, second) {
        (Some(first), Some(second)) => (first, second),
        // What is said of postures is of the same policy.
        (Some(first), None) if place.postures.len() > 1 => (first, first),
        (Some(first), None) => (first, &own),
        (None, _) => (&own, &own),
    };
    let [in_first, in_second] = place.sides(first.is_none());
    let (a_name, mut a) = side(place, one, in_first)?;
    let (b_name, mut b) = side(place, other, in_second)?;
    if a.is_none() || b.is_none() || [one, other].contains(&&Operand::Others) {
        // The kernel speaks of interfaces by their names of today.
        a.iter_mut().chain(&mut b).try_for_each(|it| it.place(place.machine))?;
    }
    let found = match (&a, &b) {
        (Some(a), Some(b)) => of_policies(a, b, all),
        (None, Some(b)) => with_kernel(place, b, true, all)?,
        (Some(a), None) => with_kernel(place, a, false, all)?,
        (None, None) => Effects { changes_known: true, ..Effects::default() },
    };
    let equal = found.changes_known && found.changes.is_empty();
    Ok(Report { first: a_name, second: b_name, equal, found })
}

/// What changes from one policy to another: nobody reads thousands of lines, so those that are told are the first, or
/// `all`.
fn of_policies(before: &Loaded, after: &Loaded, all: bool) -> Effects {
    let likely = |direction| likely_packet(direction, &after.plan);
    let first = First { rank, most: if all { usize::MAX } else { LISTED } };
    let found = analysis::compare_by(&Threads, [&before.plan, &after.plan], first, likely);
    let told = found.changes.iter().map(|it| (it.before.act, it.after.act));
    let kinds = told.chain(found.others).map(|it| effect::kind(it.0, it.1)).collect::<Vec<_>>();
    let (old, new) = ((&before.policy, &before.plan), (&after.policy, &after.plan));
    let changes = effect::in_words(&found.changes, old, new);
    let more_changes = kinds.len() - changes.len();
    Effects { changes, more_changes, changes_known: true, kinds }
}

/// Where a difference between two acts stands in a list.
fn rank(before: Act, after: Act) -> usize {
    effect::rank(effect::kind(before, after))
}

/// Compares what two policies do to packets.
pub fn between(first: &Loaded, second: &Loaded) -> Report {
    let name = |loaded: &Loaded| format!("{} of {}", loaded.plan.host, loaded.name);
    let changes = effect::changes((&first.policy, &first.plan), (&second.policy, &second.plan));
    let equal = changes.is_empty();
    let found = Effects { changes, changes_known: true, ..Effects::default() };
    Report { first: name(first), second: name(second), equal, found }
}

/// The name of a side, and its policy unless it is the kernel.
fn side(
    place: &Place<'_>,
    operand: &Operand,
    posture: Option<&str>,
) -> Result<(String, Option<Loaded>), Failure> {
    let named = |loaded: Loaded| (format!("{} of {}", loaded.plan.host, loaded.name), Some(loaded));
    let (mut name, mut policy) = match operand {
        Operand::Kernel => ("the kernel".to_owned(), None),
        Operand::Others => {
            let (policy, missing) = others(place.machine, place.host)?;
            (without(missing, "the rules of others in the kernel", "rule"), Some(policy))
        }
        Operand::Host(host) => named(load(place.policy, Some(host))?),
        Operand::Path(path, host) if LISTS.iter().any(|it| path.ends_with(it)) => {
            let host = host.as_deref().or(place.host).unwrap_or(exported::NOBODY);
            let text = exported::file(Path::new(path))?;
            if whole_plan::is_plan(&text) {
                return of_plan(path, &text);
            }
            let lists = exported::from_lists(path, &text, host, Direction::Inbound)?;
            let sources = vec![Source::new(path, &lists.policy)];
            let name = without(lists.not_taken.len(), &format!("the lists of {path}"), "entry");
            (name, Some(loaded(path, sources, Some(host))?))
        }
        Operand::Path(path, host) => named(load(Path::new(path), host.as_deref().or(place.host))?),
        Operand::Committed => {
            let mut sources = super::committed::sources(place.policy)?;
            sources.extend(of_places(place.policy)?);
            let name = format!("{} as committed", place.policy.display());
            named(loaded(&name, sources, place.host)?)
        }
    };
    if let (Some(posture), Some(policy)) = (posture, &mut policy) {
        policy.in_posture(posture)?;
        name.push_str(&format!(
            " in {}",
            match posture {
                NO_POSTURE => "no posture".to_owned(),
                posture => format!("posture {posture}"),
            }
        ));
    }
    Ok((name, policy))
}

/// The policy that means what a plan does that was written down.
fn of_plan(path: &str, text: &str) -> Result<(String, Option<Loaded>), Failure> {
    let plan = whole_plan::from_plan(path, text)?;
    let sources = vec![Source::new(path, &plan.policy)];
    let name = format!("the plan of {} in {path}", plan.host);
    Ok((name, Some(loaded(path, sources, Some(&plan.host))?)))
}

/// How the names of files end in which access control lists are, or plans.
const LISTS: [&str; 2] = [".json", ".xml"];

/// A name, and how much is not said of what has it.
fn without(missing: usize, name: &str, what: &str) -> String {
    match missing {
        0 => name.to_owned(),
        1 => format!("{name}, without the {what} that no policy says"),
        _ => format!("{name}, without the {missing} that no policy says"),
    }
}

/// The differences between a policy and the rules in the kernel.
fn with_kernel(
    place: &Place<'_>,
    policy: &Loaded,
    kernel_first: bool,
    all: bool,
) -> Result<Effects, Failure> {
    let Some((snapshot, known)) = beside::rules(place.machine, place.home, policy)? else {
        return Err(Failure::System {
            message: "no rules of ours are in the kernel".into(),
            help: vec!["put the policy's there with `tipstaff enforce`".into()],
        });
    };
    if known {
        return Ok(Effects { changes_known: true, ..Effects::default() });
    }
    let mut atlas = atlas(all);
    let meanings = Meanings::of(&mut atlas, policy, &snapshot.program.as_of(policy.now));
    Ok(differences(&mut atlas, policy, &meanings, kernel_first, all))
}

/// What changes from the rules of a kernel to a policy.
pub(crate) struct FromKernel {
    /// For packets: all of it, or the first changes exactly and how many more there are.
    pub effects: Effects,
    /// The decisions that take other packets then, or do something else with them; `None` if that could not be
    /// worked out.
    pub decisions: Option<BTreeSet<RuleId>>,
}

/// What changes from the rules of a kernel to a policy. `put_there` is the policy for which the kernel was given
/// them, if that is known.
pub(crate) fn from_kernel(
    policy: &Loaded,
    found: &RuleProgram,
    put_there: impl FnOnce() -> Option<Loaded>,
    all: bool,
) -> FromKernel {
    // From one policy to another only what is edited matters, however long they are.
    let before = if beside::is_long(policy) { put_there() } else { None };
    if let Some(before) = &before
        && let Some(changes) = from_policy(before, policy, all)
    {
        return changes;
    }
    let found = found.as_of(policy.now);
    let drifts = program::compare(&policy.program().as_of(policy.now), &found);
    if !drifts.iter().any(Drift::is_of_rules) {
        // What has the form that it was given means what it was given for.
        let effects = Effects { changes_known: true, ..Effects::default() };
        return FromKernel { effects, decisions: Some(BTreeSet::new()) };
    }
    let mut atlas = atlas(all);
    let meanings = match before {
        Some(before) => {
            let [meant, found] = atlas.plans(&Threads, [&policy.plan, &before.plan]);
            Meanings { meant, found }
        }
        None => Meanings::of(&mut atlas, policy, &found),
    };
    let decisions = (!atlas.is_exhausted()).then(|| changed(&atlas, &meanings));
    let effects = differences(&mut atlas, policy, &meanings, true, all);
    FromKernel { effects, decisions }
}

/// What changes from one policy to another; `None` if they differ in too much to be told line by line.
fn from_policy(before: &Loaded, after: &Loaded, all: bool) -> Option<FromKernel> {
    let likely = |direction| likely_packet(direction, &after.plan);
    let mut noticed = analysis::compare_decisions(&Threads, [&before.plan, &after.plan], likely)?;
    let kind = |it: &analysis::Change| effect::kind(it.before.act, it.after.act);
    noticed.changes.sort_by_key(|it| effect::rank(kind(it)));
    let kinds: Vec<say::Effect> = noticed.changes.iter().map(kind).collect();
    if !all {
        noticed.changes.truncate(TOLD);
    }
    // Where something stood in a text that is not there any more helps nobody.
    let written = (&after.policy, &after.plan);
    let changes = effect::in_words(&noticed.changes, written, written);
    let more_changes = kinds.len() - changes.len();
    let effects = Effects { changes, more_changes, changes_known: true, kinds };
    Some(FromKernel { effects, decisions: Some(noticed.decisions) })
}

fn atlas(all: bool) -> Atlas {
    if all { Atlas::new() } else { Atlas::within(NODES) }
}

/// What a policy means, and what the rules of a kernel do.
struct Meanings {
    meant: Meaning,
    found: Meaning,
}

impl Meanings {
    /// `found` is what is left of the kernel's rules by now.
    fn of(atlas: &mut Atlas, policy: &Loaded, found: &RuleProgram) -> Self {
        Self { meant: atlas.plan(&policy.plan), found: atlas.program(found) }
    }
}

/// The decisions that take other packets by the policy, or do something else with them. What a default
/// takes is what rules leave to it, so it has changed only if it does something else.
fn changed(atlas: &Atlas, meanings: &Meanings) -> BTreeSet<RuleId> {
    let mut changed = BTreeSet::new();
    for (_, old, new) in atlas.fate_pairs(&meanings.found, &meanings.meant) {
        let same = old.by() == new.by();
        let ids = old.by().into_iter().chain(new.by());
        changed.extend(ids.filter(|id| same || id.kind != PlanKind::Default).cloned());
    }
    changed
}

fn differences(
    atlas: &mut Atlas,
    policy: &Loaded,
    Meanings { meant, found }: &Meanings,
    kernel_first: bool,
    all: bool,
) -> Effects {
    let (first, second) = if kernel_first { (found, meant) } else { (meant, found) };
    let likely = |direction| likely_packet(direction, &policy.plan);
    let mut pairs = atlas.fate_pairs(first, second);
    pairs.retain(|it| !it.1.fares_like(it.2));
    pairs.sort_by_key(|it| effect::rank(kind(it.1, it.2)));
    let kinds: Vec<say::Effect> = pairs.iter().map(|it| kind(it.1, it.2)).collect();
    if !all {
        pairs.truncate(TOLD);
    }
    let pairs: HashSet<(Direction, Fate, Fate)> =
        pairs.into_iter().map(|(direction, a, b)| (direction, a.clone(), b.clone())).collect();
    let wanted = |direction, a: &Fate, b: &Fate| pairs.contains(&(direction, a.clone(), b.clone()));
    let mut changes = Vec::new();
    for difference in atlas.differences_of(first, second, wanted) {
        let direction = difference.direction;
        let words = Words::of_all(&policy.policy, &policy.plan, &policy.plan, direction);
        let pieces = atlas.pieces(&difference.region, PARTS).unwrap_or_default();
        let regions = words.pieces(&pieces);
        changes.push(ChangeWords {
            told: told(&pieces, &regions, &words),
            kind: kind(&difference.first, &difference.second),
            direction: direction.into(),
            before: side_words(&difference.first, &policy.plan),
            after: side_words(&difference.second, &policy.plan),
            regions,
            rest: false,
            witness: atlas
                .example(&difference.region, &likely(direction))
                .as_ref()
                .map(PacketWords::of),
        });
    }
    if atlas.is_exhausted() {
        return Effects { changes_known: false, ..Effects::default() };
    }
    effect::arrange(&mut changes);
    let more_changes = kinds.len() - changes.len();
    Effects { changes, more_changes, changes_known: true, kinds }
}

fn rate(fate: &Fate) -> Option<Rate> {
    match fate {
        Fate::Within { rate, .. } => Some(*rate),
        _ => None,
    }
}

fn side_words(fate: &Fate, plan: &HostPlan) -> SideWords {
    let nobody = RuleId::rule("nothing");
    SideWords {
        verdict: fate.verdict().map_or(say::Word::Unknown, Into::into),
        rate: rate(fate).map(|rate| rate.to_string()),
        by: By::of(fate.by().unwrap_or(&nobody), plan),
    }
}

fn kind(before: &Fate, after: &Fate) -> say::Effect {
    let passes = |fate: &Fate| fate.verdict() == Some(Verdict::Allow);
    match (passes(before), passes(after)) {
        (false, true) => say::Effect::Opens,
        (true, false) => say::Effect::Closes,
        (true, true) if rate(after).is_some() => say::Effect::Limits,
        (true, true) => say::Effect::Unlimits,
        (false, false) if after.verdict() == Some(Verdict::Reject) => say::Effect::Answers,
        (false, false) => say::Effect::Silences,
    }
}
