//! From a path to a plan.

use super::Failure;
use super::store::snapshots;
use super::threads::Threads;
use super::wanted::Wanted;
use std::collections::BTreeSet;
use std::fs::{self, File, Metadata};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::OnceLock;
use std::time::SystemTime;
use tipstaff_core::plan::{Decision, HostPlan, Idle, Placed, resolve, resolve_by};
use tipstaff_core::policy::{Diagnostic, Policy, Source, Time, read_by};
use tipstaff_core::program::RuleProgram;
use tipstaff_core::space::Direction;
use tipstaff_linux::{Here, LinuxError, Machine};

/// A policy that has been read, and what it means for the host in question.
#[derive(Clone, Debug)]
pub struct Loaded {
    /// The path or name it was asked for by.
    pub name: String,
    /// The texts that it was read from.
    pub sources: Vec<Source>,
    /// What all of them together say.
    pub policy: Policy,
    /// What it means for the host.
    pub plan: HostPlan,
    /// The moment for which that was worked out.
    pub now: Time,
    /// Whether its rules for programs are left out.
    pub without_programs: bool,
    /// Whether the clock is plainly wrong: then what is allowed for a time only is over.
    pub clock_is_wrong: bool,
    /// How the interfaces stand that its rules name, once it is worked out for this very machine.
    pub placed: Vec<Placed>,
    /// What holds once its posture is over, if that has an end.
    pub(crate) later: Option<Box<HostPlan>>,
    /// Which posture it is to be worked out for.
    pub(crate) wanted: Wanted,
    /// What the kernel is to be told, once that was asked.
    pub(crate) lowered: OnceLock<RuleProgram>,
}

impl Loaded {
    /// Leaves out its rules for programs.
    pub fn leave_out_programs(&mut self) {
        self.each_plan(HostPlan::leave_out_programs);
        self.without_programs = true;
    }

    /// Takes what is allowed for a time only for over, if the clock shows a time before one that has
    /// surely been.
    pub(crate) fn not_before(&mut self, been: Time) {
        if self.now < been {
            self.each_plan(HostPlan::end_what_is_allowed_for_a_time);
            self.clock_is_wrong = true;
        }
    }

    /// Forgets all that is not needed to load it and to say where it was refused: half of the memory. Rules
    /// for programs may still have to be left out; with such ones nothing is forgotten.
    pub(crate) fn keep_only_what_loading_needs(&mut self) {
        if !self.program().owner_lists().is_empty() {
            return;
        }
        (self.policy.places, self.policy.services) = (Vec::new(), Vec::new());
        (self.policy.bundles, self.policy.hosts) = (Vec::new(), Vec::new());
        self.later = None;
        for decision in self.plan.chains.iter_mut().flat_map(|it| &mut it.decisions) {
            decision.conditions = Vec::new();
        }
    }

    /// Works it out for this very machine, whose interfaces may have other names than the policy calls
    /// them by. Until then it speaks of them as it is written.
    ///
    /// # Errors
    /// [`LinuxError`] if they cannot be listed.
    pub fn place(&mut self, machine: &dyn Machine) -> Result<(), LinuxError> {
        self.as_taken_here(machine);
        self.at_the_moment(machine)?;
        let apart = |it: &HostPlan| {
            Direction::ALL.iter().any(|&direction| !it.interfaces_told_apart(direction).is_empty())
        };
        if apart(&self.plan) || self.later.as_deref().is_some_and(apart) {
            let links = machine.links_seen()?;
            let mut placed = Vec::new();
            self.each_plan(|plan| placed.extend(plan.place(&links)));
            let mut seen = BTreeSet::new();
            placed.retain(|it: &Placed| seen.insert(it.called.clone()));
            self.placed = placed;
        }
        Ok(())
    }

    /// Works it out for the addresses that this very machine has now, if the policy leaves them out.
    fn at_the_moment(&mut self, machine: &dyn Machine) -> Result<(), LinuxError> {
        if self.plan.moving {
            let links = machine.links()?;
            let all: Vec<_> = links.iter().flat_map(|it| it.addresses.clone()).collect();
            let far_ends: Vec<_> = links.into_iter().flat_map(|it| it.far_ends).collect();
            self.each_plan(|plan| plan.at_the_moment(&all, &far_ends));
        }
        Ok(())
    }

    /// Whether what the kernel is told of it depends on what this machine's links are called, or on which
    /// networks they are on.
    pub(crate) fn follows(&self) -> bool {
        !self.moving_names().is_empty() || !self.program().asks_for_links().is_empty()
    }

    /// The names of interfaces in it that depend on which this machine has.
    pub(crate) fn moving_names(&self) -> Vec<String> {
        self.placed.iter().flat_map(Placed::names).collect()
    }

    /// The rules that are left out since they name programs.
    pub fn left_out(&self) -> Vec<String> {
        let left_out = |it: &&Decision| it.idle == Some(Idle::WithoutPrograms);
        let decisions = self.plan.decisions().map(|it| it.1);
        decisions.filter(left_out).map(|it| it.id.to_string()).collect()
    }
}

/// Larger files are not policies.
const LARGEST: u64 = 256 * 1024 * 1024;
/// Files of a folder are read if their names end so.
const EXTENSION: &str = "toml";

/// Reads the policy at `path`, a file or a folder of files, and works it out for a host: the named
/// one, or this machine, or the only one there is.
///
/// # Errors
/// [`Failure`] if a file cannot be read or is not a policy, or the host is not in it.
pub fn load(path: &Path, host: Option<&str>) -> Result<Loaded, Failure> {
    let mut policy = loaded(&path.display().to_string(), sources(path)?, host)?;
    // Whatever is asked of this very machine is asked of it as it is now. If it does not tell, its
    // addresses are as unknown as another machine's.
    if policy.plan.moving && (host.is_none() || host == Some(&name_of_this_machine())) {
        let _ = policy.at_the_moment(&Here);
    }
    Ok(policy)
}

/// Like [`load`], for commands that hold the policy against this very machine.
///
/// # Errors
/// As for [`load`], or if the machine's interfaces cannot be listed.
pub fn load_here(
    machine: &dyn Machine,
    path: &Path,
    host: Option<&str>,
) -> Result<Loaded, Failure> {
    let mut policy = load(path, host)?;
    policy.place(machine)?;
    Ok(policy)
}

/// Reads the policy at `path`, whatever hosts it has, and the time.
///
/// # Errors
/// [`Failure`] if a file cannot be read or is not a policy.
pub fn load_all(path: &Path) -> Result<(Vec<Source>, Policy, Time), Failure> {
    let sources = sources(path)?;
    match read_by(&Threads, &sources) {
        Ok(policy) => Ok((policy.sources.clone(), policy, now())),
        Err(problems) => Err(Failure::Input { sources, problems }),
    }
}

/// The texts of the policy at `path`, and what its places held when their files were read last.
fn sources(path: &Path) -> Result<Vec<Source>, Failure> {
    let files = read_path(path)?.into_iter().chain(read_snapshots(path)?);
    Ok(files.map(|file| file.0).collect())
}

/// Like [`load`], for commands that change the kernel: refuses a file that others can rewrite,
/// since whoever can do that would decide what the kernel does.
///
/// # Errors
/// As for [`load`].
pub fn load_for_kernel(
    machine: &dyn Machine,
    path: &Path,
    host: Option<&str>,
) -> Result<Loaded, Failure> {
    let mut policy = load_unplaced(path, host)?;
    policy.place(machine)?;
    policy.must_have_what_is_taken()?;
    Ok(policy)
}

/// Like [`load_for_kernel`], in no posture, whatever is in force.
///
/// # Errors
/// As for [`load`].
pub fn load_without_posture(
    machine: &dyn Machine,
    path: &Path,
    host: Option<&str>,
) -> Result<Loaded, Failure> {
    let mut policy = load_for_posture(path, host)?;
    policy.place(machine)?;
    Ok(policy)
}

/// Works a policy out for this very machine from texts that somebody vouches for, written at that time.
///
/// # Errors
/// As for [`load`].
pub(crate) fn load_vouched(
    machine: &dyn Machine,
    name: &str,
    sources: Vec<Source>,
    host: &str,
    at: Time,
) -> Result<Loaded, Failure> {
    let mut policy = loaded(name, sources, Some(host))?;
    policy.not_before(Time::from_seconds(at.seconds() - CLOCKS_DIFFER));
    policy.place(machine)?;
    policy.must_have_what_is_taken()?;
    Ok(policy)
}

/// Likewise, still to be worked out for this very machine, in whichever posture.
///
/// # Errors
/// As for [`load`].
pub(crate) fn load_for_posture(path: &Path, host: Option<&str>) -> Result<Loaded, Failure> {
    let mut policy = load_unplaced(path, host)?;
    policy.in_no_posture();
    Ok(policy)
}

/// Reads what only root and the caller can change.
fn load_unplaced(path: &Path, host: Option<&str>) -> Result<Loaded, Failure> {
    let mut files = read_path(path)?;
    let of_places = read_snapshots(path)?;
    let folders = [path.to_owned(), snapshots::folder(path)];
    for folder in &folders[..if of_places.is_empty() { 1 } else { 2 }] {
        if let Ok(metadata) = fs::metadata(folder)
            && metadata.is_dir()
        {
            only_ours(&folder.display().to_string(), &metadata)?;
        }
    }
    files.extend(of_places);
    for (source, metadata) in &files {
        only_ours(&source.name, metadata)?;
    }
    // A file that was changed later than it is now: the clock is wrong.
    let changed = files.iter().map(|file| file.1.mtime()).max().unwrap_or_default();
    let sources = files.into_iter().map(|file| file.0).collect();
    let mut policy = loaded(&path.display().to_string(), sources, host)?;
    policy.not_before(Time::from_seconds(changed - CLOCKS_DIFFER));
    Ok(policy)
}

/// So many seconds the clocks of this machine and of who wrote a file may differ.
const CLOCKS_DIFFER: i64 = 60;

/// Refuses what others than root and the caller can change.
pub(crate) fn only_ours(shown: &str, metadata: &Metadata) -> Result<(), Failure> {
    let owner = metadata.uid();
    if owner != 0 && owner != rustix::process::geteuid().as_raw() {
        let message = format!("{shown} belongs to user {owner}, who could change it at will");
        return Err(Failure::usage(message, "it must belong to root or to you"));
    }
    if metadata.mode() & 0o022 != 0 {
        let mode = metadata.mode() & 0o777;
        let message = format!("others may write {shown} (mode {mode:03o})");
        return Err(Failure::usage(message, format!("forbid it: chmod go-w {shown}")));
    }
    Ok(())
}

fn unreadable(path: &Path, error: &std::io::Error) -> Failure {
    let message = format!("cannot read the policy {}: {error}", path.display());
    let help = match error.kind() {
        ErrorKind::NotFound => NO_POLICY,
        _ => "check that you may read it",
    };
    Failure::usage(message, help)
}

/// Reads a file, or the files of a folder in the order of their names.
fn read_path(path: &Path) -> Result<Vec<(Source, Metadata)>, Failure> {
    if !path.is_dir() {
        return Ok(vec![read_file(path)?]);
    }
    let failed = |error| unreadable(path, &error);
    let mut files = Vec::new();
    for entry in fs::read_dir(path).map_err(failed)? {
        let file = entry.map_err(failed)?.path();
        // What editors leave behind begins with a dot.
        let hidden = file.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
        if !hidden && file.extension().is_some_and(|it| it == EXTENSION) {
            files.push(file);
        }
    }
    files.sort();
    if files.is_empty() {
        let message = format!("the folder {} has no policy in it", path.display());
        return Err(Failure::usage(message, format!("its files are named like hosts.{EXTENSION}")));
    }
    files.iter().map(|file| read_file(file)).collect()
}

/// Reads what the policy's places held when their files were read last, in the order of their names.
fn read_snapshots(path: &Path) -> Result<Vec<(Source, Metadata)>, Failure> {
    let mut found = Vec::new();
    for (place, file) in snapshots::kept(path)? {
        let (source, metadata) = read_file(&file)?;
        found.push((Source::of_place(&place, &source.name, &source.text), metadata));
    }
    Ok(found)
}

/// What the policy's places held when their files were read last.
///
/// # Errors
/// [`Failure`] if that cannot be read.
pub(crate) fn of_places(path: &Path) -> Result<Vec<Source>, Failure> {
    Ok(read_snapshots(path)?.into_iter().map(|it| it.0).collect())
}

/// The texts of the policy itself, without what its places held.
///
/// # Errors
/// [`Failure`] if they cannot be read.
pub(crate) fn written(path: &Path) -> Result<Vec<Source>, Failure> {
    Ok(read_path(path)?.into_iter().map(|it| it.0).collect())
}

/// Reads a file, and who may write that very file: the name could lead elsewhere a moment later.
fn read_file(path: &Path) -> Result<(Source, Metadata), Failure> {
    let failed = |error: std::io::Error| unreadable(path, &error);
    let mut file = File::open(path).map_err(failed)?;
    let metadata = file.metadata().map_err(failed)?;
    let mut bytes = Vec::new();
    // A device or a pipe has no size to look at beforehand.
    let read = file.by_ref().take(LARGEST + 1).read_to_end(&mut bytes).map_err(failed)?;
    if read as u64 > LARGEST {
        let message = format!("{} is too large to be a policy", path.display());
        return Err(Failure::usage(message, "a policy has at most 256 MiB"));
    }
    let name = path.display().to_string();
    match String::from_utf8(bytes) {
        Ok(text) => Ok((Source::new(&name, &text), metadata)),
        Err(error) => {
            let valid = error.utf8_error().valid_up_to();
            let text = String::from_utf8_lossy(error.as_bytes()).into_owned();
            let source = Source::new(&name, &text);
            let origin = source.origin(valid..valid + '\u{fffd}'.len_utf8());
            let problem = Diagnostic::error("not-text", "the file is not UTF-8 text", origin)
                .expected("this byte cannot be read as text");
            Err(Failure::Input { sources: vec![source], problems: vec![problem] })
        }
    }
}

/// Reads a policy from its texts.
///
/// # Errors
/// [`Failure`] if it is not a policy, or the host is not in it.
pub fn loaded(name: &str, sources: Vec<Source>, host: Option<&str>) -> Result<Loaded, Failure> {
    let policy = loaded_unread(name, sources.clone(), host)?;
    let problems = policy.policy.not_read_yet();
    if problems.is_empty() { Ok(policy) } else { Err(Failure::Input { sources, problems }) }
}

/// Likewise, with places whose files have not been read yet as empty as they seem.
///
/// # Errors
/// As for [`loaded`].
pub(crate) fn loaded_unread(
    name: &str,
    sources: Vec<Source>,
    host: Option<&str>,
) -> Result<Loaded, Failure> {
    let policy = match read_by(&Threads, &sources) {
        Ok(policy) => policy,
        Err(problems) => return Err(Failure::Input { sources, problems }),
    };
    let (now, sources) = (now(), policy.sources.clone());
    let plan = resolve_by(&Threads, &policy, &host_name(&policy, host, now)?, now)?;
    let name = name.to_owned();
    Ok(Loaded {
        name,
        sources,
        policy,
        plan,
        lowered: OnceLock::new(),
        now,
        without_programs: false,
        clock_is_wrong: false,
        placed: Vec::new(),
        later: None,
        wanted: Wanted::InForce,
    })
}

/// The host that is meant: the named one, the only one, or this machine.
///
/// # Errors
/// [`Failure`] if the policy does not have it.
pub(crate) fn host_name(policy: &Policy, host: Option<&str>, now: Time) -> Result<String, Failure> {
    Ok(match (host, &policy.hosts[..]) {
        (Some(name), _) => name.to_owned(),
        (None, [only]) => only.name.clone(),
        (None, _) => this_machine(policy, now)?.host,
    })
}

/// What to do where no policy is.
pub(crate) const NO_POLICY: &str = "`tipstaff draft` writes a first one from what listens on this machine; \
                                    --policy PATH or TIPSTAFF_POLICY names one that is elsewhere";

pub(crate) fn now() -> Time {
    // A clock before 1970 or beyond all times is as good as one that begins there.
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    Time::from_seconds(i64::try_from(since.as_secs()).unwrap_or_default())
}

/// The name of this machine, up to its first dot.
pub(crate) fn name_of_this_machine() -> String {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    name.split('.').next().unwrap_or_default().to_lowercase()
}

fn this_machine(policy: &Policy, now: Time) -> Result<HostPlan, Failure> {
    let short = name_of_this_machine();
    resolve(policy, &short, now).map_err(|unknown| {
        if !unknown.several.is_empty() {
            return unknown.into();
        }
        let message = format!(
            "the policy covers {} hosts, and none is named like this machine, `{}`",
            unknown.known.len(),
            short.escape_debug()
        );
        Failure::usage(message, format!("choose with --host: {}", unknown.known.join(", ")))
    })
}
