//! Which program and user a socket belongs to, by the names that rules have for them.

use crate::Loaded;
use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::ruleset::{Marks, Whose, is_program};
use tipstaff_linux::sockets::{Listener, Owner, PortProtocol};
use tipstaff_linux::{LinuxError, Machine};

/// What the system says behind the path of a file that is not there any more.
const REMOVED: &str = " (deleted)";

/// By which names rules know the files that processes run, and the users.
#[derive(Debug)]
pub(crate) struct Names {
    programs: HashMap<PathBuf, String>,
    users: HashMap<u32, String>,
    /// The numbers by which rules in force know whose sockets are, if users are named.
    marks: Marks,
}

impl Names {
    /// Those of a policy's rules. Paths may be links.
    pub(crate) fn of(machine: &dyn Machine, policy: &Loaded) -> Self {
        let lists = policy.plan.decisions().flat_map(|it| &it.1.conditions);
        let names = lists.flat_map(|it| it.programs.iter().chain(&it.users));
        Self::of_lists(machine, names.cloned().collect())
    }

    fn of_lists(machine: &dyn Machine, names: BTreeSet<String>) -> Self {
        let (mut programs, mut users) = (HashMap::new(), HashMap::new());
        for name in names {
            if !is_program(&name) {
                // Whoever cannot be looked up owns nothing that we know of.
                if let Ok(Some(number)) = machine.user_number(&name) {
                    users.entry(number).or_insert(name);
                }
                continue;
            }
            programs.insert(PathBuf::from(&name), name.clone());
            if let Some(real) = machine.real_path(&name) {
                programs.entry(real).or_insert(name);
            }
        }
        let held = if users.is_empty() { None } else { machine.rules().ok().flatten() };
        Self { programs, users, marks: held.map(|it| it.marks).unwrap_or_default() }
    }

    /// Whose a socket is: by the process that holds it, and by the user who made it. One that was nobody's is
    /// theirs who took it over, which only its mark tells.
    pub(crate) fn whose(&self, owner: Option<&Owner>, uid: u32, mark: Option<u32>) -> Whose {
        let taken_over = || {
            let mark = mark.filter(|_| self.marks.mask != 0)?;
            let user = self.marks.whose(mark).user?;
            self.users.values().any(|it| *it == user).then_some(user)
        };
        let user = self.users.get(&uid).cloned().or_else(taken_over);
        Whose { user, program: self.known(owner) }
    }

    /// Whose a listener's socket is.
    pub(crate) fn of_listener(&self, listener: &Listener) -> Whose {
        self.whose(listener.owner.as_ref(), listener.uid, listener.mark)
    }

    /// The number of the user whose a socket is; `uid` made it.
    pub(crate) fn user_of(&self, whose: &Whose, uid: u32) -> u32 {
        let named = |user: &String| self.users.iter().find(|it| it.1 == user).map(|it| *it.0);
        whose.user.as_ref().and_then(named).unwrap_or(uid)
    }

    /// The same without a program that no rule names: what its mark should tell.
    pub(crate) fn to_be_marked(&self, whose: Whose) -> Whose {
        let program = whose.program.filter(|it| self.programs.values().any(|name| name == it));
        Whose { program, ..whose }
    }

    /// The program of a process, by the name that rules have for it if they do.
    pub(crate) fn known(&self, owner: Option<&Owner>) -> Option<String> {
        let file = owner?.program.as_ref()?;
        let text = file.to_string_lossy();
        let text = text.strip_suffix(REMOVED).unwrap_or(&text);
        Some(self.programs.get(Path::new(text)).cloned().unwrap_or_else(|| text.to_owned()))
    }
}

/// Who listens on this machine, where rules name programs or users: else nobody needs to know.
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
        let names = rules.owner_lists().into_iter().flatten().collect();
        Self::with(machine, Names::of_lists(machine, names))
    }

    fn with(machine: &dyn Machine, names: Names) -> Result<Self, LinuxError> {
        let nobody = names.programs.is_empty() && names.users.is_empty();
        let listeners = if nobody { Vec::new() } else { machine.receivers()? };
        Ok(Self { names, listeners })
    }

    /// Whose socket receives what comes to a port of an address: who waits at that very address comes
    /// ahead of who waits at all.
    pub(crate) fn at(&self, protocol: PortProtocol, end: SocketAddr) -> Whose {
        let address = end.ip().to_canonical();
        let hears = |it: &&Listener| {
            let all = it.address.is_unspecified()
                && (it.dual || it.address.is_ipv4() == address.is_ipv4());
            (it.protocol, it.port) == (protocol, end.port()) && (all || it.address == address)
        };
        let heard = || self.listeners.iter().filter(hears);
        let nearest = heard().find(|it| it.address == address).or_else(|| heard().next());
        nearest.map(|it| self.names.of_listener(it)).unwrap_or_default()
    }
}
