//! From a path to a plan.

use super::Failure;
use std::fs::{File, Metadata};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Diagnostic, Policy, Source, read};
use tipstaff_core::program::{RuleProgram, lower};

/// A policy that has been read, and what it means for the host in question.
#[derive(Debug)]
pub struct Loaded {
    /// The text.
    pub source: Source,
    /// What it says.
    pub policy: Policy,
    /// What it means for the host.
    pub plan: HostPlan,
    /// What the kernel is to be told.
    pub program: RuleProgram,
}

/// Larger files are not policies.
const LARGEST: u64 = 256 * 1024 * 1024;

/// Reads the policy at `path` and works it out for a host: the named one, or this machine, or
/// the only one there is.
///
/// # Errors
/// [`Failure`] if the file cannot be read or is not a policy, or the host is not in it.
pub fn load(path: &Path, host: Option<&str>) -> Result<Loaded, Failure> {
    loaded(read_file(path)?.0, host)
}

/// Like [`load`], for commands that change the kernel: refuses a file that others can rewrite,
/// since whoever can do that would decide what the kernel does.
///
/// # Errors
/// As for [`load`].
pub fn load_for_kernel(path: &Path, host: Option<&str>) -> Result<Loaded, Failure> {
    let (source, metadata) = read_file(path)?;
    let shown = path.display();
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
    loaded(source, host)
}

/// Reads a file, and who may write that very file: the name could lead elsewhere a moment later.
fn read_file(path: &Path) -> Result<(Source, Metadata), Failure> {
    let unreadable = |error: std::io::Error| {
        let message = format!("cannot read the policy {}: {error}", path.display());
        let help = match error.kind() {
            ErrorKind::NotFound => "name a policy with --policy PATH or TIPSTAFF_POLICY",
            ErrorKind::IsADirectory => "name the policy file itself",
            _ => "check that you may read it",
        };
        Failure::usage(message, help)
    };
    let mut file = File::open(path).map_err(unreadable)?;
    let metadata = file.metadata().map_err(unreadable)?;
    let mut bytes = Vec::new();
    // A device or a pipe has no size to look at beforehand.
    let read = file.by_ref().take(LARGEST + 1).read_to_end(&mut bytes).map_err(unreadable)?;
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
            Err(Failure::Input { source, problems: vec![problem] })
        }
    }
}

/// Reads a policy from its text.
///
/// # Errors
/// [`Failure`] if it is not a policy, or the host is not in it.
pub fn loaded(source: Source, host: Option<&str>) -> Result<Loaded, Failure> {
    let policy = match read(&source) {
        Ok(policy) => policy,
        Err(problems) => return Err(Failure::Input { source, problems }),
    };
    let plan = match (host, &policy.hosts[..]) {
        (Some(name), _) => resolve(&policy, name)?,
        (None, [only]) => resolve(&policy, &only.name)?,
        (None, _) => this_machine(&policy)?,
    };
    let program = lower(&plan);
    Ok(Loaded { source, policy, plan, program })
}

fn this_machine(policy: &Policy) -> Result<HostPlan, Failure> {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let short = name.split('.').next().unwrap_or_default().to_lowercase();
    resolve(policy, &short).map_err(|unknown| {
        let message = format!(
            "the policy covers {} hosts, and none is named like this machine, `{}`",
            unknown.known.len(),
            short.escape_debug()
        );
        Failure::usage(message, format!("choose with --host: {}", unknown.known.join(", ")))
    })
}
