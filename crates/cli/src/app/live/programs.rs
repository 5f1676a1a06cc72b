//! The programs of this machine, held against the rules that name programs.

use super::{about, finding, for_others, hears};
use crate::app::Loaded;
use crate::app::programs::Names;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use tipstaff_core::analysis::{self, Code};
use tipstaff_core::plan::Kind;
use tipstaff_core::policy::{Severity, Verdict};
use tipstaff_core::space::Direction;
use tipstaff_linux::programs::{FileKind, kind_of};
use tipstaff_linux::sockets::Listener;
use tipstaff_linux::{NetlinkSocket, Protocol, mark_rules};

/// Findings about rules that name programs.
pub fn findings(loaded: &Loaded, listening: &[Listener]) -> Vec<analysis::Finding> {
    let mut found = other_program(loaded, listening);
    found.extend(files(loaded));
    found.extend(mark_clash(loaded));
    found
}

/// Listeners where a rule lets others reach a program that is not theirs.
fn other_program(loaded: &Loaded, listening: &[Listener]) -> Vec<analysis::Finding> {
    let names = Names::of(loaded);
    let mut found = Vec::new();
    for decision in &loaded.plan.chain(Direction::Inbound).decisions {
        let allows = decision.act.verdict() == Verdict::Allow
            && decision.idle.is_none()
            && decision.id.kind == Kind::Rule;
        if !allows || !decision.names_programs() {
            continue;
        }
        let hear = |listener: &&Listener| {
            decision
                .conditions
                .iter()
                .any(|it| !it.traffic.is_any() && hears(&it.traffic, listener))
        };
        let named: Vec<&String> = decision.conditions.iter().flat_map(|it| &it.programs).collect();
        let mut others: BTreeMap<(u32, String), BTreeSet<String>> = BTreeMap::new();
        for listener in listening.iter().filter(|it| for_others(it)).filter(hear) {
            let program = names.known(listener.owner.as_ref());
            let Some(program) = program.filter(|it| !named.contains(&it)) else { continue };
            let pid = listener.owner.as_ref().map_or(0, |it| it.pid);
            let port = format!("{}/{}", listener.port, listener.protocol.as_str());
            others.entry((pid, program)).or_default().insert(port);
        }
        for ((pid, program), ports) in others {
            let wanted: Vec<&str> = named.iter().map(|it| it.as_str()).collect();
            let ports: Vec<String> = ports.into_iter().collect();
            let message = format!(
                "is for {}, but {program} (process {pid}) listens at {}",
                wanted.join(" or "),
                ports.join(", ")
            );
            found.push(about(finding(Code::OtherProgram, Severity::Warning, message), decision));
        }
    }
    found
}

/// What there is at the paths of programs.
fn files(loaded: &Loaded) -> Vec<analysis::Finding> {
    let mut found = Vec::new();
    for decision in loaded.plan.decisions().map(|it| it.1).filter(|it| it.id.kind == Kind::Rule) {
        let paths: BTreeSet<&String> =
            decision.conditions.iter().flat_map(|it| &it.programs).collect();
        for path in paths.into_iter().filter(|_| decision.idle.is_none()) {
            let file = Path::new(path);
            let (code, severity, message) = match kind_of(file) {
                FileKind::Missing => {
                    let message = format!("names {path}, and there is no such program here");
                    (Code::ProgramMissing, Severity::Warning, message)
                }
                FileKind::NotExecutable => {
                    let message = format!("names {path}, which may not be executed");
                    (Code::ProgramMissing, Severity::Warning, message)
                }
                FileKind::Script { interpreter } => {
                    let message =
                        format!("names {path}, a script: its sockets are those of {interpreter}");
                    (Code::ProgramIsScript, Severity::Warning, message)
                }
                FileKind::Program => {
                    let trust = [
                        (Code::ProgramWritable, Severity::Warning, writable(file)),
                        (Code::ProgramIsInterpreter, Severity::Warning, interpreter(file)),
                        (Code::ProgramShared, Severity::Note, shared(file)),
                    ];
                    for (code, severity, message) in trust {
                        found
                            .extend(message.map(|it| about(finding(code, severity, it), decision)));
                    }
                    continue;
                }
            };
            found.push(about(finding(code, severity, message), decision));
        }
    }
    found
}

/// Whoever else than root can change the program: its file, a folder above it, or what a process of it
/// has loaded.
fn writable(file: &Path) -> Option<String> {
    let real = fs::canonicalize(file).ok()?;
    let mut parts: Vec<PathBuf> = real.ancestors().map(Path::to_path_buf).collect();
    parts.extend(loaded_by(&real));
    parts.iter().find_map(|part| {
        let metadata = fs::metadata(part).ok()?;
        // In a folder with the sticky bit only owners replace their files.
        let sticky = metadata.is_dir() && metadata.mode() & 0o1000 != 0;
        let whose = match metadata.uid() {
            0 if metadata.mode() & 0o022 == 0 || sticky => return None,
            0 => "others than root".to_owned(),
            owner => format!("user {owner}"),
        };
        let (path, part) = (file.display(), part.display());
        Some(format!("names {path}, and {whose} can write {part}"))
    })
}

/// The files that processes of a program have loaded to execute.
fn loaded_by(program: &Path) -> BTreeSet<PathBuf> {
    let mut found = BTreeSet::new();
    for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
        if fs::read_link(process.path().join("exe")).ok().as_deref() != Some(program) {
            continue;
        }
        let maps = fs::read_to_string(process.path().join("maps")).unwrap_or_default();
        let executed =
            maps.lines().filter(|it| it.split(' ').nth(1).is_some_and(|it| it.contains('x')));
        let files = executed.filter_map(|it| it.find('/').map(|at| PathBuf::from(&it[at..])));
        found.extend(files);
    }
    found
}

/// Programs that run whatever they are given begin like these.
const INTERPRETERS: [&str; 16] = [
    "bash", "busybox", "dash", "env", "java", "ksh", "lua", "node", "perl", "php", "python",
    "ruby", "sh", "socat", "tclsh", "zsh",
];

/// Whether the program is one that runs whatever it is given.
fn interpreter(file: &Path) -> Option<String> {
    let real = fs::canonicalize(file).ok()?;
    let name = real.file_name()?.to_str()?;
    let plain = name.trim_end_matches(|it: char| it.is_ascii_digit() || ".-".contains(it));
    INTERPRETERS
        .contains(&plain)
        .then(|| format!("names {}, which runs whatever it is given", file.display()))
}

/// Another name of the file, if it has one.
fn shared(file: &Path) -> Option<String> {
    let real = fs::canonicalize(file).ok()?;
    let links = fs::metadata(&real).ok()?.nlink();
    let path = file.display();
    if real.file_name() != file.file_name() {
        let real = real.display();
        return Some(format!("names {path}, which is {real}: all that runs from it counts as it"));
    }
    (links > 1).then(|| {
        let count = links - 1;
        let more =
            if count == 1 { "another name".to_owned() } else { format!("{count} other names") };
        format!("names {path}, a file with {more}: all that runs from it counts as it")
    })
}

/// Uses of sockets' marks by others that get in the way of ours.
fn mark_clash(loaded: &Loaded) -> Vec<analysis::Finding> {
    if !loaded.plan.decisions().any(|it| it.1.names_programs()) {
        return Vec::new();
    }
    let mask = loaded.plan.program_marks;
    let clash = |message: String| finding(Code::MarkClash, Severity::Warning, message);
    let mut found = Vec::new();
    let routing = NetlinkSocket::open(Protocol::Route).and_then(|mut it| mark_rules(&mut it));
    for rule in routing.unwrap_or_default().into_iter().filter(|it| it.mask & mask != 0) {
        found.push(clash(format!(
            "routing looks at marks {:#010x}/{:#010x} ({}, priority {}), and rules know programs by \
             {mask:#010x}",
            rule.mark,
            rule.mask,
            if rule.v6 { "IPv6" } else { "IPv4" },
            rule.priority
        )));
    }
    let switch = fs::read_to_string("/proc/sys/net/ipv4/tcp_fwmark_accept");
    if switch.is_ok_and(|it| it.trim() != "0") {
        found.push(clash(
            "net.ipv4.tcp_fwmark_accept is on: accepted connections get their mark from a packet, \
             not from the listener"
                .into(),
        ));
    }
    found
}
