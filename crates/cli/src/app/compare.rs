//! `compare`: which packets two policies treat differently, or a policy and the kernel.

use super::effect::{self, ChangeWords, SideWords};
use super::region::Words;
use super::{By, Failure, Loaded, PacketWords, likely_packet, load, loaded};
use crate::exit::Exit;
use serde::Serialize;
use std::path::Path;
use tipstaff_core::meaning::{Atlas, Fate};
use tipstaff_core::plan::{HostPlan, RuleId};
use tipstaff_core::policy::{Rate, Verdict};
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::ruleset;
use tipstaff_linux::{NetlinkSocket, Protocol};

/// Regions of a difference with the kernel are listed up to this number of parts.
const PARTS: usize = 2_000;

/// The differences.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The one side.
    pub first: String,
    /// The other side.
    pub second: String,
    /// Whether no packet fares differently.
    pub equal: bool,
    /// The differences.
    pub changes: Vec<ChangeWords>,
}

impl Report {
    /// The exit code that belongs to the report.
    pub fn exit(&self) -> Exit {
        if self.equal { Exit::Fine } else { Exit::Found }
    }
}

/// A side of the comparison.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Operand {
    /// The rules in the kernel.
    Kernel,
    /// The policy as it was last committed to the version control of its folder.
    Committed,
    /// A host of the policy.
    Host(String),
    /// A policy, and a host of it.
    Path(String, Option<String>),
}

impl Operand {
    /// Reads `kernel`, `committed`, `@HOST`, `PATH` or `PATH@HOST`.
    ///
    /// # Errors
    /// Never; the form fits the argument parser.
    pub fn parse(text: &str) -> Result<Self, String> {
        Ok(match (text, text.rsplit_once('@')) {
            ("kernel", _) => Self::Kernel,
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
    /// The policy.
    pub policy: &'p Path,
    /// The host.
    pub host: Option<&'p str>,
}

/// Compares two sides; without a second one, the policy itself is it.
///
/// # Errors
/// [`Failure`] if a side cannot be read.
pub fn report(
    place: &Place<'_>,
    first: &Operand,
    second: Option<&Operand>,
) -> Result<Report, Failure> {
    let own = Operand::Path(place.policy.display().to_string(), None);
    let second = second.unwrap_or(&own);
    let (a_name, a) = side(place, first)?;
    let (b_name, b) = side(place, second)?;
    let changes = match (&a, &b) {
        (Some(a), Some(b)) => effect::changes((&a.policy, &a.plan), (&b.policy, &b.plan)),
        (None, Some(b)) => with_kernel(b, true)?,
        (Some(a), None) => with_kernel(a, false)?,
        (None, None) => Vec::new(),
    };
    Ok(Report { first: a_name, second: b_name, equal: changes.is_empty(), changes })
}

/// Compares two policies.
pub fn between(first: &Loaded, second: &Loaded) -> Report {
    let name = |loaded: &Loaded| format!("{} of {}", loaded.plan.host, loaded.name);
    let changes = effect::changes((&first.policy, &first.plan), (&second.policy, &second.plan));
    let equal = changes.is_empty();
    Report { first: name(first), second: name(second), equal, changes }
}

/// The name of a side, and its policy unless it is the kernel.
fn side(place: &Place<'_>, operand: &Operand) -> Result<(String, Option<Loaded>), Failure> {
    let named = |loaded: Loaded| (format!("{} of {}", loaded.plan.host, loaded.name), Some(loaded));
    Ok(match operand {
        Operand::Kernel => ("the kernel".to_owned(), None),
        Operand::Host(host) => named(load(place.policy, Some(host))?),
        Operand::Path(path, host) => named(load(Path::new(path), host.as_deref().or(place.host))?),
        Operand::Committed => {
            let sources = super::committed::sources(place.policy)?;
            let name = format!("{} as committed", place.policy.display());
            named(loaded(&name, sources, place.host)?)
        }
    })
}

/// The differences between a policy and the rules in the kernel.
fn with_kernel(policy: &Loaded, kernel_first: bool) -> Result<Vec<ChangeWords>, Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let Some(snapshot) = ruleset::read(&mut kernel)? else {
        return Err(Failure::System {
            message: "no rules of ours are in the kernel".into(),
            help: vec!["put the policy's there with `tipstaff enforce`".into()],
        });
    };
    Ok(differences(policy, snapshot.program, kernel_first))
}

/// What changes from the rules of a kernel to a policy.
pub fn from_kernel(policy: &Loaded, found: RuleProgram) -> Vec<ChangeWords> {
    differences(policy, found, true)
}

fn differences(policy: &Loaded, found: RuleProgram, kernel_first: bool) -> Vec<ChangeWords> {
    let mut atlas = Atlas::new();
    let (meant, found) = (atlas.plan(&policy.plan), atlas.program(&found.at(policy.now)));
    let (first, second) = if kernel_first { (&found, &meant) } else { (&meant, &found) };
    let mut changes = Vec::new();
    for difference in atlas.differences(first, second, usize::MAX) {
        let direction = difference.direction;
        let words = Words::of(&policy.policy, &policy.plan, direction);
        let pieces = atlas.pieces(&difference.region, PARTS).unwrap_or_default();
        let likely = likely_packet(direction, &policy.plan);
        changes.push(ChangeWords {
            kind: kind(&difference.first, &difference.second),
            direction: direction.as_str(),
            before: side_words(&difference.first, &policy.plan),
            after: side_words(&difference.second, &policy.plan),
            regions: words.pieces(&pieces),
            rest: false,
            witness: atlas.example(&difference.region, &likely).as_ref().map(PacketWords::of),
        });
    }
    effect::sort(&mut changes);
    changes
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
        verdict: fate.verdict().map_or("unknown", Verdict::as_str),
        rate: rate(fate).map(|rate| rate.to_string()),
        by: By::of(fate.by().unwrap_or(&nobody), plan),
    }
}

fn kind(before: &Fate, after: &Fate) -> &'static str {
    let passes = |fate: &Fate| fate.verdict() == Some(Verdict::Allow);
    match (passes(before), passes(after)) {
        (false, true) => "opens",
        (true, false) => "closes",
        (true, true) if rate(after).is_some() => "limits",
        (true, true) => "unlimits",
        (false, false) if after.verdict() == Some(Verdict::Reject) => "answers",
        (false, false) => "silences",
    }
}
