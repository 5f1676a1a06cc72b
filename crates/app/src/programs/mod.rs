//! The programs that rules name: the files they are, and the processes that run them.

mod again;
mod trouble;

use super::{Failure, Loaded};
use crate::Outcome;

use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_linux::programs::{self, Demand, FileKind, NamedUser, ProgramFile, Standings};
use tipstaff_linux::ruleset::{self, Marks};
use tipstaff_linux::{LinuxError, Machine, NetlinkSocket};
use trouble::{of_program, of_user};

pub use again::refresh;
pub(crate) use again::refresh_if_stale;

/// Loads rules by `load`, with the programs that they name recognised; `before` are those of the
/// rules in force. Gives what is not recognised of sockets, too.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses; it then holds and recognises what it did before.
pub fn recognised<T>(
    policy: &Loaded,
    before: &Marks,
    load: impl FnOnce(&Marks) -> Result<T, LinuxError>,
) -> Result<(T, Vec<String>), LinuxError> {
    let demand = Demand::of(&policy.plan, policy.program());
    let prepared = programs::prepare(&demand, before)?;
    match load(prepared.marks()) {
        Ok(loaded) => {
            let mut without = prepared.without();
            // The new rules are in force, and all that they name is recognised: no failure.
            if let Err(error) = prepared.settle() {
                without.push(format!(
                    "what only earlier rules named may still be recognised: {error}"
                ));
            }
            Ok((loaded, without))
        }
        Err(error) => {
            prepared.undo();
            Err(error)
        }
    }
}

/// Loads a policy's rules in place of whatever is there.
///
/// # Errors
/// As for [`recognised`].
pub fn load(kernel: &mut NetlinkSocket, policy: &Loaded) -> Result<(), LinuxError> {
    let before = ruleset::read(kernel)?.map(|it| it.marks).unwrap_or_default();
    let (host, program) = (&policy.plan.host, policy.program());
    recognised(policy, &before, |marks| ruleset::go_to(kernel, host, program, marks)).map(drop)
}

/// Whether the kernel recognises the programs of the rules in force as they are now.
pub(crate) fn are_known(machine: &dyn Machine, policy: &Loaded, marks: &Marks) -> bool {
    let named = !policy.program().owner_lists().is_empty();
    match machine.recognition() {
        // Who may not look may have nothing recognised either.
        Ok(None) | Err(_) => !named,
        Ok(Some(_)) if !named => false,
        Ok(Some(_)) if marks.mask != policy.plan.program_marks => false,
        Ok(Some(_)) => machine.standings(marks).is_ok_and(|it| is_up_to_date(&it)),
    }
}

fn is_up_to_date(standings: &Standings) -> bool {
    let recognition = standings.recognition.as_ref();
    recognition.is_some_and(|it| it.gone.is_empty())
        && standings.files.iter().all(|it| it.recognised || it.kind == FileKind::Missing)
        && standings.users.iter().all(|it| it.recognised || it.number.is_none())
}

/// The word for what is at a path.
pub fn word(kind: &FileKind) -> say::AtPath {
    match kind {
        FileKind::Program => say::AtPath::Program,
        FileKind::Script { .. } => say::AtPath::Script,
        FileKind::NotExecutable => say::AtPath::NotExecutable,
        FileKind::Missing => say::AtPath::Missing,
    }
}

/// How things stand with the programs and users that rules in force name.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose rules are in force; `null` if none are.
    pub host: Option<String>,
    /// Whether the kernel recognises their sockets.
    pub recognised: bool,
    /// The bits of sockets' marks that are used, such as `0xff000000`; `null` if none are.
    pub marks: Option<String>,
    /// The programs that rules name, by path.
    pub programs: Vec<Program>,
    /// The users that rules name.
    pub users: Vec<User>,
    /// What is wrong, as whole sentences.
    pub trouble: Vec<String>,
    /// What is not recognised of sockets on this kernel, as whole sentences.
    pub not_recognised: Vec<String>,
    /// Whether something was recognised anew: the rules' files had changed.
    pub refreshed: bool,
}

/// A user that rules name.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct User {
    /// The name or number by which rules name them.
    pub name: String,
    /// Their number now; `null` if the machine's list of users has no such name.
    pub number: Option<u32>,
    /// Whether the kernel recognises sockets of that number as theirs.
    pub recognised: bool,
}

/// A program that rules name.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Program {
    /// The path by which rules name it.
    pub path: String,
    /// What is there: `program`, `script`, `not-executable` or `missing`.
    pub file: say::AtPath,
    /// The program that runs it, if it is a script.
    pub interpreter: Option<String>,
    /// Whether the file that is there now is the one that the kernel recognises.
    pub recognised: bool,
    /// Other paths of rules that lead to the same file.
    pub same_as: Vec<String>,
    /// The processes that run it.
    pub processes: Vec<u32>,
    /// Those that run a file that has been replaced since they were started.
    pub outdated: Vec<u32>,
}

impl Report {
    /// Whether something is not recognised as it is now.
    pub(crate) fn is_stale(&self) -> bool {
        !self.recognised
            || self.programs.iter().any(|it| !it.recognised && it.file != say::AtPath::Missing)
            || self.users.iter().any(|it| !it.recognised && it.number.is_some())
    }

    /// Whether something is odd about one, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.trouble.is_empty() { Outcome::Fine } else { Outcome::Found }
    }
}

/// Makes the report for the calling thread's network namespace.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look.
pub fn report(machine: &dyn Machine) -> Result<Report, Failure> {
    let snapshot = machine.rules()?;
    let host = snapshot.as_ref().map(|it| it.host.clone());
    let marks = snapshot.map(|it| it.marks).unwrap_or_default();
    Ok(of(machine, host, &marks)?)
}

/// How things stand with the programs of rules.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us look.
pub fn of(
    machine: &dyn Machine,
    host: Option<String>,
    marks: &Marks,
) -> Result<Report, LinuxError> {
    let mut report = Report {
        host,
        recognised: true,
        marks: (marks.mask != 0).then(|| format!("{:#010x}", marks.mask)),
        programs: Vec::new(),
        users: Vec::new(),
        trouble: Vec::new(),
        not_recognised: Vec::new(),
        refreshed: false,
    };
    if marks.lists.is_empty() {
        if machine.recognition()?.is_some() {
            report.trouble.push(
                "sockets are still recognised, and no rule asks for it; `tipstaff release`, or \
                 enforce again"
                    .into(),
            );
        }
        return Ok(report);
    }
    let standings = machine.standings(marks)?;
    match &standings.recognition {
        None => {
            report.recognised = false;
            report.trouble.push(
                "rules name programs or users, and nothing tells the kernel whose a new socket is: such \
                 rules match nothing that begins now; enforce again"
                    .into(),
            );
        }
        Some(found) => {
            if !found.gone.is_empty() {
                report.recognised = false;
                let hooks = found.gone.join(", ");
                report.trouble.push(format!(
                    "somebody has taken away what recognises sockets ({hooks}); enforce again"
                ));
            }
            report.not_recognised.clone_from(&found.without);
        }
    }
    for file in &standings.files {
        report.trouble.extend(of_program(file));
        report.programs.push(program(file));
    }
    for user in &standings.users {
        report.trouble.extend(of_user(user));
        let NamedUser { name, number, recognised } = user.clone();
        report.users.push(User { name, number, recognised });
    }
    Ok(report)
}

fn program(file: &ProgramFile) -> Program {
    let outdated = file.processes.iter().filter(|it| it.outdated);
    Program {
        path: file.path.clone(),
        file: word(&file.kind),
        interpreter: match &file.kind {
            FileKind::Script { interpreter } => Some(interpreter.clone()),
            _ => None,
        },
        recognised: file.recognised,
        same_as: file.same_as.clone(),
        processes: file.processes.iter().map(|it| it.pid).collect(),
        outdated: outdated.map(|it| it.pid).collect(),
    }
}
