//! `ask --who`, `--what` and `--why`: questions about whole regions of packets.

use super::ask::only_inbound;
use super::reach::{Entry, published_ports};
use super::region::{RegionWords, Words};
use super::{By, Failure, Loaded};
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::BTreeMap;
use tipstaff_core::analysis::{Share, ordinary, share_of, shares};
use tipstaff_core::plan::{Act, RuleId};
use tipstaff_core::policy::{Source, nearest, read_addresses, read_traffic};
use tipstaff_core::space::{Direction, Piece, PortProtocol, join};
use tipstaff_linux::Machine;

/// What is asked about policy, host and kernel.
#[derive(Clone, Debug)]
pub enum Question {
    /// Who can reach this traffic.
    Who(String),
    /// What these senders can reach.
    What(String),
    /// What this rule still decides.
    Why(String),
}

/// The answer, for a person or a machine.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host that it is about.
    pub host: String,
    /// `who`, `what` or `why`.
    pub asked: say::Asked,
    /// The traffic, the senders or the rule asked about.
    pub about: String,
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// What happens to which packets. Of packets that a rule matches but others decide, `why` tells
    /// as well.
    pub answers: Vec<Answer>,
    /// The ports of this machine that are asked about and that rules of others lead elsewhere, with who is let through
    /// there, as `reach` has them: what `answers` says does not hold for them. Empty if the machine was not looked at.
    pub published: Vec<Entry>,
}

/// Packets that fare alike.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Answer {
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// Up to which rate.
    pub rate: Option<String>,
    /// Who decides so, in the order of the rules.
    pub by: Vec<By>,
    /// The packets, as few regions as possible.
    pub regions: Vec<RegionWords>,
}

/// Answers the question.
///
/// # Errors
/// [`Failure`] if it cannot be understood, or the answer would be too long to be read.
pub fn report(
    loaded: &Loaded,
    question: &Question,
    direction: Direction,
    live: Option<&dyn Machine>,
) -> Result<Report, Failure> {
    let plan = &loaded.plan;
    let (asked, about, direction, answers) = match question {
        Question::Who(text) => {
            let source = Source::new("--who", text);
            let traffic = read_traffic(&loaded.policy, &source)
                .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
            let region = Piece { traffic, ..ordinary(plan, direction) };
            (say::Asked::Who, text, direction, by_fate(loaded, direction, region)?)
        }
        Question::What(text) => {
            let source = Source::new("--what", text);
            let senders = read_addresses(&loaded.policy, &source)
                .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
            let ordinary = ordinary(plan, direction);
            let region = Piece { source: senders, ..ordinary };
            (say::Asked::What, text, direction, by_fate(loaded, direction, region)?)
        }
        Question::Why(name) => {
            let (direction, answers) = why(loaded, name)?;
            (say::Asked::Why, name, direction, answers)
        }
    };
    let published = match (live, question) {
        (Some(_), _) if direction != Direction::Inbound => return Err(only_inbound()),
        (Some(machine), Question::Who(text)) => published(machine, loaded, &[], Some(text))?,
        (Some(machine), Question::What(sender)) => {
            published(machine, loaded, std::slice::from_ref(sender), None)?
        }
        _ => Vec::new(),
    };
    Ok(Report {
        published,
        host: plan.host.clone(),
        asked,
        about: about.clone(),
        direction: direction.into(),
        answers,
    })
}

/// The ports of a machine that lead elsewhere, of some traffic, for some senders.
fn published(
    machine: &dyn Machine,
    loaded: &Loaded,
    from: &[String],
    traffic: Option<&String>,
) -> Result<Vec<Entry>, Failure> {
    let mut found = published_ports(machine, loaded, from)?;
    if let Some(text) = traffic {
        let source = Source::new("--who", text);
        let traffic = read_traffic(&loaded.policy, &source)
            .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
        found.retain(|it| {
            let protocol = PortProtocol::ALL.into_iter().find(|of| it.protocol == (*of).into());
            protocol.is_some_and(|of| {
                traffic.ports[of].ranges().iter().any(|range| {
                    it.ports().is_some_and(|(first, last)| range.0 <= last && first <= range.1)
                })
            })
        });
    }
    Ok(found)
}

fn too_long() -> Failure {
    Failure::usage(
        "the answer has too many parts to be told",
        "ask about one port, one sender or one rule",
    )
}

/// The packets of a region, put together by what happens to them.
fn by_fate(loaded: &Loaded, direction: Direction, region: Piece) -> Result<Vec<Answer>, Failure> {
    let found = shares(&loaded.plan, direction, vec![region]).ok_or_else(too_long)?;
    let mut fates: BTreeMap<(usize, Option<String>), Vec<Share<'_>>> = BTreeMap::new();
    for share in found {
        let verdict = share.decision.act.verdict() as usize;
        fates.entry((verdict, rate(share.decision.act))).or_default().push(share);
    }
    let words = Words::of(&loaded.policy, &loaded.plan, direction);
    let mut answers = Vec::new();
    for ((_, rate), list) in fates {
        let by = list.iter().map(|it| By::from(it.decision)).collect();
        let Some(first) = list.first() else { continue };
        let verdict = first.decision.act.verdict().into();
        let pieces = join(list.into_iter().flat_map(|share| share.pieces).collect());
        answers.push(Answer { verdict, rate, by, regions: words.pieces(&pieces) });
    }
    Ok(answers)
}

fn rate(act: Act) -> Option<String> {
    match act {
        Act::AllowWithin(rate) => Some(rate.to_string()),
        Act::Decide(_) => None,
    }
}

fn why(loaded: &Loaded, name: &str) -> Result<(Direction, Vec<Answer>), Failure> {
    let plan = &loaded.plan;
    let id = RuleId::parse(name);
    let Some((direction, decision)) = plan.decisions().find(|(_, it)| it.id == id) else {
        let message = format!("there is no rule `{}`", name.escape_debug());
        let names: Vec<String> = plan.decisions().map(|it| it.1.id.to_string()).collect();
        return Err(match nearest(name, names.iter().map(String::as_str)) {
            Some(near) => Failure::usage(message, format!("did you mean `{near}`?")),
            None => Failure::usage(message, "the rules are listed by `tipstaff rule list`"),
        });
    };
    if decision.idle.is_some() {
        return Ok((direction, Vec::new()));
    }
    let words = Words::of(&loaded.policy, plan, direction);
    let region = ordinary(plan, direction);
    let own = share_of(plan, direction, &id, &region).ok_or_else(too_long)?;
    let mut answers = Vec::new();
    if !own.is_empty() {
        answers.push(Answer {
            verdict: decision.act.verdict().into(),
            rate: rate(decision.act),
            by: vec![By::of(&id, plan)],
            regions: words.pieces(&own),
        });
    }
    // What it matches too, and others decide.
    let mut matched: Vec<Piece> = Vec::new();
    for condition in &decision.conditions {
        let part = vec![tipstaff_core::analysis::piece_of(condition).intersection(&region)];
        let part = matched.iter().fold(part, tipstaff_core::space::without);
        matched.extend(part.into_iter().filter(|piece| !piece.is_empty()));
    }
    for share in shares(plan, direction, matched).ok_or_else(too_long)? {
        if share.decision.id != id {
            answers.push(Answer {
                verdict: share.decision.act.verdict().into(),
                rate: rate(share.decision.act),
                by: vec![share.decision.into()],
                regions: words.pieces(&share.pieces),
            });
        }
    }
    Ok((direction, answers))
}
