//! The lab seen from outside: a sealed process of this program that is told what to try.

use super::order::{Answer, Order, Ranges};
use crate::Failure;
use crate::vocabulary::Verdict;
use std::io::{BufRead, BufReader, Write};
use std::process::{Command, Stdio};
use tipstaff_core::space::{ConnectionState, Tracking};
use tipstaff_linux::lab::seal;
use tipstaff_linux::probe::Met;

/// What became of the packets of one try.
pub(super) type Outcome = Vec<(Met, Ranges)>;

/// What a lab has found out.
#[derive(Debug, Default)]
pub(crate) struct Findings {
    /// What could not be copied, in words.
    pub missing: Vec<String>,
    /// How many packets were sent.
    pub sent: u64,
    /// What became of the order's crossings.
    pub crossed: Vec<Option<Verdict>>,
    /// How the kernel tracks connections.
    pub tracking: Tracking,
}

/// Has an order carried out in a lab, and hands over what became of each try as it comes.
///
/// # Errors
/// [`Failure`] if the system lets us make no lab, or the lab fails.
pub(crate) fn carry_out(
    order: &Order,
    mut outcome: impl FnMut(usize, Tracking, Outcome),
) -> Result<Findings, Failure> {
    let system = |message: String| Failure::System { message, help: Vec::new() };
    let broken = |source: std::io::Error| system(format!("the lab cannot be spoken to: {source}"));
    // Not by the file's name: something else may lie over that by now, or it may be gone.
    let mut command = Command::new("/proc/self/exe");
    command.arg("lend-hand").stdin(Stdio::piped()).stdout(Stdio::piped());
    seal(&mut command);
    let mut lab = command.spawn().map_err(|source| no_namespaces(&source))?;
    let mut text = serde_json::to_string(order).map_err(|error| system(error.to_string()))?;
    text.push('\n');
    if let Some(mut to) = lab.stdin.take() {
        to.write_all(text.as_bytes()).map_err(broken)?;
    }
    let mut findings = Findings::default();
    let (mut at, mut done) = (0, false);
    let from = lab.stdout.take().map(BufReader::new);
    for line in from.into_iter().flat_map(BufRead::lines) {
        let line = line.map_err(broken)?;
        let answer: Answer = serde_json::from_str(&line)
            .map_err(|error| system(format!("the lab's answer is not understood: {error}")))?;
        match answer {
            Answer::Ready { missing, discovery_is_invalid } => {
                findings.missing = missing;
                if discovery_is_invalid == Some(true) {
                    findings.tracking.router_discovery = ConnectionState::Invalid;
                }
            }
            Answer::Met(met) => {
                let known = met.into_iter().filter_map(|(word, it)| Some((Met::parse(&word)?, it)));
                outcome(at, findings.tracking, known.collect());
                at += 1;
            }
            Answer::Crossed(crossed) => findings.crossed = crossed,
            Answer::Done(sent) => {
                findings.sent = sent;
                done = true;
            }
            Answer::Failed(message, help) => {
                // The failure says more than how the process ended.
                let _ = lab.wait();
                return Err(Failure::System { message, help });
            }
        }
    }
    let status = lab.wait().map_err(broken)?;
    if !done {
        return Err(system(format!("the lab ended before its work was done: {status}")));
    }
    Ok(findings)
}

/// The system lets us make no namespaces.
pub fn no_namespaces(source: &std::io::Error) -> Failure {
    Failure::System {
        message: format!("this system lets you make no network namespaces: {source}"),
        help: vec![
            "run it as root".into(),
            "or allow ordinary users to make user namespaces: the settings user.max_user_namespaces \
             and, on some systems, kernel.unprivileged_userns_clone or a security module's \
             restriction decide that"
                .into(),
        ],
    }
}
