//! `report`: what there is to say about a host, to hand over.

mod matrix;

pub use matrix::{Cell, Matrix, Row};

use super::reach::{self, Vantage};
use super::{Failure, Finding, Loaded, grouped, rehearse, review, show};
use crate::Outcome;
use crate::vocabulary as say;
use serde::Serialize;
use std::time::Duration;
use tipstaff_linux::Machine;

/// What the report is to hold.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// Whether the host is this machine, and what listens on it belongs into the report.
    pub live: bool,
    /// Where real probes can be sent from.
    pub vantages: &'a [Vantage],
    /// How long a probe waits for an answer.
    pub patience: Duration,
}

/// A report for those who take over a machine.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host that it is about.
    pub host: String,
    /// The posture in which it is taken; `null`: in none.
    pub posture: Option<String>,
    /// The file that holds the policy.
    pub policy: String,
    /// When it was made, by this machine's clock (RFC 3339).
    pub made: String,
    /// The version of this program.
    pub version: &'static str,
    /// What is reachable from where.
    pub matrix: Matrix,
    /// How it was checked, in sentences.
    pub checked: Vec<String>,
    /// What could not be checked, in words.
    pub unknown: Vec<String>,
    /// Packets or places at which the witnesses disagree, in sentences.
    pub disagreements: Vec<String>,
    /// What is probably not meant.
    pub findings: Vec<Finding>,
    /// The whole list of decisions, as `show` has it.
    pub decisions: show::Report,
}

impl Report {
    /// Whether all is well, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let wrong = |it: &Finding| it.severity != say::Severity::Note && it.accepted.is_none();
        if self.disagreements.is_empty() && !self.findings.iter().any(wrong) {
            Outcome::Fine
        } else {
            Outcome::Found
        }
    }
}

/// Makes the report. `progress` is told how many packets of how many have been tried.
///
/// # Errors
/// [`Failure`] if the machine cannot be looked at.
pub fn report(
    machine: &dyn Machine,
    loaded: &Loaded,
    request: &Request<'_>,
    progress: &dyn Fn(u64, u64),
) -> Result<Report, Failure> {
    let mut report = Report {
        host: loaded.plan.host.clone(),
        posture: loaded.posture(),
        policy: loaded.name.clone(),
        made: loaded.now.to_string(),
        version: env!("CARGO_PKG_VERSION"),
        matrix: Matrix::default(),
        checked: vec![
            "The policy was worked out for every address and port, exactly: nothing was sampled."
                .to_owned(),
        ],
        unknown: Vec::new(),
        disagreements: Vec::new(),
        findings: review::report(machine, loaded, request.live)?.findings,
        decisions: show::report(loaded),
    };
    let mut listeners = Vec::new();
    let mut reached = None;
    if request.live {
        listeners = machine.listeners()?.found;
        let wanted =
            reach::Request { from: &[], vantages: request.vantages, patience: request.patience };
        let found = reach::report(machine, loaded, &wanted)?;
        report.of_reach(&found, request);
        reached = Some(found);
    }
    let tried =
        rehearse::Request { live: false, from: &[], traffic: None, quick: false, instead: None };
    match rehearse::report(machine, loaded, &tried, progress) {
        Ok(found) => report.of_rehearsal(&found),
        Err(failure) => report.unknown.push(format!("no rehearsal: {}", failure.line())),
    }
    report.matrix = matrix::matrix(machine, loaded, &listeners, reached.as_ref())?;
    Ok(report)
}

impl Report {
    fn of_rehearsal(&mut self, found: &rehearse::Report) {
        let fate = match found.disagreements {
            0 => "each met what the policy says".to_owned(),
            count => format!("{count} met something else than the policy says"),
        };
        let ports = if found.every_port {
            "every TCP and UDP port and ICMP type"
        } else {
            "every port that rules tell apart"
        };
        self.checked.push(format!(
            "It was rehearsed on this kernel in a sealed lab: {} real packets, {ports}, from everybody \
             whom the policy tells apart; {fate}.",
            grouped(found.packets)
        ));
        self.disagreements.extend(found.witnesses.iter().map(|witness| {
            format!(
                "In the rehearsal, {} from {} was {}; the policy says {} ({}).",
                witness.packet.traffic(),
                witness.packet.source,
                witness.met,
                witness.policy,
                witness.decided_by.name
            )
        }));
    }

    fn of_reach(&mut self, found: &reach::Report, request: &Request<'_>) {
        if !found.kernel_unreadable {
            self.checked.push("The rules in the kernel were read back and asked the same.".into());
        }
        if found.copied {
            self.checked.push(
                "A copy of the machine as it stands, with all rules of others, was tried in a lab."
                    .into(),
            );
        }
        if !request.vantages.is_empty() {
            let places: Vec<&str> = request.vantages.iter().map(|it| it.place.as_str()).collect();
            self.checked.push(format!("Real connections were tried from: {}.", places.join(", ")));
        }
        self.unknown.extend(found.unknown.iter().cloned());
        let stopped = found.stopped_on_the_way.iter();
        self.unknown.extend(stopped.map(|it| format!("{it}: something on the way stops it")));
        for entry in &found.listeners {
            for from in entry.from.iter().filter(|it| it.agree == Some(false)) {
                self.disagreements.push(format!(
                    "{}/{} from {} ({}): the policy says {}, the kernel {}, a copy of the machine {}, a \
                     real connection met {}.",
                    entry.port,
                    entry.protocol,
                    from.place,
                    from.version,
                    from.policy,
                    from.kernel,
                    from.parts.iter().find_map(|it| it.copy).map_or("nothing", say::Fate::as_str),
                    from.observed.map_or("nothing", say::Sight::as_str),
                ));
            }
        }
    }
}
