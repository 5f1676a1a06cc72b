//! What there is at the paths of programs.

use super::facts::Machine;
use super::facts::ProgramFile;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use crate::plan::{Decision, Kind};
use crate::policy::{Code, Severity};
use std::collections::BTreeSet;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::ProgramMissing,
            severity: Severity::Warning,
            meaning: "There is no file at the path that the rule names, or it may not be executed, so the \
             rule matches nothing on this machine. Often the path is mistyped or the program was \
             moved. When it appears, enforce the policy again.",
        },
        FindingKind {
            code: Code::ProgramIsScript,
            severity: Severity::Warning,
            meaning: "The rule names a script. The kernel runs the interpreter in its first line, and that \
             is the program whose sockets they are: the rule matches nothing. To name the \
             interpreter would let every script of it pass. Narrow the rule in another way, or \
             give the service a program of its own.",
        },
        FindingKind {
            code: Code::ProgramWritable,
            severity: Severity::Warning,
            meaning: "The rule trusts a program by its file, and somebody else than root can change that file, \
             put another in its place, or change a library that it has loaded: then they have what the \
             rule allows. Give the file and all folders above it to root, and take write permission \
             from others.",
        },
        FindingKind {
            code: Code::ProgramIsInterpreter,
            severity: Severity::Warning,
            meaning: "The rule names a program that runs whatever it is given: everybody who can start it has \
             what the rule allows. Narrow the rule in another way, or give the service a program of \
             its own.",
        },
        FindingKind {
            code: Code::ProgramShared,
            severity: Severity::Note,
            meaning: "The path leads to a file that goes by another name too. A program is a file, whatever \
             it is called: everything that is run from the same file counts as the same program.",
        },
    ],
    looks: &[Look::Machine(findings)],
};

/// Programs that run whatever they are given begin like these.
const INTERPRETERS: [&str; 16] = [
    "bash", "busybox", "dash", "env", "java", "ksh", "lua", "node", "perl", "php", "python",
    "ruby", "sh", "socat", "tclsh", "zsh",
];

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let rules = machine.plan.decisions().map(|it| it.1);
    let rules = rules.filter(|it| it.id.kind == Kind::Rule && it.idle.is_none());
    rules.flat_map(|it| of_rule(machine, it)).collect()
}

fn of_rule(machine: &Machine<'_>, decision: &Decision) -> Vec<Finding> {
    let paths: BTreeSet<&String> = decision.conditions.iter().flat_map(|it| &it.programs).collect();
    let files = paths.into_iter().filter_map(|it| Some((it, machine.facts.files.get(it)?)));
    let odd = files.flat_map(|(path, file)| of_file(path, file));
    odd.map(|(code, severity, message)| {
        Finding::about(code, severity, decision, format!("names {message}"))
    })
    .collect()
}

/// What is odd about a file, in words that follow its path.
fn of_file(path: &str, file: &ProgramFile) -> Vec<(Code, Severity, String)> {
    let (code, words) = match file {
        ProgramFile::Missing => {
            (Code::ProgramMissing, format!("{path}, and there is no such program here"))
        }
        ProgramFile::NotExecutable => {
            (Code::ProgramMissing, format!("{path}, which may not be executed"))
        }
        ProgramFile::Script { interpreter } => {
            let words = format!("{path}, a script: its sockets are those of {interpreter}");
            (Code::ProgramIsScript, words)
        }
        ProgramFile::Program { real, names, writable } => {
            let real = real.as_deref();
            let odd = [
                (
                    Code::ProgramWritable,
                    Severity::Warning,
                    writable.as_ref().map(|it| by(path, it)),
                ),
                (Code::ProgramIsInterpreter, Severity::Warning, interpreter(path, real)),
                (Code::ProgramShared, Severity::Note, shared(path, real, *names)),
            ];
            let odd = odd.into_iter();
            return odd.filter_map(|(code, severity, it)| Some((code, severity, it?))).collect();
        }
    };
    vec![(code, Severity::Warning, words)]
}

/// Who else than root can change the program.
fn by(path: &str, (user, part): &(Option<u32>, String)) -> String {
    let whose = user.map_or_else(|| "others than root".to_owned(), |it| format!("user {it}"));
    format!("{path}, and {whose} can write {part}")
}

fn name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// Whether the program is one that runs whatever it is given.
fn interpreter(path: &str, real: Option<&str>) -> Option<String> {
    let name = name(real?);
    let plain = name.trim_end_matches(|it: char| it.is_ascii_digit() || ".-".contains(it));
    INTERPRETERS.contains(&plain).then(|| format!("{path}, which runs whatever it is given"))
}

/// Another name of the file, if it has one.
fn shared(path: &str, real: Option<&str>, names: u64) -> Option<String> {
    let real = real?;
    if name(real) != name(path) {
        return Some(format!("{path}, which is {real}: all that runs from it counts as it"));
    }
    (names > 1).then(|| {
        let count = names - 1;
        let more =
            if count == 1 { "another name".to_owned() } else { format!("{count} other names") };
        format!("{path}, a file with {more}: all that runs from it counts as it")
    })
}
