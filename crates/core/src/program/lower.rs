//! A plan to a rule program.

use super::arrange::Arranger;
use super::item::{FEW, Item};
use super::lowering::{Lowering, lead};
use super::model::{Action, Admitting, BaseChain, Chain, ProgramRule, RuleProgram, Test};
use super::room::{self, Room};
use crate::hands::{Hands, OneByOne};
use crate::plan::{Condition, Decision, HostPlan, Kind};
use crate::policy::Verdict;
use crate::space::{Direction, Family, PortProtocol, RangeSet};
use std::sync::Arc;

/// Lowers a plan.
///
/// Many rules become lookups where that saves packets time; where it would take more than some times the
/// bytes of the plain form, the list is walked ([`Room`]).
#[must_use]
pub fn lower(plan: &HostPlan) -> RuleProgram {
    lower_by(plan, &OneByOne)
}

/// Likewise; of long lists both IP versions at a time, if `hands` can do that.
#[must_use]
pub fn lower_by(plan: &HostPlan, hands: &impl Hands) -> RuleProgram {
    let plain = |chain: &crate::plan::Chain| {
        let active = chain.decisions.iter().filter(|it| it.idle.is_none());
        active.flat_map(|it| &it.conditions).map(room::weight).sum::<usize>()
    };
    let all: usize = plan.chains.iter().map(plain).sum();
    lower_with(plan, |chain| Room::share(plain(chain), all), hands)
}

/// A plan to the plainest rule program: every list is walked.
#[cfg(feature = "generate")]
#[must_use]
pub fn lower_plainly(plan: &HostPlan) -> RuleProgram {
    lower_with(plan, |_| Room::default(), &OneByOne)
}

fn lower_with(
    plan: &HostPlan,
    room: impl Fn(&crate::plan::Chain) -> Room,
    hands: &impl Hands,
) -> RuleProgram {
    let mut program = RuleProgram::default();
    for chain in &plan.chains {
        let mut lowering = Lowering::new(chain.direction, room(chain));
        let rules = base(&mut lowering, &chain.decisions, hands);
        let last = chain.decisions.last().map(|decision| decision.act.verdict());
        program.chains.push(Chain {
            name: chain.direction.as_str().into(),
            direction: Some(chain.direction),
            base: Some(BaseChain { passes: last == Some(Verdict::Allow) }),
            rules,
        });
        program.chains.append(&mut lowering.chains);
    }
    program.only_reached();
    program.share_lookups();
    program.reopened = reopened(plan);
    program.record = plan.record;
    program.logging = plan.logging.of_anything();
    program.admitting = admitting(plan);
    program.taken = plan.taken.clone();
    let asked = program.asks_for_links();
    program.on_link = asked.into_iter().map(|family| plan.on_link.only(family)).collect();
    program.sort();
    program
}

/// The rules and defaults that admit, where it is to be remembered whom.
fn admitting(plan: &HostPlan) -> Vec<Admitting> {
    if !plan.record.is_some_and(|it| it.admitted) {
        return Vec::new();
    }
    let admits = |decision: &Decision| {
        decision.id.kind != Kind::Baseline
            && decision.idle.is_none()
            && decision.act.verdict() == Verdict::Allow
    };
    let one = |(direction, decision): (Direction, &Decision)| Admitting {
        direction,
        id: decision.id.clone(),
        fingerprint: decision.fingerprint(),
    };
    plan.decisions().filter(|it| admits(it.1)).map(one).collect()
}

/// The TCP ports of inbound decisions that name programs or users.
fn reopened(plan: &HostPlan) -> RangeSet<u16> {
    let decisions = &plan.chain(Direction::Inbound).decisions;
    let conditions = decisions.iter().filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
    let by_program = conditions.filter(|it| it.names_owners());
    by_program
        .fold(RangeSet::empty(), |ports, it| ports.union(&it.traffic.ports[PortProtocol::Tcp]))
}

/// With fewer rules it is not worth it to arrange both IP versions at a time.
const MANY: usize = 512;
/// A list of more rules than this was walked for want of room.
const WALKED: usize = 64;
/// The part of what stretches may grow by where all of it leaves no room for lookups.
const MODEST: usize = 4;

/// Items as the shorter list for packets to walk of two. Long stretches make few steps, and where they leave no room for
/// lookups, many.
fn shortest(lowering: &mut Lowering, family: Family, items: &[Item<'_>]) -> Vec<ProgramRule> {
    let before = lowering.mark();
    let with = |part: usize, lowering: &mut Lowering| {
        lowering.rewind(before);
        Arranger { lowering, family, part }.arrange(items)
    };
    let rules = with(1, lowering);
    if rules.len() <= WALKED {
        return rules;
    }
    let modest = with(MODEST, lowering);
    if modest.len() <= rules.len() { modest } else { with(1, lowering) }
}

/// The rules that packets enter. The baseline and the default stay as they are; many written
/// rules are arranged for each IP version, since addresses differ in size.
fn base(lowering: &mut Lowering, decisions: &[Decision], hands: &impl Hands) -> Vec<ProgramRule> {
    let active = decisions.iter().filter(|decision| decision.idle.is_none());
    let items = active.flat_map(|decision| {
        let item = move |it: &Condition| Item::new(decision, Arc::new(it.clone()));
        decision.conditions.iter().map(item)
    });
    let (written, others): (Vec<Item<'_>>, Vec<Item<'_>>) =
        items.partition(|item| item.decision.id.kind == Kind::Rule);
    let (baseline, default): (Vec<Item<'_>>, Vec<Item<'_>>) =
        others.into_iter().partition(|item| item.decision.id.kind == Kind::Baseline);
    let mut rules = lowering.one_by_one(&baseline);
    if written.len() <= FEW {
        rules.extend(lowering.one_by_one(&written));
    } else {
        let parts = Family::BOTH.map(|family| {
            let part = written.iter().filter_map(|item| item.of_family(family));
            let part: Vec<Item<'_>> = part.collect();
            let weight = part.iter().map(|it| room::weight(&it.condition)).sum::<usize>();
            (family, part, weight)
        });
        let all = parts.iter().map(|it| it.2).sum();
        let (direction, room) = (lowering.direction, lowering.room);
        let arranged = |(family, part, weight): &(Family, Vec<Item<'_>>, usize)| {
            let mut of_family = Lowering::new(direction, room.part(*weight, all));
            let arranged = shortest(&mut of_family, *family, part);
            (arranged, of_family.chains)
        };
        let [v4, v6] = &parts;
        let (v4, v6) = match written.len() < MANY {
            true => OneByOne.both(|| arranged(v4), || arranged(v6)),
            false => hands.both(|| arranged(v4), || arranged(v6)),
        };
        for ((family, part, _), (arranged, chains)) in parts.iter().zip([v4, v6]) {
            if part.is_empty() {
                continue;
            }
            let word = if *family == Family::V4 { "v4" } else { "v6" };
            let name = format!("{}/{word}", direction.as_str());
            lowering.join(chains);
            lowering.chains.push(lowering.helper(&name, arranged));
            rules.push(lead(vec![Test::Family(*family)], Action::Jump(name)));
        }
    }
    rules.extend(lowering.one_by_one(&default));
    rules
}
