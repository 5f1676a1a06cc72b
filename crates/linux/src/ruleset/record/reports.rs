//! The rules that report a decision, no more often than is wanted.
//!
//! A report carries the decision's number as the packet's mark, which the packet itself gets back at once.

use super::super::keys;
use super::super::moment::before;
use super::super::names::{LOG_GROUP, LOGGED_BYTES, TABLE};
use super::super::pace::{limit, refill_time};
use super::decisions::Refusal;
use super::duties::Keeping;
use super::form::number;
use super::layout::{DECISION, KIND, Place, Steps};
use tipstaff_core::policy::Logging;
use tipstaff_core::program::End;
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{Base, Compare, Expression, MetaKey, Set, registers, set_flags};

/// The set of those whose decisions have been reported lately: of IPv4 addresses, and of IPv6 networks of 64 bits.
fn senders(family: Family) -> &'static str {
    match family {
        Family::V4 => "reports-v4",
        Family::V6 => "reports-v6",
    }
}

/// The set with the one limiter for all reports.
const TOTAL: &str = "reports";
/// Whether a set is one of these.
pub(crate) fn is_of_reports(name: &str) -> bool {
    name == TOTAL || Family::BOTH.iter().any(|it| senders(*it) == name)
}

/// So many senders are told apart at a time; what comes of others is not reported.
const SENDERS: u32 = 16_384;

/// The number of the set of senders in the batch that makes it.
fn id_of(place: Place, family: Family) -> u32 {
    place.reports[family as usize]
}

/// How much of an address tells senders apart.
fn length(family: Family) -> u32 {
    match family {
        Family::V4 => 4,
        Family::V6 => 8,
    }
}

/// The sets of the limiters, to be made.
pub(crate) fn sets(logging: &Logging, place: Place) -> [Set; 3] {
    let set = |name: &str, id, key_length, size, timeout: Option<u64>| Set {
        table: TABLE.into(),
        name: name.into(),
        flags: set_flags::DYNAMIC | timeout.map_or(0, |_| set_flags::TIMEOUT),
        key_length,
        id,
        size: Some(size),
        timeout,
        ..Set::default()
    };
    let of = |family| {
        let full = Some(refill_time(logging.each));
        set(senders(family), id_of(place, family), length(family), SENDERS, full)
    };
    [of(Family::V4), of(Family::V6), set(TOTAL, place.reports[2], 4, 1, None)]
}

/// The word with which reports of such decisions begin.
fn word(refusal: Option<Refusal>) -> &'static str {
    match refusal {
        None => "allowed",
        Some(Refusal::Drop) => "denied",
        Some(Refusal::Reset | Refusal::Prohibit) => "rejected",
    }
}

/// The rules; none if such decisions are not reported.
pub(super) fn rules(
    keeping: Keeping<'_>,
    end: End,
    refusal: Option<Refusal>,
    decision: &[Expression],
) -> Vec<Steps> {
    let duties = keeping.duties;
    let (Some(until), Some(logging)) = (duties.report(refusal.is_none()), duties.logging) else {
        return Vec::new();
    };
    let prefix = format!("{}/{}", word(refusal), duties.list);
    let one = |family| {
        let mut steps: Steps = until.map(before).into_iter().flatten().collect();
        steps.extend([
            Expression::Meta { key: MetaKey::Family, register: KIND },
            Expression::Cmp { register: KIND, op: Compare::Equal, data: vec![number(family)] },
            counter(),
        ]);
        steps.extend(within(keeping.place, family, end, &logging));
        steps.extend(decision.iter().cloned());
        steps.extend([
            Expression::Meta { key: MetaKey::Mark, register: KIND },
            Expression::MetaSet { key: MetaKey::Mark, source: DECISION },
            Expression::Log {
                group: LOG_GROUP,
                snap_length: LOGGED_BYTES,
                threshold: 0,
                prefix: prefix.clone(),
            },
            Expression::MetaSet { key: MetaKey::Mark, source: KIND },
        ]);
        steps
    };
    Family::BOTH.map(one).to_vec()
}

/// Breaks off beyond what one sender may cause, and beyond what all may; counts what is left.
fn within(place: Place, family: Family, end: End, logging: &Logging) -> Steps {
    const FIRST: u32 = registers::FIRST;
    let (offset, _) = match end {
        End::Source => keys::source(family),
        End::Destination => keys::destination(family),
    };
    let kept = |set: &str, id, rate| Expression::Dynset {
        register: FIRST,
        set: set.into(),
        id,
        limit: limit(rate),
    };
    vec![
        Expression::Payload {
            base: Base::Network,
            offset,
            length: length(family),
            register: FIRST,
        },
        kept(senders(family), id_of(place, family), logging.each),
        Expression::Load { register: FIRST, data: vec![0; 4] },
        kept(TOTAL, place.reports[2], logging.total),
        counter(),
    ]
}

/// How many decisions were to be reported, and how many of them were, by the counters of rules that report.
pub(crate) fn counted(steps: &[Expression]) -> Option<[u64; 2]> {
    steps.iter().any(|it| matches!(it, Expression::Log { .. })).then(|| {
        let mut counts = steps.iter().filter_map(|it| match it {
            Expression::Counter { packets, .. } => Some(*packets),
            _ => None,
        });
        [(); 2].map(|()| counts.next().unwrap_or_default())
    })
}

fn counter() -> Expression {
    Expression::Counter { packets: 0, bytes: 0 }
}
