//! What is wrong with programs and users that rules name, as whole sentences.

use tipstaff_linux::programs::{FileKind, NamedUser, ProgramFile};

/// What is wrong with a user.
pub(super) fn of_user(user: &NamedUser) -> Option<String> {
    let name = &user.name;
    match user.number {
        _ if user.recognised => None,
        None => Some(format!("no user {name} is known here, and rules for {name} match nothing")),
        Some(number) => Some(format!(
            "user {name} has the number {number} now, and had another or none when the rules were \
             enforced; enforce again, or `tipstaff programs --refresh`"
        )),
    }
}

/// What is wrong with a program.
pub(super) fn of_program(file: &ProgramFile) -> Vec<String> {
    let path = &file.path;
    let mut found = Vec::new();
    match &file.kind {
        FileKind::Missing => found.push(format!("there is no program at {path}")),
        FileKind::NotExecutable => found.push(format!("{path} may not be executed")),
        FileKind::Script { interpreter } => found.push(format!(
            "{path} is a script: its sockets are those of {interpreter}, and rules for it match \
             nothing"
        )),
        FileKind::Program if !file.recognised => found.push(format!(
            "{path} is another file than when the rules were enforced, and is not recognised; \
             enforce again, or `tipstaff programs --refresh`"
        )),
        FileKind::Program => {}
    }
    let old: Vec<_> = file.processes.iter().filter(|it| it.outdated).collect();
    if !old.is_empty() {
        let pids: Vec<String> = old.iter().map(|it| it.pid.to_string()).collect();
        let known = if old.iter().all(|it| it.recognised) {
            "it is recognised until it ends"
        } else {
            "new sockets of it are not recognised"
        };
        let pids = pids.join(", ");
        found.push(format!("process {pids} still runs the file that {path} was before; {known}"));
    }
    found
}
