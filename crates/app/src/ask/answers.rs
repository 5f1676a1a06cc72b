//! Every answer to a question that leaves something open.

use super::question::Question;
use crate::region::Words;
use crate::vocabulary as say;
use crate::{By, Failure, Loaded};
use serde::Serialize;
use tipstaff_core::analysis::{Share, shares};
use tipstaff_core::plan::Act;
use tipstaff_core::space::{AddressSet, NameSet, Piece, RangeSet, RelationSet, SourcePorts};

/// What becomes of a part of the packets.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Answer {
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// The decision that says so.
    pub decided_by: By,
    /// Which packets, as far as the question leaves that open; any one of these.
    pub when: Vec<String>,
}

/// What a question can leave open.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub enum Open {
    /// The interface it comes in by.
    Ingress,
    /// The interface it goes out by.
    Egress,
    /// The program on this host.
    Program,
    /// The user whose socket it is.
    User,
    /// The port that it comes from.
    SourcePort,
    /// Whether it was led here, and from which port.
    Published,
    /// Whether an end is on a link of the host, whose addresses nobody has told.
    Link,
}

/// Who decides about which of the packets that a question may mean; nothing if one decides about all.
pub(super) fn answers(
    loaded: &Loaded,
    question: &Question,
    meant: &Piece,
) -> Result<(Vec<Open>, Vec<Answer>), Failure> {
    let plan = &loaded.plan;
    let too_long = || {
        let help = "name the interface, the program, the user or the port that it comes from";
        Failure::usage("the answer has too many parts to be told", help)
    };
    let list = shares(plan, question.direction, vec![meant.clone()]).ok_or_else(too_long)?;
    let outcome = |share: &Share<'_>| share.decision.outcome();
    if list.len() < 2 {
        return Ok((Vec::new(), Vec::new()));
    }
    let words = Words::of(&loaded.policy, plan, question.direction);
    let answer = |share: &Share<'_>| Answer {
        verdict: outcome(share).verdict.into(),
        limited: matches!(share.decision.act, Act::AllowWithin(_)),
        decided_by: share.decision.into(),
        when: share.pieces.iter().map(|it| words.piece(&left_open(it, meant)).narrowed()).collect(),
    };
    let narrowed = |part: &dyn Fn(&Piece) -> bool| list.iter().flat_map(|it| &it.pieces).any(part);
    let open = [
        (Open::Ingress, narrowed(&|it| it.in_interfaces != meant.in_interfaces)),
        (Open::Egress, narrowed(&|it| it.out_interfaces != meant.out_interfaces)),
        (Open::Program, narrowed(&|it| it.programs != meant.programs)),
        (Open::User, narrowed(&|it| it.users != meant.users)),
        (Open::SourcePort, narrowed(&|it| it.source_ports.ports != meant.source_ports.ports)),
        (Open::Published, narrowed(&|it| it.published != meant.published)),
        (
            Open::Link,
            narrowed(&|it| {
                (it.source_is, it.destination_is) != (meant.source_is, meant.destination_is)
            }),
        ),
    ];
    let open = open.into_iter().filter(|it| it.1).map(|it| it.0).collect();
    Ok((open, list.iter().map(answer).collect()))
}

/// A piece without what the question says itself.
fn left_open(piece: &Piece, meant: &Piece) -> Piece {
    let names = |part: &NameSet, whole: &NameSet| {
        if part == whole { NameSet::full() } else { part.clone() }
    };
    let relations = |part: RelationSet, whole: RelationSet| {
        if part == whole { RelationSet::full() } else { part }
    };
    let same_ports = piece.source_ports.ports == meant.source_ports.ports;
    let ports = if same_ports { RangeSet::full() } else { piece.source_ports.ports.clone() };
    let published = match piece.published == meant.published {
        true => RangeSet::full(),
        false => piece.published.clone(),
    };
    Piece {
        published,
        source: AddressSet::full(),
        destination: AddressSet::full(),
        in_interfaces: names(&piece.in_interfaces, &meant.in_interfaces),
        out_interfaces: names(&piece.out_interfaces, &meant.out_interfaces),
        programs: names(&piece.programs, &meant.programs),
        users: names(&piece.users, &meant.users),
        source_ports: SourcePorts { ports, portless: piece.source_ports.portless },
        source_is: relations(piece.source_is, meant.source_is),
        destination_is: relations(piece.destination_is, meant.destination_is),
        ..piece.clone()
    }
}
