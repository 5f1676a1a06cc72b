//! `adopt`: a policy from the rules that others have in the kernel, tried on a copy of the machine.

use crate::of_others::{Made, made};
use crate::rehearse::{self, Instead, Witness};
use crate::vocabulary as say;
use crate::{Failure, Loaded, Outcome, PacketWords};
use serde::Serialize;
use tipstaff_core::adopt;
use tipstaff_core::space::RangeSet;
use tipstaff_linux::Machine;
use tipstaff_linux::foreign::{Foreign, Table};
use tipstaff_linux::ruleset::Sees;

/// What is wanted.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wanted<'w> {
    /// The name of the host; this machine's if left out.
    pub host: Option<&'w str>,
    /// Whether nothing is tried on a copy of the machine.
    pub untried: bool,
    /// Whether it is told, and tried, in which order others' rules can go.
    pub hand_over: bool,
}

/// A policy made of others' rules.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host.
    pub host: String,
    /// The text of the policy, ready to be saved.
    pub policy: String,
    /// The tables of others.
    pub tables: Vec<TableWords>,
    /// The rules that the policy says by rules of its own.
    pub taken: Vec<Taken>,
    /// The rules that only do what its baseline and defaults do.
    pub said_already: Vec<String>,
    /// The rules that decide about no packet.
    pub idle: Vec<String>,
    /// The rules that it does not say.
    pub not_taken: Vec<NotTaken>,
    /// Chains that keep packets out where no policy does: ahead of routing, behind it, or at a single interface.
    pub beside: Vec<Beside>,
    /// Rules that cannot be read, in words.
    pub unread: Vec<String>,
    /// Packets that the policy treats otherwise than others' rules.
    pub differs: Vec<Differs>,
    /// What a copy of the machine with others' rules said; `null`: nothing was tried.
    pub tried: Option<Tried>,
    /// In which order others' rules can go; `null`: it was not asked for.
    pub hand_over: Option<Vec<Step>>,
}

/// A table of others.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct TableWords {
    /// Its name.
    pub name: String,
    /// The IP version whose packets it sees; `null`: both, or frames.
    pub version: Option<&'static str>,
    /// How many rules it has.
    pub rules: usize,
    /// Whether it lets packets pass or keeps them out where a policy does.
    pub decides: bool,
    /// Whether it leads packets to other addresses or ports, which no policy does.
    pub leads: bool,
}

/// A rule of others that is taken.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Taken {
    /// Where it stands.
    pub rule: String,
    /// The rules of the policy that say it.
    pub by: Vec<String>,
}

/// A rule of others that is not taken.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NotTaken {
    /// Where it stands.
    pub rule: String,
    /// Why, as the rest of a sentence.
    pub why: String,
    /// Whether it keeps something out that the policy may let in without it.
    pub keeps_out: bool,
}

/// A chain that keeps packets out where no policy does.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Beside {
    /// The chain.
    pub chain: String,
    /// Where it hangs.
    pub hook: String,
    /// Whether that is sure.
    pub sure: bool,
}

/// Packets that the policy treats otherwise.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Differs {
    /// The rule of others that decides about them, unless one that is not taken does.
    pub theirs: String,
    /// What that does.
    pub their_verdict: Option<say::Verdict>,
    /// What decides about them in the policy.
    pub ours: String,
    /// What that does.
    pub our_verdict: Option<say::Verdict>,
    /// One of those packets.
    pub packet: PacketWords,
}

/// What a copy of the machine said.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Tried {
    /// How many packets from outside were tried.
    pub packets: u64,
    /// How many packets that leave the machine were tried, to the ports that rules tell apart; `null`: none, nor of those
    /// that pass through it, since packets are led elsewhere there.
    pub outbound: Option<u64>,
    /// How many that pass through it; none if it passes nothing on.
    pub forwarded: Option<u64>,
    /// How many of either never came to the rules; forwarded ones do not where the machine passes nothing on.
    pub never_came: u64,
    /// How many of either rules tell apart that were left out, as they would be too many.
    pub left_out: u64,
    /// Whether every port was, and not only those that rules tell apart.
    pub every_port: bool,
    /// How many met something else than the policy says.
    pub disagreements: u64,
    /// The first of them.
    pub witnesses: Vec<Witness>,
    /// What could not be copied, in words.
    pub missing: Vec<String>,
}

/// A step on the way to the policy alone.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Step {
    /// What is done, as a sentence.
    pub what: String,
    /// What a copy of the machine said behind it; `null`: nothing was tried.
    pub tried: Option<Tried>,
}

impl Report {
    /// Whether the policy does what others' rules do, as an exit code says it.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let steps = self.hand_over.iter().flatten().filter_map(|it| it.tried.as_ref());
        let tried = self.tried.iter().chain(steps).all(|it| it.disagreements == 0);
        let whole = self.not_taken.is_empty()
            && self.beside.is_empty()
            && self.unread.is_empty()
            && self.differs.is_empty();
        if tried && whole { Outcome::Fine } else { Outcome::Found }
    }
}

/// Makes a policy of what others have in the kernel, and tries it.
///
/// # Errors
/// [`Failure`] if the kernel does not let us read, others have nothing that decides, or no copy of the machine can be
/// made.
pub fn report(
    machine: &dyn Machine,
    wanted: &Wanted<'_>,
    progress: &dyn Fn(u64, u64),
) -> Result<Report, Failure> {
    let Made { foreign, adopted, mut policy } = made(machine, wanted.host)?;
    let host = policy.plan.host.clone();
    policy.place(machine)?;
    let tables: Vec<&Table> = foreign.tables.iter().collect();
    let trial = Trial { machine, policy: &policy, ports: adopted.ports(), progress };
    let tried = match wanted.untried {
        true => None,
        false => Some(trial.run(&tables, false)?),
    };
    let hand_over = match wanted.hand_over {
        true => Some(steps(&trial, &foreign, wanted.untried)?),
        false => None,
    };
    let word = |it: &adopt::Place| it.to_string();
    let differs = |it: adopt::Differs| Differs {
        theirs: it.theirs,
        their_verdict: it.their_verdict.map(Into::into),
        ours: it.ours,
        our_verdict: it.our_verdict.map(Into::into),
        packet: PacketWords::of(&it.packet),
    };
    Ok(Report {
        host,
        policy: adopted.policy,
        tables: tables.iter().map(|it| table(it)).collect(),
        taken: (adopted.taken.into_iter())
            .map(|it| Taken { rule: word(&it.place), by: it.rules })
            .collect(),
        said_already: adopted.said_already.iter().map(word).collect(),
        idle: adopted.idle.iter().map(word).collect(),
        not_taken: (adopted.not_taken.into_iter())
            .map(|it| NotTaken { rule: word(&it.place), why: it.why, keeps_out: it.keeps_out })
            .collect(),
        beside: (foreign.beside.into_iter())
            .map(|it| Beside { chain: it.chain, hook: it.hook, sure: it.sure })
            .collect(),
        unread: foreign.unread,
        differs: adopted.differs.into_iter().map(differs).collect(),
        tried,
        hand_over,
    })
}

fn table(table: &Table) -> TableWords {
    TableWords {
        name: table.name.clone(),
        version: version(table.sees),
        rules: table.rules,
        decides: table.decides,
        leads: table.leads,
    }
}

fn version(sees: Sees) -> Option<&'static str> {
    match sees {
        Sees::V4 => Some("IPv4"),
        Sees::V6 => Some("IPv6"),
        _ => None,
    }
}

/// How copies of the machine are tried.
struct Trial<'t> {
    machine: &'t dyn Machine,
    policy: &'t Loaded,
    /// The ports that others' rules tell apart.
    ports: RangeSet<u16>,
    progress: &'t dyn Fn(u64, u64),
}

impl Trial<'_> {
    /// Tries one that holds some tables of others, and the policy or not.
    fn run(&self, tables: &[&Table], enforced: bool) -> Result<Tried, Failure> {
        let tables = tables.iter().map(|it| (it.family, it.name.clone())).collect();
        let request = rehearse::Request {
            live: true,
            from: &[],
            traffic: None,
            quick: false,
            instead: Some(Instead { tables, policy: enforced, ports: self.ports.clone() }),
        };
        let found = rehearse::report(self.machine, self.policy, &request, self.progress);
        found.map(tried).map_err(|failure| {
            let help = "`--untried` leaves the copy out, and compares what rules mean";
            failure.with_help(help.into())
        })
    }
}

fn tried(found: rehearse::Report) -> Tried {
    let is_crossed = found.crossed.is_some();
    let crossed = found.crossed.unwrap_or_default();
    let mut witnesses = found.witnesses;
    witnesses.extend(crossed.witnesses);
    Tried {
        packets: found.packets,
        outbound: is_crossed.then_some(crossed.outbound),
        forwarded: is_crossed.then_some(crossed.forwarded),
        never_came: crossed.never_came,
        left_out: crossed.left_out,
        every_port: found.every_port,
        disagreements: found.disagreements + crossed.disagreements,
        witnesses,
        missing: found.missing,
    }
}

/// In which order others' rules can go, so that at every moment what the policy admits is admitted, and nothing else.
fn steps(trial: &Trial<'_>, foreign: &Foreign, untried: bool) -> Result<Vec<Step>, Failure> {
    let mut left: Vec<&Table> = foreign.tables.iter().collect();
    let try_it = |left: &[&Table], what: String| -> Result<Step, Failure> {
        let tried = match untried {
            true => None,
            false => Some(trial.run(left, true)?),
        };
        Ok(Step { what, tried })
    };
    let mut steps = vec![try_it(
        &left,
        "save the policy, and put it in force beside them: `tipstaff enforce`, then `confirm`; what \
         both let pass is let pass"
            .into(),
    )?];
    steps.push(Step {
        what:
            "see to it that whoever loads them at boot does so no more, and that `tipstaff status` \
               finds the policy kept for the next boot"
                .into(),
        tried: None,
    });
    for table in foreign.tables.iter().filter(|it| it.decides) {
        let name = match version(table.sees) {
            Some(version) => format!("`{}` of {version}", table.name),
            None => format!("`{}`", table.name),
        };
        if table.leads {
            steps.push(Step {
                what: format!(
                    "take the chains that decide out of the table {name}, and leave those that lead \
                     packets elsewhere: no policy does that"
                ),
                tried: None,
            });
            continue;
        }
        left.retain(|it| (it.family, &it.name) != (table.family, &table.name));
        steps.push(try_it(&left, format!("take out the table {name}"))?);
    }
    steps.push(Step {
        what: "connect from outside, and look: `tipstaff reach`, `tipstaff review --live`".into(),
        tried: None,
    });
    Ok(steps)
}
