//! Whether one host of a policy reaches another, and who says so.

use super::between_hosts::{places, plan, traffic};
use super::compare::Side;
use crate::region::Words;
use crate::vocabulary as say;
use crate::{By, Failure, Outcome, RegionWords};
use serde::Serialize;
use tipstaff_core::analysis::{Fared, Leg, Way, between, own, ways};
use tipstaff_core::plan::{Act, HostPlan};
use tipstaff_core::policy::{Fleet, Route, Source};
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
    /// Whether it arrives: `yes`, `in-part` or `no`.
    pub reaches: say::Reaches,
    /// How packets go; none if none can go from the one to the other: their addresses are of different IP versions.
    pub ways: Vec<WayWords>,
    /// What becomes of which packets; the first ones of connections.
    pub fates: Vec<FateOnWay>,
}

/// A way of packets.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WayWords {
    /// The hosts that pass them on, in order.
    pub through: Vec<String>,
    /// Which packets.
    pub region: Option<RegionWords>,
    /// Where the route is written; `null`: no route of the policy says so.
    pub route: Option<String>,
    /// Why it is so.
    pub why: Option<String>,
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

impl Reached {
    /// Whether it arrives, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.reaches == say::Reaches::Yes { Outcome::Fine } else { Outcome::Found }
    }
}

/// Whether one host reaches another, by the routes of the policy or `through` those that are named; between addresses of
/// theirs `within` some places, or all.
///
/// # Errors
/// [`Failure`] if a host is not in the policy or has no addresses there, or the traffic cannot be read.
pub fn reach(
    side: &Side,
    (from, to): (&str, &str),
    text: &str,
    within: &[String],
    through: Option<&[String]>,
) -> Result<Reached, Failure> {
    let within = places(side, within)?;
    let asking = Asking { within: within.as_ref(), through };
    let told = reach_with(side, (from, to), &traffic(side, text)?, asking)?;
    Ok(Reached { traffic: text.to_owned(), ..told })
}

/// Which of its ways are meant.
#[derive(Clone, Copy)]
pub(super) struct Asking<'a> {
    /// Only between addresses in here.
    pub within: Option<&'a AddressSet>,
    /// Through these hosts, whatever the policy says.
    pub through: Option<&'a [String]>,
}

/// Likewise, with traffic that is read.
pub(super) fn reach_with(
    side: &Side,
    (from, to): (&str, &str),
    traffic: &TrafficSet,
    asking: Asking<'_>,
) -> Result<Reached, Failure> {
    let (sender, receiver) = (plan(side, from)?, plan(side, to)?);
    for end in [&sender, &receiver] {
        if end.addresses.is_empty() {
            let message = format!("the addresses of {} are not listed in the policy", end.host);
            return Err(Failure::usage(message, "without them it is not known where packets go"));
        }
    }
    let inside = |it: &HostPlan| match asking.within {
        Some(within) => own(it).intersection(within),
        None => own(it),
    };
    let ends = [inside(&sender), inside(&receiver)];
    let named =
        asking.through.map(|it| Fleet { routes: vec![by_hand(&ends, it)], ..Fleet::default() });
    let fleet = named.as_ref().unwrap_or(&side.policy.fleet);
    let found = ways(fleet, (&sender.host, &ends[0]), (&receiver.host, &ends[1]));
    let words = Words::of_all(&side.policy, &sender, &receiver, Direction::Inbound);
    let mut told: Vec<FateOnWay> = Vec::new();
    let (mut arrives, mut fails) = (false, false);
    for way in &found {
        let between_them: Vec<HostPlan> =
            way.through.iter().map(|it| plan(side, it)).collect::<Result<_, _>>()?;
        let mut legs = vec![Leg { plan: &sender, direction: Direction::Outbound }];
        legs.extend(
            between_them.iter().map(|it| Leg { plan: it, direction: Direction::Forwarded }),
        );
        legs.push(Leg { plan: &receiver, direction: Direction::Inbound });
        let region = Piece { traffic: traffic.clone(), ..way.ends.clone() };
        let fates = between(&legs, &region).ok_or_else(|| {
            Failure::usage("the answer has too many parts to be read", "ask about less traffic")
        })?;
        for fared in &fates {
            arrives |= fared.arrives();
            fails |= !fared.arrives();
            told.push(fate(fared, &legs, &words, &ends));
        }
    }
    told.sort_by_key(|it| it.verdict != say::Verdict::Allow);
    let reaches = match (arrives, fails) {
        (false, _) => say::Reaches::No,
        (true, false) => say::Reaches::Yes,
        (true, true) => say::Reaches::InPart,
    };
    let ways = found.iter().map(|it| way_words(it, &words, &ends)).collect();
    let (from, to) = (sender.host.clone(), receiver.host.clone());
    Ok(Reached { from, to, traffic: String::new(), reaches, ways, fates: told })
}

/// A route that somebody names by hand: of all packets between both.
fn by_hand(ends: &[AddressSet; 2], through: &[String]) -> Route {
    let origin = Source::new("--through", "").origin(0..0);
    let between = ends.clone();
    Route { between, between_terms: Vec::new(), through: through.to_vec(), why: None, origin }
}

fn way_words(way: &Way<'_>, words: &Words<'_>, ends: &[AddressSet; 2]) -> WayWords {
    let whole = without_saying(&way.ends, ends);
    let region = words.pieces(&[whole]).into_iter().next();
    WayWords {
        through: way.through.iter().map(|&it| it.to_owned()).collect(),
        region,
        route: way.route.filter(|it| !it.between_terms.is_empty()).map(|it| it.origin.to_string()),
        why: way.route.and_then(|it| it.why.clone()),
    }
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
