//! `facts`: what this machine answers when use cases ask it, to be looked at by somebody else.

mod mask;

use crate::{Failure, cut, draft, live, status};
use mask::Mask;
use serde::Serialize;
use std::collections::BTreeSet;
use tipstaff_core::policy::Policy;
use tipstaff_linux::ruleset::Marks;
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{Machine, Recorded, Wanted};

/// What a machine answered.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The version of Tipstaff that asked.
    pub version: &'static str,
    /// Whether addresses are others than the machine's: the same ones for the same, and of one network for
    /// those of one network.
    pub masked: bool,
    /// What was asked, and how much was told.
    pub asked: Vec<Asked>,
    /// All answers, as Tipstaff's own tests read them; the keys in it may change from version to version.
    pub machine: serde_json::Value,
}

/// A question, and how much was told.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Asked {
    /// What was asked for.
    pub about: &'static str,
    /// How many were told; `null` if the answer was refused.
    pub told: Option<usize>,
    /// Why it was refused.
    pub refused: Option<String>,
}

/// Asks the machine. The programs that rules of the policy name are looked at besides those of the rules in
/// force; with `masked`, every address is another one.
///
/// # Errors
/// [`Failure`] if the answers cannot be written down, or there is no chance for a mask.
pub fn report(
    machine: &dyn Machine,
    policy: Option<&Policy>,
    masked: bool,
) -> Result<Report, Failure> {
    let recorded = Recorded::of(machine, &wanted(policy));
    let failed =
        |message: String| Failure::System { message, help: vec!["nothing was changed".into()] };
    let mut answers = serde_json::to_value(&recorded).map_err(|error| failed(error.to_string()))?;
    if masked {
        let mask = Mask::new().map_err(|error| failed(format!("no mask can be made: {error}")))?;
        mask.put_on(&mut answers);
    }
    let version = env!("CARGO_PKG_VERSION");
    Ok(Report { version, masked, asked: asked(&recorded), machine: answers })
}

/// What is looked at besides what every machine has.
fn wanted(policy: Option<&Policy>) -> Wanted {
    let rules = policy.into_iter().flat_map(|it| &it.hosts).flat_map(|it| &it.rules);
    let (mut programs, mut users) = (BTreeSet::new(), BTreeSet::new());
    for rule in rules {
        programs.extend(rule.programs.iter().cloned());
        users.extend(rule.users.iter().cloned());
    }
    let settings =
        draft::FORWARDING.into_iter().chain([cut::CLIENT_PORTS, live::ANSWERS_TAKE_MARKS]);
    let settings = settings.chain(status::OLDER_TABLES.map(|it| it.1));
    Wanted {
        settings: settings.map(str::to_owned).collect(),
        paths: status::boot_services().map(|it| it.1).collect(),
        programs,
        users,
    }
}

/// How much was told.
fn asked(recorded: &Recorded) -> Vec<Asked> {
    let machine: &dyn Machine = recorded;
    let about = |about, told: Result<usize, tipstaff_linux::LinuxError>| match told {
        Ok(told) => Asked { about, told: Some(told), refused: None },
        Err(error) => Asked { about, told: None, refused: Some(error.to_string()) },
    };
    let rules = machine.rules().map(|it| it.map_or(0, |it| it.tallies.len()));
    vec![
        about("decisions in force", rules),
        about("tables of others", machine.others().map(|it| it.len())),
        about("sockets that wait", machine.waiting(&PortProtocol::ALL).map(|it| it.len())),
        about("connections", machine.under_way(&PortProtocol::ALL).map(|it| it.len())),
        about("flows", machine.flows().map(|it| it.len())),
        about("links", machine.links_seen().map(|it| it.len())),
        about("addresses", machine.addresses().map(|it| it.len())),
        about("routing rules by marks", machine.mark_rules().map(|it| it.len())),
        about(
            "programs that rules name",
            machine.standings(&Marks::default()).map(|it| it.files.len()),
        ),
        about("remote shell sessions", Ok(machine.sessions_told().len())),
    ]
}
