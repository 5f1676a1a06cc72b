//! Which program a socket belongs to, by the name that rules have for it.

use crate::Loaded;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::sockets::{Listener, Owner, PortProtocol};
use tipstaff_linux::{LinuxError, Machine};

/// What the system says behind the path of a file that is not there any more.
const REMOVED: &str = " (deleted)";

/// By which names rules know the files that processes run.
#[derive(Debug)]
pub(crate) struct Names(HashMap<PathBuf, String>);

impl Names {
    /// Those of a policy's rules. Paths may be links.
    pub(crate) fn of(machine: &dyn Machine, policy: &Loaded) -> Self {
        let lists = policy.plan.decisions().flat_map(|it| &it.1.conditions);
        Self::of_paths(machine, lists.flat_map(|it| it.programs.iter().cloned()))
    }

    fn of_paths(machine: &dyn Machine, paths: impl Iterator<Item = String>) -> Self {
        let mut names = HashMap::new();
        for path in paths {
            let path = &path;
            names.insert(PathBuf::from(path), path.clone());
            if let Some(real) = machine.real_path(path) {
                names.entry(real).or_insert_with(|| path.clone());
            }
        }
        Self(names)
    }

    /// Whether rules name that program.
    pub(crate) fn is_named(&self, program: &str) -> bool {
        self.0.values().any(|name| name == program)
    }

    /// The program of a process, by the name that rules have for it if they do.
    pub(crate) fn known(&self, owner: Option<&Owner>) -> Option<String> {
        let file = owner?.program.as_ref()?;
        let text = file.to_string_lossy();
        let text = text.strip_suffix(REMOVED).unwrap_or(&text);
        Some(self.0.get(Path::new(text)).cloned().unwrap_or_else(|| text.to_owned()))
    }
}

/// The programs that listen on this machine, where rules name any: else nobody needs to know.
#[derive(Debug)]
pub(crate) struct Receivers {
    /// By which names rules know them.
    pub names: Names,
    listeners: Vec<Listener>,
}

impl Receivers {
    /// Looks.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us.
    pub(crate) fn look(machine: &dyn Machine, policy: &Loaded) -> Result<Self, LinuxError> {
        Self::with(machine, Names::of(machine, policy))
    }

    /// Looks, for rules that are in force.
    ///
    /// # Errors
    /// As for [`Self::look`].
    pub(crate) fn of_rules(machine: &dyn Machine, rules: &RuleProgram) -> Result<Self, LinuxError> {
        let paths = rules.program_lists().into_iter().flatten();
        Self::with(machine, Names::of_paths(machine, paths))
    }

    fn with(machine: &dyn Machine, names: Names) -> Result<Self, LinuxError> {
        let listeners = if names.0.is_empty() { Vec::new() } else { machine.receivers()? };
        Ok(Self { names, listeners })
    }

    /// The program that receives what comes to a port.
    pub(crate) fn at(&self, protocol: PortProtocol, port: u16) -> Option<String> {
        let there = |it: &&Listener| (it.protocol, it.port) == (protocol, port);
        self.names.known(self.listeners.iter().find(there)?.owner.as_ref())
    }
}
