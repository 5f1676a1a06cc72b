//! Whether one host of a policy reaches another, and who says so.

use super::compare::Side;
use crate::beside::Threads;
use crate::region::Words;
use crate::vocabulary as say;
use crate::{By, Failure, Outcome, RegionWords, now};
use serde::Serialize;
use std::collections::HashMap;
use tipstaff_core::analysis::{Fared, Leg, between};
use tipstaff_core::plan::{Act, HostPlan, resolve};
use tipstaff_core::policy::{Source, read_traffic};
use tipstaff_core::program::Hands;
use tipstaff_core::space::{AddressSet, Direction, Piece, RangeSet, TrafficSet};

/// Whether one host reaches another.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Reached {
    /// Who sends.
    pub from: String,
    /// Who receives.
    pub to: String,
    /// The traffic, as it was asked for.
    pub traffic: String,
    /// The hosts between them, in order.
    pub through: Vec<String>,
    /// Whether it arrives: `yes`, `in-part` or `no`.
    pub reaches: say::Reaches,
    /// What becomes of which packets; the first ones of connections.
    pub fates: Vec<FateOnWay>,
}

/// Packets that fare alike on the way.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FateOnWay {
    /// `allow` if they arrive, else what the host does that they come to last.
    pub verdict: say::Verdict,
    /// Up to which rate, where somebody on the way limits them.
    pub rate: Option<String>,
    /// Which decision of each host they meet.
    pub by: Vec<OnHost>,
    /// The packets, where they are not from all addresses of the sender, or to all of the receiver, with which. Those of which it depends on interfaces, programs or users are listed with each fate.
    pub regions: Vec<RegionWords>,
}

/// A decision of a host.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct OnHost {
    /// The host.
    pub host: String,
    /// Which of its chains they meet.
    pub direction: say::Direction,
    /// The decision.
    pub by: By,
}

/// Who reaches whom.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Matrix {
    /// The traffic, as it was asked for.
    pub traffic: String,
    /// How many hosts it is about.
    pub hosts: usize,
    /// From whom to whom; senders that reach the same hosts are told of together.
    pub rows: Vec<Row>,
    /// Hosts that are left out, since their addresses are not listed.
    pub without_addresses: Vec<String>,
}

/// Senders that reach the same hosts.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// The senders.
    pub from: Vec<String>,
    /// Whom they reach.
    pub yes: Vec<String>,
    /// Whom they reach with some packets only: of one IP version, by one interface, up to a rate is whole.
    pub in_part: Vec<String>,
    /// Whom they do not reach.
    pub no: Vec<String>,
}

impl Reached {
    /// Whether it arrives, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.reaches == say::Reaches::Yes { Outcome::Fine } else { Outcome::Found }
    }
}

fn traffic(side: &Side, text: &str) -> Result<TrafficSet, Failure> {
    let source = Source::new("TRAFFIC", text);
    let read = read_traffic(&side.policy, &source);
    read.map_err(|problems| Failure::Input { sources: vec![source], problems })
}

fn plan(side: &Side, host: &str) -> Result<HostPlan, Failure> {
    Ok(resolve(&side.policy, host, now())?)
}

/// The host's own addresses.
fn own(plan: &HostPlan) -> AddressSet {
    plan.addresses.iter().map(|&it| AddressSet::single(it)).collect()
}

/// Whether one host reaches another, directly or through others.
///
/// # Errors
/// [`Failure`] if a host is not in the policy or has no addresses there, or the traffic cannot be read.
pub fn reach(
    side: &Side,
    (from, to): (&str, &str),
    text: &str,
    through: &[String],
) -> Result<Reached, Failure> {
    let region = Piece { traffic: traffic(side, text)?, ..Piece::full() };
    let (sender, receiver) = (plan(side, from)?, plan(side, to)?);
    for end in [&sender, &receiver] {
        if end.addresses.is_empty() {
            let message = format!("the addresses of {} are not listed in the policy", end.host);
            return Err(Failure::usage(message, "without them it is not known where packets go"));
        }
    }
    let region = Piece { source: own(&sender), destination: own(&receiver), ..region };
    let between_them: Vec<HostPlan> =
        through.iter().map(|it| plan(side, it)).collect::<Result<_, _>>()?;
    let mut legs = vec![Leg { plan: &sender, direction: Direction::Outbound }];
    legs.extend(between_them.iter().map(|plan| Leg { plan, direction: Direction::Forwarded }));
    legs.push(Leg { plan: &receiver, direction: Direction::Inbound });
    let told = between(&legs, &region).ok_or_else(|| {
        Failure::usage("the answer has too many parts to be read", "ask about less traffic")
    })?;
    let arrives = told.iter().filter(|it| it.arrives()).count();
    let reaches = match arrives {
        0 => say::Reaches::No,
        it if it == told.len() => say::Reaches::Yes,
        _ => say::Reaches::InPart,
    };
    let words = Words::of_all(&side.policy, &sender, &receiver, Direction::Inbound);
    let ends = [own(&sender), own(&receiver)];
    let fates = told.iter().map(|it| fate(it, &legs, &words, &ends)).collect();
    let (from, to) = (sender.host.clone(), receiver.host.clone());
    let (traffic, through) = (text.to_owned(), through.to_vec());
    Ok(Reached { from, to, traffic, through, reaches, fates })
}

fn fate(
    told: &Fared<'_>,
    legs: &[Leg<'_>],
    words: &Words<'_>,
    ends: &[AddressSet; 2],
) -> FateOnWay {
    let verdict = told.by.last().map_or(say::Verdict::Deny, |it| it.act.verdict().into());
    let rate = told.by.iter().find_map(|it| match it.act {
        Act::AllowWithin(rate) => Some(rate.to_string()),
        Act::Decide(_) => None,
    });
    let by = legs.iter().zip(&told.by).map(|(leg, decision)| OnHost {
        host: leg.plan.host.clone(),
        direction: leg.direction.into(),
        by: By::from(*decision),
    });
    let pieces: Vec<Piece> = told.pieces.iter().map(|it| without_saying(it, ends)).collect();
    FateOnWay { verdict, rate, by: by.collect(), regions: words.pieces(&pieces) }
}

/// The piece without what goes without saying: that it is from all addresses of the sender, to all of the receiver, and
/// led nowhere else.
fn without_saying(piece: &Piece, [from, to]: &[AddressSet; 2]) -> Piece {
    let mut piece = Piece { published: RangeSet::full(), ..piece.clone() };
    if from.difference(&piece.source).is_empty() {
        piece.source = AddressSet::full();
    }
    if to.difference(&piece.destination).is_empty() {
        piece.destination = AddressSet::full();
    }
    piece
}

/// A host's word about one end of all ways: what of the traffic it lets through, and what not.
struct Word {
    host: String,
    own: AddressSet,
    sends: [Vec<Piece>; 2],
    takes: [Vec<Piece>; 2],
}

/// Who reaches whom with some traffic, without anybody between them.
///
/// # Errors
/// [`Failure`] if the traffic cannot be read, or a host's word has too many parts.
pub fn matrix(side: &Side, text: &str) -> Result<Matrix, Failure> {
    let traffic = traffic(side, text)?;
    let names: Vec<String> = side.policy.hosts.iter().map(|it| it.name.clone()).collect();
    let plans: Vec<HostPlan> = names.iter().map(|it| plan(side, it)).collect::<Result<_, _>>()?;
    let (known, unknown): (Vec<_>, Vec<_>) =
        plans.into_iter().partition(|it| !it.addresses.is_empty());
    let all: AddressSet =
        known.iter().flat_map(|it| &it.addresses).map(|&it| AddressSet::single(it)).collect();
    let words = in_two(&known, |it| word(it, &traffic, &all));
    let words: Vec<Word> = words.into_iter().collect::<Option<_>>().ok_or_else(|| {
        Failure::usage("a host's word has too many parts to be read", "ask about less traffic")
    })?;
    let lines = in_two(&words, |from| -> Vec<say::Reaches> {
        words.iter().map(|to| pair(from, to, &traffic)).collect()
    });
    let mut rows: Vec<Row> = Vec::new();
    let mut at: HashMap<Vec<say::Reaches>, usize> = HashMap::new();
    for (word, line) in words.iter().zip(lines) {
        match at.get(&line) {
            Some(&row) => rows[row].from.push(word.host.clone()),
            None => {
                rows.push(row(word, &words, &line));
                at.insert(line, rows.len() - 1);
            }
        }
    }
    // Whether somebody reaches himself says nothing.
    for row in &mut rows {
        if let [only] = &row.from[..] {
            for list in [&mut row.yes, &mut row.in_part, &mut row.no] {
                list.retain(|it| it != only);
            }
        }
    }
    let without_addresses = unknown.into_iter().map(|it| it.host).collect();
    Ok(Matrix { traffic: text.to_owned(), hosts: words.len(), rows, without_addresses })
}

fn row(from: &Word, words: &[Word], line: &[say::Reaches]) -> Row {
    let who = |reaches: say::Reaches| -> Vec<String> {
        let those = words.iter().zip(line).filter(|it| *it.1 == reaches);
        those.map(|it| it.0.host.clone()).collect()
    };
    let (yes, in_part, no) =
        (who(say::Reaches::Yes), who(say::Reaches::InPart), who(say::Reaches::No));
    Row { from: vec![from.host.clone()], yes, in_part, no }
}

/// Works something out for each of a list, two at a time.
fn in_two<T: Sync, R: Send>(list: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let (one, other) = list.split_at(list.len() / 2);
    let each = |part: &[T]| part.iter().map(&work).collect::<Vec<R>>();
    let (mut one, other) = Threads.both(|| each(one), || each(other));
    one.extend(other);
    one
}

fn word(plan: &HostPlan, traffic: &TrafficSet, all: &AddressSet) -> Option<Word> {
    let own = own(plan);
    let towards = Piece {
        traffic: traffic.clone(),
        source: own.clone(),
        destination: all.clone(),
        ..Piece::full()
    };
    let from = Piece { source: all.clone(), destination: own.clone(), ..towards.clone() };
    let ends = |direction, region: &Piece| -> Option<[Vec<Piece>; 2]> {
        let told = between(&[Leg { plan, direction }], region)?;
        let (yes, no): (Vec<_>, Vec<_>) = told.into_iter().partition(Fared::arrives);
        Some([yes, no].map(|it| it.into_iter().flat_map(|it| it.pieces).collect()))
    };
    let sends = ends(Direction::Outbound, &towards)?;
    let takes = ends(Direction::Inbound, &from)?;
    Some(Word { host: plan.host.clone(), own, sends, takes })
}

/// Whether one reaches the other, by what both say.
fn pair(from: &Word, to: &Word, traffic: &TrafficSet) -> say::Reaches {
    let way = Piece {
        traffic: traffic.clone(),
        source: from.own.clone(),
        destination: to.own.clone(),
        ..Piece::full()
    };
    let of = |pieces: &[Piece]| -> Vec<Piece> {
        let parts = pieces.iter().map(|it| it.intersection(&way));
        parts.filter(|it| !it.is_empty()).collect()
    };
    let (sent, taken) = (of(&from.sends[0]), of(&to.takes[0]));
    let arrives =
        sent.iter().any(|one| taken.iter().any(|other| !one.intersection(other).is_empty()));
    if !arrives {
        return say::Reaches::No;
    }
    let whole = of(&from.sends[1]).is_empty() && of(&to.takes[1]).is_empty();
    if whole { say::Reaches::Yes } else { say::Reaches::InPart }
}
